// Forms read as data, filled, and made sense of.
import { toast } from "./page.js";

/** @param {HTMLInputElement} field */
function read(field) {
  const value = field.value;
  switch (field.dataset.as) {
    case "json":
      return JSON.parse(value);
    case "int":
      return value === "" ? null : Number.parseInt(value, 10);
    case "number":
      return value === "" ? null : Number(value);
    case "date":
      return value === "" ? null : value;
    case "day":
      return value === "" ? null : field.dataset.day;
    case "words":
      return value === "" ? null : value;
    case "bool":
      return value === "true";
    default:
      return value;
  }
}

/**
 * A form's values as nested data: names with dots become objects; boxes marked data-list are collected in a list.
 * @param {HTMLFormElement} form
 * @returns {Record<string, any>}
 */
export function formData(form) {
  /** @type {Record<string, any>} */
  const data = {};
  for (const field of /** @type {HTMLInputElement[]} */ ([...form.elements])) {
    if (!field.name || field.disabled) continue;
    const path = field.name.split(".");
    const last = /** @type {string} */ (path.pop());
    const place = path.reduce((object, key) => (object[key] ??= {}), data);
    if (field.type === "checkbox" && "list" in field.dataset) {
      place[last] ??= [];
      if (field.checked) place[last].push(read(field));
    } else if ("list" in field.dataset) {
      place[last] ??= [];
      if (field.type !== "radio" || field.checked) place[last].push(read(field));
    } else if (field.type === "checkbox") place[last] = field.checked;
    else if (field.type === "radio") {
      if (field.checked) place[last] = read(field);
    } else place[last] = read(field);
  }
  return data;
}

/**
 * Fills a form from the values on a button (a choice such as "Last 12 months"); returns the form.
 * @param {HTMLElement} button
 * @param {string} prefix
 */
export function filledForm(button, prefix) {
  const form = /** @type {HTMLFormElement} */ (button.closest("form"));
  const values = { back: 0, anchor: "latest", to_date: false, ...JSON.parse(button.dataset.fill ?? "{}") };
  for (const [name, value] of Object.entries(values)) {
    const field = /** @type {HTMLInputElement} */ (form.elements.namedItem(`${prefix}.${name}`));
    if (field.type === "checkbox") field.checked = value;
    else field.value = value;
  }
  return form;
}

/** @param {any} choice Of dates, either of which may be open. */
function isInOrder({ start, end, start_time: startTime, end_time: endTime }) {
  return !start || !end || `${start}T${startTime || "00:00"}` <= `${end}T${endTime || "23:59:59"}`;
}

/**
 * What a control's form is set to; undefined if it does not make sense (which is said), null if it shows all.
 * @param {HTMLFormElement} form
 */
export function chosen(form) {
  if (!form.reportValidity()) return undefined;
  const { choice, none } = formData(form);
  if (none) return null;
  if (choice.set) {
    const set = choice.set.filter((/** @type {any} */ value) => value !== null && value !== "");
    return set.length ? { set } : null;
  }
  if ("oneDay" in form.dataset) {
    if (!choice.start) return null;
    choice.end = choice.start;
  }
  if (choice.kind === "dates" && !isInOrder(choice)) {
    toast(`The first ${choice.start > choice.end ? "day" : "moment"} is after the last. Nothing was changed.`);
    return undefined;
  }
  return choice.values && !choice.values.length ? null : choice;
}

/**
 * Days and times are typed part by part: drawing their form anew would take the keyboard back to the first one.
 * @param {HTMLInputElement} input
 */
export const isTyped = (input) => input.matches("[data-understood], [type=time]");
