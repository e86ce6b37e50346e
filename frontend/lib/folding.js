// Groups of a table that are folded into the row of their subtotal. What is folded stays so while its table is drawn
// anew.
import { all, near } from "./dom.js";

/** @type {WeakMap<Element, Set<string>>} What is folded in the places of tables, by the groups' values. */
const folded = new WeakMap();

/** @type {WeakMap<Element, string>} What is not folded at first, though the others are. */
const opened = new WeakMap();

const placeOf = (/** @type {Element} */ table) => table.closest(".picture, [data-block]") ?? document.body;
const depthOf = (/** @type {HTMLElement} */ row) => Number(row.dataset.depth ?? Infinity);
const buttonsOf = (/** @type {HTMLElement} */ table) => all(table, "[data-fold]");
const keyOf = (/** @type {HTMLElement} */ button) => button.dataset.fold ?? "";

/**
 * The rows of a group, which stand above the row of its subtotal or below it; a subtotal of several measures has several.
 * @param {HTMLElement} row
 * @param {boolean} below
 */
function rowsOf(row, below) {
  const rows = [];
  const next = (/** @type {Element} */ each) => (below ? each.nextElementSibling : each.previousElementSibling);
  for (let each = next(row); each; each = next(each)) {
    const line = /** @type {HTMLElement} */ (each);
    if (depthOf(line) > depthOf(row)) rows.push(line);
    else if (rows.length || line.querySelector("[data-fold]")) break;
  }
  return rows;
}

/** @param {HTMLElement} table */
function show(table) {
  const now = folded.get(placeOf(table)) ?? new Set();
  const below = "foldsBelow" in table.dataset;
  for (const row of all(table, "tbody tr")) row.hidden = false;
  for (const button of buttonsOf(table)) {
    const isFolded = now.has(keyOf(button));
    button.setAttribute("aria-expanded", String(!isFolded));
    const row = /** @type {HTMLElement} */ (button.closest("tr"));
    if (isFolded) for (const each of rowsOf(row, below)) each.hidden = true;
  }
}

/**
 * Folds the tables of a place as they were, or as they are to be at first.
 * @param {HTMLElement} place
 */
export function refold(place) {
  for (const table of all(place, "table:has([data-fold])")) {
    const at = placeOf(table);
    if (!folded.has(at)) {
      const first = "folded" in table.dataset ? buttonsOf(table).map(keyOf) : [];
      folded.set(at, new Set(first.filter((key) => key !== opened.get(at))));
    }
    show(table);
  }
}

/**
 * Folds the table of a place that is drawn next but for one of its groups, by the group's values.
 * @param {HTMLElement} place
 * @param {string} key
 */
export function openOnly(place, key) {
  folded.delete(place);
  opened.set(place, key);
}

/** A click folds a group or opens it; with Shift all of its depth. */
export function watchFolding() {
  document.addEventListener("click", (event) => {
    const button = near(event, "[data-fold]");
    const table = /** @type {HTMLElement | undefined} */ (button?.closest("table"));
    if (!button || !table) return;
    const now = folded.get(placeOf(table)) ?? new Set();
    const depth = button.closest("tr")?.dataset.depth;
    const meant = event.shiftKey ? all(table, `tr[data-depth="${depth}"] [data-fold]`) : [button];
    const opens = now.has(keyOf(button));
    for (const each of meant) {
      if (opens) now.delete(keyOf(each));
      else now.add(keyOf(each));
    }
    folded.set(placeOf(table), now);
    show(table);
  });
}
