// What the browser's own types leave open: elements by selector, and what an event happened at.

/**
 * @param {ParentNode} root
 * @param {string} selector
 */
export const all = (root, selector) => /** @type {HTMLElement[]} */ ([...root.querySelectorAll(selector)]);

/**
 * The element with an id that the page is known to have.
 * @param {string} id
 */
export function byId(id) {
  const found = document.getElementById(id);
  if (!found) throw new Error(`The page has no #${id}.`);
  return found;
}

/**
 * What the server sends with the page for its scripts.
 * @param {string} id
 */
export const sent = (id) => JSON.parse(byId(id).textContent ?? "null");

/**
 * The element an event happened at or in.
 * @param {Event} event
 * @param {string} selector
 */
export const near = (event, selector) =>
  event.target instanceof Element ? /** @type {HTMLElement | null} */ (event.target.closest(selector)) : null;

/**
 * The field of a form, or the button, that an event happened at.
 * @param {Event} event
 * @param {string} selector
 */
export const fieldAt = (event, selector) => /** @type {HTMLInputElement | null} */ (near(event, selector));

/**
 * A new element with properties, as `Object.assign` sets them.
 * @template {keyof HTMLElementTagNameMap} T
 * @param {T} tag
 * @param {Partial<HTMLElementTagNameMap[T]>} properties
 * @returns {HTMLElementTagNameMap[T]}
 */
export const made = (tag, properties = {}) => Object.assign(document.createElement(tag), properties);

const STOPS = "a[href], button, input:not([type=hidden]), select, textarea, summary, [tabindex]";

/**
 * What can take the keyboard within an element, in order.
 * @param {ParentNode} root
 */
export const reachableIn = (root) => all(root, STOPS).filter((stop) => stop.offsetParent && !stop.matches(":disabled"));

/**
 * Where Tab stops within an element, in order.
 * @param {ParentNode} root
 */
export const stopsIn = (root) => reachableIn(root).filter((stop) => stop.getAttribute("tabindex") !== "-1");
