// Cells of a table chosen together, by dragging over them or with Shift and the arrow keys, and copied so that they can
// be pasted into a spreadsheet: numbers as they are, not as they are shown.
import { offer } from "./context.js";
import { all, made, near } from "./dom.js";
import { toast } from "./page.js";

/**
 * @typedef {{ row: number, left: number, right: number }} Spot
 * Where a cell stands: in which row, and from which column to before which.
 * @typedef {{ table: HTMLTableElement, from: Spot, to: Spot }} Range
 * The cells between two, which are its corners.
 * @typedef {{ cell: HTMLTableCellElement, left: number, right: number }} Placed
 * A cell with the first column that it stands in, and the one behind it.
 */

const TABLES = "table[data-widths]";
const CELLS = `${TABLES} :is(tbody, tfoot) :is(td, th)`;
const LINES = "tbody tr:not([hidden]), tfoot tr";
const STEPS = { ArrowDown: [1, 0], ArrowUp: [-1, 0], ArrowRight: [0, 1], ArrowLeft: [0, -1] };

/** @type {Range | null} */
let chosen = null;

/** @param {HTMLTableElement} table */
const linesOf = (table) => /** @type {HTMLTableRowElement[]} */ (all(table, LINES));

/**
 * The cells of a line.
 * @param {HTMLTableRowElement} line
 * @returns {Placed[]}
 */
function placed(line) {
  let right = 0;
  return [...line.cells].map((cell) => {
    const left = right;
    right += cell.colSpan;
    return { cell, left, right };
  });
}

/**
 * @param {HTMLTableElement} table
 * @param {Element} cell
 * @returns {Spot}
 */
function spotOf(table, cell) {
  const line = /** @type {HTMLTableRowElement} */ (cell.closest("tr"));
  const found = placed(line).find((each) => each.cell === cell);
  return { row: linesOf(table).indexOf(line), left: found?.left ?? 0, right: found?.right ?? 1 };
}

/**
 * The lines of a range, each with those of its cells that are within.
 * @param {Range} range
 */
function within({ table, from, to }) {
  const [top, bottom] = [Math.min(from.row, to.row), Math.max(from.row, to.row)];
  const [left, right] = [Math.min(from.left, to.left), Math.max(from.right, to.right)];
  const cut = (/** @type {Placed} */ each) => ({
    ...each,
    left: Math.max(each.left, left),
    right: Math.min(each.right, right),
  });
  return linesOf(table)
    .slice(top, bottom + 1)
    .map((line) =>
      placed(line)
        .map(cut)
        .filter((each) => each.left < each.right),
    );
}

function clear() {
  for (const cell of all(document, ".in-range")) cell.classList.remove("in-range");
  chosen = null;
}

/** @param {Range} range */
function choose(range) {
  clear();
  chosen = range;
  for (const { cell } of within(range).flat()) cell.classList.add("in-range");
}

/**
 * A cell's text as a spreadsheet reads it; numbers as they are written where the reader is.
 * @param {HTMLTableCellElement} cell
 */
function textOf(cell) {
  const { value } = cell.dataset;
  if (value !== undefined)
    return Number(value).toLocaleString(undefined, { useGrouping: false, maximumSignificantDigits: 15 });
  const copied = /** @type {HTMLElement} */ (cell.cloneNode(true));
  for (const aside of all(copied, "[data-aside]")) aside.remove(); // what is said of it is no part of it
  const text = (copied.textContent ?? "").replace(/\s+/g, " ").trim();
  return text === "–" ? "" : text;
}

/** @param {Placed[][]} lines */
function asText(lines) {
  const line = (/** @type {Placed[]} */ cells) =>
    cells.map(({ cell, left, right }) => textOf(cell) + "\t".repeat(right - left - 1)).join("\t");
  return lines.map(line).join("\n");
}

/** @param {Placed[][]} lines */
function asTable(lines) {
  const table = made("table");
  for (const cells of lines) {
    const row = table.insertRow();
    for (const { cell, left, right } of cells) {
      const copied = row.insertCell();
      copied.textContent = textOf(cell);
      copied.colSpan = right - left;
    }
  }
  return table.outerHTML;
}

/** @param {HTMLTableElement} table */
function wholeOf(table) {
  const lines = [...(table.tHead?.rows ?? []), ...linesOf(table)].filter((line) => !line.matches("[data-empty-page]"));
  return lines.map(placed);
}

