// Series of a drawing: pointing at one quiets the others, and its entry in the legend stands for all its marks.
import { all, made } from "./dom.js";

/** How far before an entry its sign begins: the room of its colour. */
const SIGN_WIDTH = 20;

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
 * Goes to an entry of a legend, which can be reached from then on.
 * @param {HTMLElement} element
 */
export function focusEntry(element) {
  element.setAttribute("role", "button");
  element.classList.add("reachable");
  element.closest(".role-legend")?.setAttribute("role", "group"); // a symbol would have nothing to reach in it
  element.setAttribute("tabindex", "0");
  element.focus();
}

/**
 * The entry at whose label or sign something happened. They do not take the pointer themselves.
 * @param {HTMLElement} host
 * @param {MouseEvent} event
 * @returns {string | undefined}
 */
export function entryAt(host, event) {
  for (const part of all(host, ".role-legend-label text, .role-legend-symbol path")) {
    if (isAt(event, part.getBoundingClientRect()) && typeof datumOf(part)?.value === "string")
      return datumOf(part).value;
  }
  return undefined;
}

/** How much of a drawing's height its legend may take, and the height of one of its lines, in pixels. */
const [LEGEND_SHARE, LEGEND_LINE] = [0.25, 16];
/** px that an axis of values takes beside a drawing, about. */
const AXIS_WIDTH = 60;
/** So many entries have colours of their own: none of them is merely counted. */
const ALWAYS_NAMED = 8;

/**
 * What counts the entries that have no room stands for none of them, so it has no sign.
 * @param {any} legend
 */
function hideSignOfCount(legend) {
  const symbols = ((legend.encode ??= {}).symbols ??= {});
  (symbols.update ??= {}).opacity = { signal: "indexof(datum.label, '…') === 0 ? 0 : 1" };
}

/**
 * Keeps legends of many entries from pushing a drawing out: those that have no room are counted.
 * @param {any} compiled
 */
export function limitLegends(compiled) {
  for (const legend of compiled.legends ?? []) {
    // The width is that of the whole drawing while it is laid out, and that beside the axis afterwards.
    const columns = legend.columns?.signal?.replaceAll("width", `min(width, containerSize()[0] - ${AXIS_WIDTH})`);
    // Of the height of the whole drawing, which does not change while the legend is laid out.
    const lines = `floor(containerSize()[1] * ${LEGEND_SHARE} / ${LEGEND_LINE})`;
    const fit = `max(${ALWAYS_NAMED}, ${columns} * ${lines})`;
    hideSignOfCount(legend);
    const most = legend.symbolLimit;
    if (!columns) continue;
    legend.columns = { signal: columns };
    legend.symbolLimit = { signal: most ? `min(${most}, ${fit})` : fit };
  }
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
 * The points of the marks that the label of an axis stands for, at which something happened: along the first dimension
 * its value alone, else every mark of the series.
 * @param {HTMLElement} host
 * @param {MouseEvent} event
 * @param {any[]} rows
 * @returns {any[][]}
 */
export function pointsAtLabel(host, event, rows) {
  const label = all(host, ".role-axis-label text").find((text) => isAt(event, text.getBoundingClientRect()));
  const value = label && datumOf(label)?.value;
  if (value === undefined || typeof value === "number") return [];
  const along = rows.filter(
    (row) => row.point && (value instanceof Date ? row.at === Number(value) : row.name === value),
  );
  const chosen = along.length ? along.map((row) => row.point.slice(0, 1)) : [];
  const ofSeries = rows.filter((row) => row.point && row.series === value).map((row) => row.point);
  const points = new Map((chosen.length ? chosen : ofSeries).map((point) => [JSON.stringify(point), point]));
  return [...points.values()];
}

/**
 * Whether something happened within a box, or close to it.
 * @param {MouseEvent} event
 * @param {DOMRect} box
 */
const isAt = ({ clientX: x, clientY: y }, box) =>
  x >= box.left - 3 && x <= box.right + 3 && y >= box.top - 2 && y <= box.bottom + 2;

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

/**
 * Lets entries of a legend be dragged to another place among each other, or moved with Alt and an arrow key.
 * @param {HTMLElement} host
 * @param {{ movable: (name: string) => boolean, moved: (names: string[]) => Promise<unknown> }} order
 *   Which names can be moved, and what draws them in their new order.
 */
export function watchOrder(host, { movable, moved }) {
  const there = () => entriesOf(host).filter(({ name }) => movable(name));
  /** @type {{ name: string, x: number, y: number } | null} */
  let held = null;
  /** @type {HTMLElement | null} */
  let sign = null;
  let letGo = false;

  /** @param {string} name @param {number} to */
  async function move(name, to) {
    const names = there().map((entry) => entry.name);
    const rest = names.filter((each) => each !== name);
    rest.splice(to, 0, name);
    if (rest.every((each, i) => each === names[i])) return;
    const isFocused = host.contains(document.activeElement);
    await moved(rest);
    const entry = isFocused && there().find((each) => each.name === name);
    if (entry) focusEntry(entry.element);
  }
  /**
   * Before which of the other entries the pointer is.
   * @param {PointerEvent} event
   * @param {string} name
   */
  function placeAt(event, name) {
    const boxes = there()
      .filter((entry) => entry.name !== name)
      .map(({ element }) => element.getBoundingClientRect());
    const after = boxes.findIndex(
      (box) =>
        event.clientY < box.top - 4 || (event.clientY <= box.bottom + 4 && event.clientX < box.left + box.width / 2),
    );
    return { to: after < 0 ? boxes.length : after, boxes };
  }
  host.addEventListener(
    "pointerdown",
    (event) => {
      const name = event.button === 0 && event.pointerType !== "touch" ? entryAt(host, event) : undefined;
      if (name === undefined) return;
      event.stopImmediatePropagation(); // no range is dragged from here
      if (movable(name)) held = { name, x: event.clientX, y: event.clientY };
    },
    true,
  );
  host.addEventListener("pointermove", (event) => {
    if (!held || (!sign && Math.hypot(event.clientX - held.x, event.clientY - held.y) < 6)) return;
    sign ??= host.appendChild(made("div", { className: "legend-place" }));
    const { to, boxes } = placeAt(event, held.name);
    const frame = host.getBoundingClientRect();
    const box = boxes[Math.min(to, boxes.length - 1)];
    const x = to < boxes.length ? box.left - SIGN_WIDTH : box.right + 4;
    sign.style.left = `${x - frame.left + host.scrollLeft}px`;
    sign.style.top = `${box.top - frame.top + host.scrollTop}px`;
    sign.style.height = `${box.height}px`;
    event.preventDefault();
  });
  window.addEventListener("pointerup", (event) => {
    const [name, dragged] = [held?.name, sign];
    held = sign = null;
    dragged?.remove();
    if (!dragged || name === undefined) return;
    letGo = true;
    setTimeout(() => {
      letGo = false;
    });
    move(name, placeAt(event, name).to);
  });
  // What ends dragging is no click on an entry.
  host.addEventListener("click", (event) => letGo && event.stopImmediatePropagation(), true);
  host.addEventListener("keydown", (event) => {
    const step = { ArrowLeft: -1, ArrowUp: -1, ArrowRight: 1, ArrowDown: 1 }[event.key];
    const entries = there();
    const at = entries.findIndex(({ element }) => element === event.target);
    if (!event.altKey || !step || at < 0) return;
    event.preventDefault();
    event.stopImmediatePropagation();
    if (at + step >= 0 && at + step < entries.length) move(entries[at].name, at + step);
  });
}
