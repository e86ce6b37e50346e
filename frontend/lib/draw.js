// Draws what the server answered: a Vega-Lite specification with its rows, or HTML.
import * as vega from "vega";
import { expressionInterpreter } from "vega-interpreter";
import { canvasOf, goToPainted, MOST_ELEMENTS, paintedItem, paintedMarks, watchCanvas } from "./canvas.js";
import { all, made, near } from "./dom.js";
import { refold } from "./folding.js";
import { watchMap } from "./maps.js";
import { watchMarking } from "./marking.js";
import { layPages } from "./paging.js";
import { arranged, fitted, pager } from "./panels.js";
import { patterned } from "./patterns.js";
import { isDark, prepared, quiet, themed } from "./ready.js";
import { entriesOf, entryAt, focusEntry, pointsAtLabel, pointsOf, watchSeries } from "./series.js";
import { giveTones } from "./tones.js";
import { updateContent } from "./update.js";

/**
 * @typedef {{ spec?: any, rows?: any[], html?: string, named?: Record<string, any[]>, sentence?: string, sheet?: any,
 *   dark?: Record<string, string>, along?: string, least_height?: number, panels?: import("./panels.js").Room }} Answer
 * What the server answered: a specification of the open chart grammar with its rows, or HTML.
 * @typedef {{ view: vega.View, names: string[], key: string, along: string,
 *   order: Map<string, any[]>, size: string, first: number, again: () => void, settle?: () => Promise<void> }} Drawing
 * @typedef {(points: any[], how: { add: boolean, many?: boolean, from?: number }) => void} Chosen
 * Takes the points of marks, their values from a dimension on (the first, if not told), whether they come to those
 * chosen before, and whether they were chosen as many.
 */

/** @type {WeakMap<HTMLElement, Drawing>} What stands in each host. */
const drawings = new WeakMap();
/** @type {WeakSet<HTMLElement>} Hosts whose size is watched. */
const watched = new WeakSet();

/** @type {HTMLElement | undefined} */
let tip;

/**
 * @param {MouseEvent} event
 * @param {vega.Item} item
 */
function showTip(event, item) {
  const lines = item?.datum?.tip;
  if (!lines) return hideTip();
  tip ??= document.body.appendChild(made("div", { className: "tip" }));
  const table = made("table");
  for (const [name, value] of lines) {
    const row = table.insertRow();
    row.insertCell().textContent = name;
    row.insertCell().textContent = value;
  }
  tip.replaceChildren(table);
  tip.hidden = false;
  const x = Math.min(event.clientX + 14, innerWidth - tip.offsetWidth - 8);
  const below = event.clientY + 16;
  const y = below + tip.offsetHeight > innerHeight ? event.clientY - tip.offsetHeight - 10 : below;
  tip.style.left = `${Math.max(4, x)}px`;
  tip.style.top = `${Math.max(4, y)}px`;
}

function hideTip() {
  if (tip) tip.hidden = true;
}

/**
 * The mark that the drawing library put into an element.
 * @param {any} element
 * @returns {vega.Item | null}
 */
function itemOf(element) {
  return element?.__data__?.datum ? element.__data__ : paintedItem(element);
}

/** Leads from the link at the top of the page to the first mark, or cell, of its drawings. */
export function watchSkips() {
  document.addEventListener("click", (event) => {
    if (!near(event, "[data-skip-to-marks]")) return;
    event.preventDefault();
    const [first] = all(document, ".picture .reachable[tabindex='0'], .picture [data-point][tabindex='0']");
    (first ?? document.getElementById("main"))?.focus();
  });
}

/** @param {HTMLElement} host */
function marksOf(host) {
  return all(host, "[role=graphics-symbol]").filter((element) => itemOf(element)?.datum.point);
}

/**
 * What the arrow keys go along: the marks, and then the entries of the legend, each of which stands for all its marks.
 * @param {HTMLElement} host
 */
const stopsOf = (host) => [...marksOf(host), ...entriesOf(host).map(({ element }) => element)];

/**
 * One tab stop for each drawing; arrow keys go from mark to mark.
 * @param {HTMLElement} host
 */
function makeReachable(host) {
  marksOf(host).forEach((mark, i) => {
    mark.setAttribute("tabindex", i ? "-1" : "0");
    mark.classList.add("reachable");
  });
}

