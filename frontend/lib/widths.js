// Columns as wide as somebody likes them: dragged at the right edge of a heading, fitted by a double click there, or set
// from the heading's menu. The browser keeps them, by page, table and heading.
import { offer } from "./context.js";
import { all, made, near } from "./dom.js";

const EDGE = 7;
const LEAST = 40;
const STEP = 40;

/**
 * @typedef {{ table: HTMLTableElement, heading: HTMLTableCellElement, index: number }} Column
 */

/**
 * The headings of a table that stand for one column each, in the order of the columns.
 * @param {HTMLTableElement} table
 * @returns {HTMLTableCellElement[]}
 */
function headingsOf(table) {
  const rows = [...(table.tHead?.rows ?? [])];
  /** @type {HTMLTableCellElement[][]} */
  const grid = rows.map(() => []);
  for (const [top, row] of rows.entries()) {
    let left = 0;
    for (const cell of row.cells) {
      while (grid[top][left]) left += 1;
      for (const below of grid.slice(top, top + cell.rowSpan)) {
        for (let column = left; column < left + cell.colSpan; column += 1) below[column] = cell;
      }
    }
  }
  return grid.at(-1) ?? [];
}

/** @param {HTMLTableElement} table */
const nameOf = (table) =>
  `veduta-widths ${location.pathname} ${/** @type {HTMLElement | null} */ (table.closest("[id]"))?.id ?? ""}`;

/** @param {HTMLTableCellElement} heading */
const titleOf = (heading) => heading.textContent?.replace(/[↑↓]/g, "").trim() ?? "";

/**
 * @param {HTMLTableElement} table
 * @returns {Record<string, number>}
 */
function keptWidths(table) {
  try {
    return JSON.parse(localStorage.getItem(nameOf(table)) ?? "{}");
  } catch {
    return {};
  }
}

/**
 * @param {HTMLTableElement} table
 * @param {Record<string, number>} widths
 */
function keep(table, widths) {
  try {
    if (Object.keys(widths).length) localStorage.setItem(nameOf(table), JSON.stringify(widths));
    else localStorage.removeItem(nameOf(table));
  } catch {
    // Without storage the widths last as long as the page.
  }
}

/**
 * The widths of a table's columns as they are drawn, from now on fixed.
 * @param {HTMLTableElement} table
 */
function fixedColumns(table) {
  let group = table.querySelector("colgroup");
  if (!group) {
    group = made("colgroup");
    for (const heading of headingsOf(table)) group.append(widthOf(heading.offsetWidth));
    table.prepend(group);
    table.classList.add("sized");
  }
  return /** @type {HTMLElement[]} */ ([...group.children]);
}

/** @param {number} width */
function widthOf(width) {
  const column = made("col");
  column.style.width = `${width}px`;
  return column;
}

/** @param {HTMLTableElement} table */
function unfix(table) {
  table.querySelector("colgroup")?.remove();
  table.classList.remove("sized");
  table.style.width = "";
}

/**
 * @param {Column} column
 * @param {number} width
 */
function show({ table, index }, width) {
  const columns = fixedColumns(table);
  columns[index].style.width = `${Math.max(LEAST, Math.round(width))}px`;
  table.style.width = `${columns.reduce((sum, each) => sum + parseFloat(each.style.width), 0)}px`;
}

/**
 * @param {Column} column
 * @param {number} width
 */
export function setWidth(column, width) {
  show(column, width);
  const kept = keptWidths(column.table);
  kept[titleOf(column.heading)] = Math.max(LEAST, Math.round(width));
  keep(column.table, kept);
}

/** @param {Column} column */
function fit(column) {
  const { table, heading } = column;
  const others = fixedColumns(table).map((each) => each.style.width);
  unfix(table);
  table.style.width = "max-content";
  const natural = heading.offsetWidth + 1;
  fixedColumns(table).forEach((each, i) => (each.style.width = others[i]));
  setWidth(column, natural);
}

/** @param {HTMLTableElement} table */
function asUsual(table) {
  unfix(table);
  keep(table, {});
}

/** Gives tables that have come to the page the widths that were kept for them. */
function restore() {
  const tables = /** @type {HTMLTableElement[]} */ (all(document, "table[data-widths]:not(.sized)"));
  for (const table of tables) {
    const kept = keptWidths(table);
    // Whether it is seen is asked of few only: the browser lays the page out to answer.
    if (!Object.keys(kept).length || !table.offsetParent) continue;
    headingsOf(table).forEach((heading, index) => {
      const width = kept[titleOf(heading)];
      if (width) show({ table, heading, index }, width);
    });
  }
}

/**
 * The column whose heading an event happened at; `atEdge` only where it can be dragged.
 * @param {MouseEvent} event
 * @param {boolean} atEdge
 * @returns {Column | null}
 */
function columnAt(event, atEdge) {
  const heading = /** @type {HTMLTableCellElement | null} */ (near(event, "table[data-widths] thead th"));
  const table = heading?.closest("table");
  const index = heading && table ? headingsOf(table).indexOf(heading) : -1;
  if (!heading || !table || index < 0) return null;
  return !atEdge || heading.getBoundingClientRect().right - event.clientX <= EDGE ? { table, heading, index } : null;
}

/**
 * @param {Column} column
 * @param {number} from where the pointer was pressed
 */
function drag(column, from) {
  const before = column.heading.offsetWidth;
  const widthAt = (/** @type {PointerEvent} */ event) => before + event.clientX - from;
  const move = (/** @type {PointerEvent} */ event) => show(column, widthAt(event));
  const end = (/** @type {PointerEvent} */ event) => {
    document.removeEventListener("pointermove", move);
    if (event.type === "pointerup" && event.clientX !== from) setWidth(column, widthAt(event));
  };
  document.addEventListener("pointermove", move);
  document.addEventListener("pointerup", end, { once: true });
  document.addEventListener("pointercancel", end, { once: true });
}

/**
 * Lets a cell that is cut say all of its text to who points at it.
 * @param {PointerEvent} event
 */
function sayWhole(event) {
  const cell = near(event, "table[data-widths] :is(td, th)");
  if (!cell || cell.title) return;
  const isCut = [cell, ...all(cell, ".in-line, .sort-button")].some((each) => each.scrollWidth > each.clientWidth + 1);
  if (isCut) cell.title = cell.textContent?.replace(/\s+/g, " ").trim() ?? "";
}

/** Makes the columns of tables with data-widths change their widths. */
export function watchWidths() {
  document.addEventListener("pointermove", (event) => {
    const heading = near(event, "table[data-widths] thead th");
    heading?.classList.toggle("at-edge", Boolean(columnAt(event, true)));
  });
  document.addEventListener("pointerover", sayWhole);
  document.addEventListener("pointerdown", (event) => {
    const column = event.button === 0 ? columnAt(event, true) : null;
    if (!column) return;
    event.preventDefault();
    drag(column, event.clientX);
  });
  document.addEventListener("dblclick", (event) => {
    const column = columnAt(event, true);
    if (column) fit(column);
  });
  offer((event) => {
    const column = columnAt(/** @type {MouseEvent} */ (event), false);
    if (!column) return null;
    const width = column.heading.offsetWidth;
    return [
      { label: "Wider", run: () => setWidth(column, width + STEP) },
      { label: "Narrower", run: () => setWidth(column, width - STEP) },
      { label: "As wide as its content", run: () => fit(column) },
      { label: "All columns as usual", run: () => asUsual(column.table) },
    ];
  });
  restore();
  new MutationObserver(restore).observe(document.body, { childList: true, subtree: true, attributeFilter: ["style"] });
}
