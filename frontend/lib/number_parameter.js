// How many are kept, given into the hands of readers: a parameter that is made where the number is set.
import { post } from "./http.js";

/**
 * Makes the parameter and has the form name it.
 * @param {HTMLElement} button
 * @returns {Promise<{ id: string, revision: number, form: HTMLFormElement }>} The parameter, and the model's revision.
 */
export async function numberAsParameter(button) {
  const form = /** @type {HTMLFormElement} */ (button.closest("form"));
  const count = /** @type {HTMLInputElement} */ (form.querySelector('[name$=".count"]'));
  const parameter = /** @type {HTMLSelectElement} */ (form.querySelector('[name$=".parameter"]'));
  const { numberParameter: address = "", of } = button.dataset;
  const made = await post(address, { of, count: Number(count.value) });
  parameter.add(new Option(`:${made.id}`, made.id, false, true));
  return { ...made, form };
}
