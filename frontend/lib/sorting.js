// Sorting a table by its headings: a click by one column, with Shift by further ones where those before it tie.
import { near } from "./dom.js";

const nameOf = (/** @type {string} */ column) => column.replace(/^-/, "");

/**
 * The columns by which a click asks to sort, as the server reads them; undefined for a click elsewhere.
 * @param {MouseEvent} event
 */
export function columnsAsked(event) {
  const button = near(event, "[data-sort-column]");
  const column = button?.dataset.sortColumn;
  const now = /** @type {HTMLElement | null} */ (button?.closest("table") ?? null)?.dataset.sorted ?? "";
  const isPlain = !event.shiftKey || !now || `${now}${column}`.includes("@");
  if (!column || isPlain) return column;
  const columns = now.split(",");
  const place = columns.findIndex((each) => nameOf(each) === nameOf(column));
  columns.splice(place < 0 ? columns.length : place, 1, column);
  return columns.join(",");
}
