// Two handles over a small distribution: what they are moved to stands in the boxes of their form.
import { near } from "./dom.js";

/**
 * @param {Event} event Of a handle that is moved, or any other.
 */
export function handleMoved(event) {
  const handle = /** @type {HTMLInputElement} */ (near(event, "[data-handle]"));
  if (!handle) return;
  const form = /** @type {HTMLFormElement} */ (handle.closest("form"));
  const of = (/** @type {string} */ end) =>
    /** @type {HTMLInputElement} */ (form.querySelector(`[data-handle="${end}"]`));
  const [low, high] = [of("low"), of("high")];
  // One does not pass the other.
  if (Number(low.value) > Number(high.value)) handle.value = (handle === low ? high : low).value;
  const box = (/** @type {string} */ end) => /** @type {HTMLInputElement} */ (form.elements.namedItem(`choice.${end}`));
  box("low").value = low.value === low.min ? "" : low.value;
  box("high").value = high.value === high.max ? "" : high.value;
}