/**
 * What only stands beside marks, such as names on the areas of a map, lets the pointer through to them.
 * @param {HTMLElement} host
 */
function letThrough(host) {
  for (const group of all(host, ".role-mark[aria-hidden=true]")) {
    const datum = itemOf(group.firstElementChild)?.datum;
    group.style.pointerEvents = datum?.point || datum?.tip ? "" : "none";
  }
}

const PARTS = {
  "group mark container": "drawing",
  "line mark container": "lines",
  "area mark container": "areas",
  "symbol mark container": "points",
  "shape mark container": "areas",
  "rect mark container": "bars",
  "rule mark container": "lines",
  "text mark container": "labels",
};

/**
 * Says what parts of a drawing are in plain words, instead of the drawing library's.
 * @param {HTMLElement} host
 */
function sayPlainly(host) {
  for (const part of all(host, "[aria-roledescription]")) {
    const plain = PARTS[/** @type {keyof typeof PARTS} */ (part.getAttribute("aria-roledescription"))];
    if (plain) part.setAttribute("aria-roledescription", plain);
  }
}

/**
 * Takes a drawing out of its host.
 * @param {HTMLElement} host
 */
export function clear(host) {
  drawings.get(host)?.view.finalize();
  drawings.delete(host);
}

const INNER = { small: "8px", large: "24px" };

/**
 * The sheet that a drawing stands on: its ground, the line round it, and for tables its inner distance and letters.
 * @param {HTMLElement} host
 * @param {{ ground?: string[], border?: string[], inner?: keyof typeof INNER | "", letters?: string }} [sheet]
 */
function layOn(host, { ground, border, inner, letters } = {}) {
  const both = (/** @type {string[]} */ tones) => `light-dark(${tones[0]}, ${tones[1]})`;
  if (ground) host.style.setProperty("--color-surface", both(ground));
  else host.style.removeProperty("--color-surface");
  host.style.background = ground ? "var(--color-surface)" : "";
  host.style.outline = border ? `1px solid ${both(border)}` : "";
  host.style.outlineOffset = "-1px";
  host.style.setProperty("--inner", inner ? INNER[inner] : "");
  host.dataset.letters = letters ?? "";
}

/**
 * A picture of what is drawn in a host: a PNG in Base64, or "" where it is HTML.
 * @param {HTMLElement} host
 */
export async function pictureOf(host) {
  const view = drawings.get(host)?.view;
  if (!view) return "";
  return (await view.toImageURL("png")).replace("data:image/png;base64,", "");
}

/** @type {Promise<unknown> | undefined} */
let lettersThere;

/** Waits for the letters of drawings: where names and values have room is measured while a drawing is laid out. */
function lettersReady() {
  const there = [400, 600].map((weight) => document.fonts.load(`${weight} 11px Archivo`));
  lettersThere ??= Promise.allSettled(there);
  return lettersThere;
}

/**
 * Draws an answer. Where only the rows have changed, the drawing moves to them.
 * @param {HTMLElement} host
 * @param {Answer} data
 */
export async function draw(host, data) {
  if (data.spec) await lettersReady();
  layOn(host, data.sheet);
  host.style.minHeight = data.least_height ? `${data.least_height}px` : "";
  if (!data.spec) return showHtml(host, data.html ?? "");
  const key = JSON.stringify(data.spec) + isDark(host);
  const there = drawings.get(host);
  if (there && canMove(there, key, data)) {
    giveData(there.view, there.names, data);
    await there.view.runAsync();
    referWithin(host);
    letThrough(host);
    makeReachable(host);
    return;
  }
  const first = there?.key === key ? there.first : 0;
  // What the grammar refuses leaves the last drawing there.
  const ready = data.panels ? null : prepared(data.spec, data.dark, isDark(host));
  clear(host);
  host.replaceChildren();
  host.classList.add("drawn");
  if (ready) await drawWhole(host, data, ready, key);
  else await drawPanels(host, data, /** @type {import("./panels.js").Room} */ (data.panels), { key, first });
  host.querySelector("svg")?.setAttribute("aria-label", data.sentence ?? "");
  patterned(host, themed(data.spec, data.dark ?? {}, isDark(host)).usermeta?.patterns);
  referWithin(host);
  sayPlainly(host);
  letThrough(host);
  makeReachable(host);
  watch(host);
}

