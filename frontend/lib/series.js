// Series of a drawing: pointing at one quiets the others, and its entry in the legend stands for all its marks.
import { all } from "./dom.js";

/**
 * @typedef {{ element: HTMLElement, name: string }} Entry
 * An entry of a legend: its label, and what it names.
 */

/**
 * What the drawing library knows of an element it made.
 * @param {any} element
 */
const datumOf = (element) => element?.__data__?.datum;

/**
 * What a mark is called in the legend.
 * @param {Element} element
 * @returns {string | undefined}
 */
const nameOf = (element) => datumOf(element)?.paint || undefined;

/**
 * The entries of the legends of a drawing.
 * @param {HTMLElement} host
 * @returns {Entry[]}
 */
export function entriesOf(host) {
  return all(host, ".role-legend-label text")
    .map((element) => ({ element, name: datumOf(element)?.value }))
    .filter(({ name }) => typeof name === "string");
}

/**
 * The entry at whose label or sign something happened. They do not take the pointer themselves.
 * @param {HTMLElement} host
 * @param {MouseEvent} event
 * @returns {string | undefined}
 */
export function entryAt(host, event) {
  for (const part of all(host, ".role-legend-label text, .role-legend-symbol path")) {
    const box = part.getBoundingClientRect();
    const within =
      event.clientX >= box.left - 3 &&
      event.clientX <= box.right + 3 &&
      event.clientY >= box.top - 2 &&
      event.clientY <= box.bottom + 2;
    if (within && typeof datumOf(part)?.value === "string") return datumOf(part).value;
  }
  return undefined;
}

/**
 * The points of all marks of a series.
 * @param {any[]} rows
 * @param {string} name
 * @returns {any[][]}
 */
export function pointsOf(rows, name) {
  const points = new Map();
  for (const row of rows) {
    if (row.paint === name && row.point) points.set(JSON.stringify(row.point), row.point);
  }
  return [...points.values()];
}

/**
 * Quiets the other series while the pointer is on one, or on its entry in the legend.
 * @param {HTMLElement} host
 */
export function watchSeries(host) {
  let shown = "";
  /** @param {string} name */
  function show(name) {
    if (name === shown) return;
    shown = name;
    const svg = host.querySelector("svg");
    if (!svg) return;
    for (const element of /** @type {Iterable<Element>} */ (svg.querySelectorAll("path, text, line"))) {
      const own = nameOf(element);
      if (own) element.classList.toggle("quieted", Boolean(name) && own !== name);
    }
    for (const { element, name: named } of entriesOf(host)) {
      element.classList.toggle("quieted", Boolean(name) && named !== name);
    }
  }
  host.addEventListener("pointermove", (event) => {
    if (event.buttons || event.pointerType === "touch") return;
    const target = /** @type {Element} */ (event.target);
    const name = nameOf(target) ?? entryAt(host, event) ?? "";
    const isSeries = entriesOf(host).some((entry) => entry.name === name);
    show(isSeries ? name : "");
    host.style.cursor = isSeries && !nameOf(target) ? "pointer" : "";
  });
  host.addEventListener("pointerleave", () => show(""));
}