/**
 * Copies cells, also where the browser gives pages no clipboard of their own.
 * @param {Placed[][]} lines
 */
function copy(lines) {
  const put = (/** @type {ClipboardEvent} */ event) => {
    event.preventDefault();
    event.stopImmediatePropagation();
    event.clipboardData?.setData("text/plain", asText(lines));
    event.clipboardData?.setData("text/html", asTable(lines));
    const count = lines.flat().length;
    toast(count === 1 ? "1 cell copied." : `${count.toLocaleString("en")} cells copied.`);
  };
  document.addEventListener("copy", put, { once: true, capture: true });
  document.execCommand("copy");
  document.removeEventListener("copy", put, { capture: true });
}

/**
 * A cell as what is copied.
 * @param {Element | null} cell
 */
function alone(cell) {
  const line = cell?.closest("tr");
  return line ? [placed(line).filter((each) => each.cell === cell)] : [];
}

/**
 * Chooses cells while the pointer is dragged over them.
 * @param {PointerEvent} event
 */
function drag(event) {
  const first = near(event, CELLS);
  const table = /** @type {HTMLTableElement | null} */ (first?.closest("table") ?? null);
  if (!first || !table) return;
  const from = spotOf(table, first);
  const move = (/** @type {PointerEvent} */ moved) => {
    const cell = near(moved, CELLS);
    if (!cell || cell.closest("table") !== table || (cell === first && chosen?.table !== table)) return;
    getSelection()?.removeAllRanges();
    table.classList.add("choosing");
    choose({ table, from, to: spotOf(table, cell) });
  };
  const end = () => {
    document.removeEventListener("pointermove", move);
    if (!table.classList.contains("choosing")) return;
    table.classList.remove("choosing");
    // What ends dragging is no click on a cell.
    const stop = (/** @type {Event} */ click) => click.stopPropagation();
    document.addEventListener("click", stop, { once: true, capture: true });
    setTimeout(() => document.removeEventListener("click", stop, { capture: true }));
  };
  document.addEventListener("pointermove", move);
  document.addEventListener("pointerup", end, { once: true });
  document.addEventListener("pointercancel", end, { once: true });
}

/**
 * Chooses one line or column more, or one less.
 * @param {KeyboardEvent} event
 */
function extend(event) {
  const step = STEPS[/** @type {keyof typeof STEPS} */ (event.key)];
  const cell = near(event, CELLS);
  const table = /** @type {HTMLTableElement | null} */ (cell?.closest("table") ?? null);
  if (!step || !cell || !table) return;
  event.preventDefault();
  event.stopPropagation();
  const range = chosen?.table === table ? chosen : { table, from: spotOf(table, cell), to: spotOf(table, cell) };
  const [down, right] = step;
  const line = linesOf(table)[range.to.row + down];
  const aim = right > 0 ? range.to.right : right < 0 ? range.to.left - 1 : range.to.left;
  const next = line && placed(line).find((each) => each.left <= aim && aim < each.right);
  if (!next) return;
  choose({ ...range, to: { row: range.to.row + down, left: next.left, right: next.right } });
  next.cell.scrollIntoView({ block: "nearest", inline: "nearest" });
}

/** Makes the cells of tables with data-widths be chosen and copied. */
export function watchCells() {
  document.addEventListener("pointerdown", (event) => {
    if (event.button !== 0) return;
    clear();
    if (event.pointerType !== "touch" && !event.shiftKey) drag(event);
  });
  document.addEventListener(
    "keydown",
    (event) => {
      const asksToCopy = (event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "c";
      const cell = /** @type {HTMLTableCellElement | null} */ (near(event, CELLS));
      if (event.shiftKey && cell) extend(event);
      else if (asksToCopy && getSelection()?.isCollapsed !== false && (chosen || cell)) {
        event.preventDefault();
        copy(chosen ? within(chosen) : alone(cell));
      } else if (chosen && !["Shift", "Control", "Meta"].includes(event.key)) clear();
    },
    true,
  );
  offer((event) => {
    const table = /** @type {HTMLTableElement | null} */ (near(event, TABLES));
    if (!table) return null;
    const lines = chosen ? within(chosen) : [];
    const some =
      lines.length && near(event, ".in-range") ? [{ label: "Copy these cells", run: () => copy(lines) }] : [];
    return [...some, { label: "Copy the whole table", run: () => copy(wholeOf(table)) }];
  });
}