/**
 * Has a drawing refer to its own parts (shades, what cuts marks off) by their names alone. The drawing library puts the
 * address of the page before them, which changes with what narrows a dashboard: they would not be found any more.
 * @param {HTMLElement} host
 */
function referWithin(host) {
  for (const name of ["fill", "stroke", "clip-path"]) {
    for (const part of host.querySelectorAll(`svg [${name}^="url("]`)) {
      part.setAttribute(name, (part.getAttribute(name) ?? "").replace(/url\([^)#]*#/, "url(#"));
    }
  }
}

/**
 * Whether a drawing can show other rows: it is drawn the same way, and their values come in the order of those that it
 * had, for the drawing library puts any other after them, wherever it belongs.
 * @param {Drawing} drawing
 * @param {string} key
 * @param {Answer} data
 */
function canMove(drawing, key, data) {
  if (drawing.key !== key || data.panels) return false;
  return [...orderOf(data.rows ?? [])].every(([part, values]) => {
    const before = drawing.order.get(part) ?? [];
    let from = 0;
    return values.every((value) => (from = before.indexOf(value, from) + 1) > 0);
  });
}

/**
 * The values of the first dimension and the series of rows, each once, as they come.
 * @param {any[]} rows
 * @returns {Map<string, any[]>}
 */
const orderOf = (rows) => new Map(["name", "series"].map((part) => [part, [...new Set(rows.map((row) => row[part]))]]));

/**
 * Shows HTML where it was asked for, or there is nothing to draw.
 * @param {HTMLElement} host
 * @param {string} html
 */
function showHtml(host, html) {
  clear(host);
  if (host.contains(document.activeElement)) updateContent(host, html);
  else host.innerHTML = html;
  giveTones(host);
  refold(host);
  layPages(host);
  host.classList.remove("drawn");
}

/**
 * @param {HTMLElement} host
 * @param {Answer} data
 * @param {import("./ready.js").Prepared} ready
 * @param {string} key
 */
async function drawWhole(host, data, ready, key) {
  const view = shown(host, ready, data);
  let settled = 0;
  // How many lines a legend takes, and whether names are slanted, is known only when the width is.
  const settle = async () => {
    const wanted = ++settled;
    await view.runAsync();
    if (ready.followsRoom && wanted === settled) await view.resize().runAsync();
  };
  const again = () => {
    window.dispatchEvent(new Event("resize"));
    settleAll();
  };
  keepDrawing(host, data, { view, names: ready.names, key, first: 0, again, settle });
  await settle();
  watchCanvas(host, view, data.sentence ?? "");
  if (ready.isMap) watchMap(host, view);
}

/**
 * Keeps what stands in a host, with the size and the order of values that it has now.
 * @param {HTMLElement} host
 * @param {Answer} data
 * @param {Pick<Drawing, "view" | "names" | "key" | "first" | "again" | "settle">} drawing
 */
function keepDrawing(host, data, drawing) {
  const { along = "", rows = [] } = data;
  drawings.set(host, { ...drawing, along, order: orderOf(rows), size: sizeOf(host) });
}

/**
 * Draws those panels that there is room for, from the `first` on.
 * @param {HTMLElement} host
 * @param {Answer} data
 * @param {import("./panels.js").Room} room
 * @param {{ key: string, first: number }} state
 */
async function drawPanels(host, data, room, { key, first }) {
  const layout = arranged(data.spec, room, host.clientWidth, host.clientHeight, first);
  const place = host.appendChild(made("div", { className: "panels" }));
  const ready = prepared(layout.spec, data.dark, isDark(host));
  const view = shown(place, ready, data);
  const again = () => draw(host, data);
  keepDrawing(host, data, { view, names: ready.names, key, first: layout.first, again });
  await view.runAsync();
  await fitted(view, layout, host, ready.signals);
  watchCanvas(host, view, data.sentence ?? "");
  if (layout.earlier !== null || layout.later !== null) host.append(pager(layout, (to) => turnTo(host, data, to)));
}

/**
 * A view of a specification in an element, not run yet.
 * @param {HTMLElement} place
 * @param {import("./ready.js").Prepared} ready
 * @param {Answer} data
 */
function shown(place, ready, data) {
  const view = new vega.View(ready.runtime, {
    renderer: (data.rows?.length ?? 0) > MOST_ELEMENTS ? "canvas" : "svg",
    expr: expressionInterpreter,
    loader: nothingFromElsewhere,
    container: place,
    hover: false,
    logger: quiet,
    tooltip: (handler, event, item, value) => (value ? showTip(event, item) : hideTip()),
  });
  giveData(view, ready.names, data);
  return view;
}

// A drawing's data comes with it: nothing is fetched, and nothing leads away.
const nothingFromElsewhere = /** @type {any} */ ({
  load: () => Promise.reject(new Error("A drawing fetches nothing.")),
  sanitize: () => Promise.reject(new Error("A drawing leads nowhere.")),
  http: () => Promise.reject(new Error("A drawing fetches nothing.")),
  file: () => Promise.reject(new Error("A drawing fetches nothing.")),
  options: {},
});

/**
 * Gives a view those data that its specification names.
 * @param {vega.View} view
 * @param {string[]} names
 * @param {Answer} data
 */
function giveData(view, names, data) {
  for (const [name, rows] of Object.entries({ rows: data.rows ?? [], ...data.named })) {
    if (names.includes(name)) view.data(name, rows);
  }
}

/**
 * Shows the panels from another one on.
 * @param {HTMLElement} host
 * @param {Answer} data
 * @param {number} first
 */
async function turnTo(host, data, first) {
  const drawing = drawings.get(host);
  if (!drawing) return;
  const pressed = document.activeElement?.textContent;
  drawing.first = first;
  await draw(host, data);
  const buttons = /** @type {HTMLButtonElement[]} */ (all(host, ".pager button:enabled"));
  (buttons.find((button) => button.textContent === pressed) ?? buttons[0])?.focus();
}

/** Settles all drawings of the page: the drawing library lays all out anew when the window gets another size. */
function settleAll() {
  for (const host of all(document, ".picture.drawn")) drawings.get(host)?.settle?.();
}

/** Settles the drawings whenever the window got another size. */
export function watchSize() {
  window.addEventListener("resize", () => setTimeout(settleAll)); // after the library, which listens later
}

/** @param {HTMLElement} host */
const sizeOf = (host) => `${host.clientWidth} ${host.clientHeight}`;

/** Draws what got another size anew, without waiting for the screen: what is printed is laid out at once. */
export function refit() {
  for (const host of all(document, ".picture.drawn")) {
    const drawing = drawings.get(host);
    if (!drawing || !host.clientWidth || drawing.size === sizeOf(host)) continue;
    drawing.size = sizeOf(host);
    drawing.again();
  }
}

/**
 * Draws anew when the host gets another size.
 * @param {HTMLElement} host
 */
function watch(host) {
  if (watched.has(host)) return;
  watched.add(host);
  new ResizeObserver(() => {
    const drawing = drawings.get(host);
    if (!drawing || !host.clientWidth) return;
    const size = sizeOf(host);
    const changed = drawing.size && drawing.size !== size;
    drawing.size = size;
    if (changed) drawing.again();
  }).observe(host);
}

/**
 * The mark that an event happened at.
 * @param {Event} event
 */
export const itemAt = (event) => itemOf(event.target);

/**
 * The mark or the cell of a table that an event happened at, as the values of its dimensions.
 * @param {Event} event
 */
export function pointAt(event) {
  return itemOf(event.target)?.datum.point ?? JSON.parse(near(event, "[data-point]")?.dataset.point ?? "null");
}

/**
 * The elements of all marks, with their points.
 * @param {HTMLElement} host
 * @returns {[HTMLElement, any[]][]}
 */
export const markElements = (host) => marksOf(host).map((mark) => [mark, itemOf(mark)?.datum.point]);

/**
 * The rows that are drawn.
 * @param {HTMLElement} host
 * @returns {any[]}
 */
const rowsOf = (host) => drawings.get(host)?.view.data("rows") ?? [];

/**
 * Whether what is chosen comes to what was chosen before.
 * @param {MouseEvent | KeyboardEvent} event
 * @param {HTMLElement} host
 */
const adds = (event, host) => event.shiftKey || event.ctrlKey || event.metaKey || "several" in host.dataset;

/**
 * The heading of a column of values across, as these and from which of the chart's dimensions on they are.
 * @param {Event} event
 * @returns {{ from: number, point: any[] } | null}
 */
const headingAt = (event) => JSON.parse(near(event, "[data-across]")?.dataset.across ?? "null");

/**
 * Calls `chosen` when marks are clicked, dragged over, or picked with the keyboard.
 * @param {HTMLElement} host
 * @param {Chosen} chosen
 */
export function listen(host, chosen) {
  const drawn = {
    along: () => drawings.get(host)?.along ?? "",
    moves: () => Boolean(host.querySelector(".map-buttons")),
    middles: () => middlesOf(host),
  };
  const wasDragged = watchMarking(host, drawn, chosen);
  watchSeries(host);
  /** @param {string | undefined} name */
  const ofSeries = (name) => (name === undefined ? [] : pointsOf(rowsOf(host), name));
  let touched = ""; // the mark whose values a finger has brought up
  host.addEventListener("click", (event) => {
    if (wasDragged() || near(event, "a[href], [data-unfold]")) return;
    const point = pointAt(event);
    const isBrought = event instanceof PointerEvent && event.pointerType === "touch" && !("several" in host.dataset);
    const item = isBrought ? itemOf(event.target) : null;
    if (item?.datum.tip && touched !== JSON.stringify(point)) {
      touched = JSON.stringify(point);
      return showTip(event, item);
    }
    touched = "";
    hideTip();
    const across = headingAt(event);
    if (across) return chosen([across.point], { add: adds(event, host), from: across.from });
    const ofEntry = ofSeries(entryAt(host, event));
    const points = point ? [point] : ofEntry.length ? ofEntry : pointsAtLabel(host, event, rowsOf(host));
    if (points.length) chosen(points, { add: adds(event, host), many: !point });
  });
  host.addEventListener("keydown", (event) => {
    const mark = near(event, ".reachable, [data-point], [data-across]");
    if (!mark || near(event, "[data-unfold]")) return;
    if (event.key === "Enter" || event.key === " ") {
      const point = pointAt(event);
      const entry = entriesOf(host).find(({ element }) => element === mark);
      const across = headingAt(event);
      const points = across ? [across.point] : point ? [point] : ofSeries(entry?.name);
      if (!points.length) return;
      event.preventDefault();
      chosen(points, { add: adds(event, host), many: !point, from: across?.from });
    } else if (event.key.startsWith("Arrow") && !mark.matches("[data-point], [data-across]") && !event.altKey) {
      event.preventDefault();
      goToMark(host, mark, ["ArrowRight", "ArrowDown"].includes(event.key) ? 1 : -1);
    }
  });
  host.addEventListener("pointerleave", hideTip);
}

/**
 * @param {HTMLElement} host
 * @param {HTMLElement} mark
 * @param {number} step
 */
function goToMark(host, mark, step) {
  if (mark === canvasOf(host)) return goToPainted(host, step);
  const marks = stopsOf(host);
  const next = marks[marks.indexOf(mark) + step];
  if (!next) return;
  if (itemOf(mark)?.datum.point) mark.setAttribute("tabindex", "-1");
  else mark.removeAttribute("tabindex");
  if (!itemOf(next)?.datum.point) return focusEntry(next);
  next.setAttribute("tabindex", "0");
  next.focus();
}

/**
 * Where the middles of all marks are on the screen, with their points.
 * @param {HTMLElement} host
 */
function middlesOf(host) {
  const canvas = canvasOf(host)?.getBoundingClientRect();
  if (canvas) {
    return paintedMarks(host).map(({ item, x1, y1, x2, y2 }) => ({
      x: canvas.left + (x1 + x2) / 2,
      y: canvas.top + (y1 + y2) / 2,
      point: item.datum.point,
    }));
  }
  return marksOf(host).map((mark) => {
    const box = mark.getBoundingClientRect();
    return { x: box.left + box.width / 2, y: box.top + box.height / 2, point: itemOf(mark)?.datum.point };
  });
}
