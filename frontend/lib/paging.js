// Long tables: all pages of their rows have their place from the first, and those in view and near it are there.
import { made } from "./dom.js";
import { failed } from "./page.js";
import { giveTones } from "./tones.js";

const NEAR = "2000px";
const WAIT = 120; // milliseconds that a page has to stay in view before it is asked for

/** @typedef {(start: number) => Promise<string>} Ask For the HTML of the table from a row on. */

/** @type {WeakMap<Element, Ask>} How the rows of the tables in a place are asked for. */
const ways = new WeakMap();
/** @type {WeakMap<Element, IntersectionObserver>} */
const watching = new WeakMap();

/**
 * Says how more rows of the tables that are drawn in a place are asked for.
 * @param {HTMLElement} place
 * @param {Ask} ask
 */
export function askRowsWith(place, ask) {
  ways.set(place, ask);
}

/**
 * Lays out the pages of a long table in a place, if there is one.
 * @param {HTMLElement} place
 */
export function layPages(place) {
  watching.get(place)?.disconnect();
  const table = /** @type {HTMLTableElement | null} */ (place.querySelector("table[data-rows-there]"));
  const ask = ways.get(place);
  const [first] = table?.tBodies ?? [];
  if (!table || !ask || !first.rows.length) return;
  const size = first.rows.length;
  const rowHeight = first.offsetHeight / size;
  const there = Number(table.dataset.rowsThere);
  keepWidths(table);
  first.dataset.start = "0";
  for (let start = size; start < there; start += size) {
    const page = made("tbody");
    page.dataset.start = String(start);
    page.style.counterReset = `row ${start}`;
    emptied(page, rowHeight * Math.min(size, there - start));
    table.insertBefore(page, table.tFoot);
  }
  const root = scrolls(place);
  const observer = new IntersectionObserver(
    (entries) => {
      for (const { target, isIntersecting } of entries) {
        const page = /** @type {HTMLTableSectionElement} */ (target);
        page.dataset.near = String(isIntersecting);
        if (isIntersecting) setTimeout(() => fill(page, ask), WAIT);
        else if (isFilled(page) && !page.contains(document.activeElement)) emptied(page, page.offsetHeight);
      }
    },
    { root, rootMargin: NEAR },
  );
  watching.set(place, observer);
  for (const page of table.tBodies) observer.observe(page);
}

const isFilled = (/** @type {HTMLElement} */ page) => !page.querySelector("[data-empty-page]");

/**
 * A page without its rows, as high as with them.
 * @param {HTMLTableSectionElement} page
 * @param {number} height
 */
function emptied(page, height) {
  const cell = made("td", { colSpan: 100 });
  cell.style.height = `${height}px`;
  const row = made("tr");
  row.dataset.emptyPage = "";
  row.setAttribute("aria-hidden", "true");
  row.append(cell);
  page.replaceChildren(row);
}

/**
 * Asks for the rows of a page that is still in view.
 * @param {HTMLTableSectionElement} page
 * @param {Ask} ask
 */
async function fill(page, ask) {
  if (!page.isConnected || page.dataset.near !== "true" || isFilled(page) || page.dataset.asked) return;
  page.dataset.asked = "yes";
  try {
    const html = await ask(Number(page.dataset.start));
    const sent = made("template", { innerHTML: html }).content.querySelector("tbody");
    if (sent && page.isConnected && page.dataset.near === "true") {
      page.replaceChildren(...sent.children);
      giveTones(page);
    }
  } catch (error) {
    failed(error);
  } finally {
    delete page.dataset.asked;
  }
}

/**
 * Columns get no narrower than they are now when other rows come.
 * @param {HTMLTableElement} table
 */
function keepWidths(table) {
  if (table.querySelector("colgroup")) return;
  const heads = [...(table.tHead?.rows[0]?.cells ?? [])];
  if (!heads.every((head) => head.colSpan === 1)) return;
  for (const head of heads) head.style.minWidth = `${head.offsetWidth}px`;
}

/**
 * What a place is scrolled in; null for the window.
 * @param {HTMLElement} place
 */
function scrolls(place) {
  for (let each = /** @type {HTMLElement | null} */ (place); each; each = each.parentElement)
    if (/auto|scroll/.test(getComputedStyle(each).overflowY)) return each;
  return null;
}
