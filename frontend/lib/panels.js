// Lays out the panels of a drawing: as many as there is room for, the others on further pages.
import { made } from "./dom.js";

/**
 * @typedef {{ count: number, columns: number, grid: boolean, across: number, down: number, beside: number,
 *   least_width: number, least_height: number }} Room
 * How panels want to be laid out, as the server says.
 * @typedef {{ spec: any, first: number, columns: number, rows: number, said: string, earlier: number | null,
 *   later: number | null, beside: number, height: number }} Layout
 * Panels as they are shown, and with which others begin, if there are some earlier or later.
 * @typedef {{ panels: number[], columns: number, said: string, earlier: number | null, later: number | null }} Page
 * The panels of a page by their numbers.
 */

const AXIS = 44; // about what axes take at the left and below
const ABOVE = 26; // the titles of the first row
const PAGER = 34;
const LEAST = 40;
const GOOD_SHAPE = 1.6;

/**
 * The specification of the panels that fit into a width and a height, from the `first` on.
 * @param {any} spec
 * @param {Room} room
 * @param {number} width
 * @param {number} height
 * @param {number} first
 * @returns {Layout}
 */
export function arranged(spec, room, width, height, first) {
  const { count, across, down } = room;
  const inner = { wide: width - AXIS - room.beside, high: height - AXIS - ABOVE };
  const most = {
    columns: Math.max(1, Math.floor((inner.wide + across) / (room.least_width + across))),
    rows: Math.max(1, Math.floor((inner.high + down) / (room.least_height + down))),
  };
  const page = room.grid && count ? pageOfGrid(room, most, first) : pageInOrder(room, inner, most, first);
  const { panels, columns, said, earlier, later } = page;
  const rows = Math.ceil(panels.length / columns);
  const sizes = {
    columns,
    shown: panels.length,
    whole: width,
    panel_width: each(inner.wide, columns, across),
    panel_height: each(inner.high, rows, down),
    ...Object.fromEntries(panels.map((number, place) => [`place_${number}`, place])),
  };
  const [panel_width, panel_height] = [sizes.panel_width, sizes.panel_height];
  return {
    spec: {
      ...spec,
      columns,
      params: Object.entries(sizes).map(([name, value]) => ({ name, value })),
      concat: panels.map((number) => ({ ...spec.concat[number], width: panel_width, height: panel_height })),
    },
    first: panels[0] ?? 0,
    columns,
    rows,
    said,
    earlier,
    later,
    beside: room.beside,
    height: height - (panels.length < count ? PAGER : 0),
  };
}

/**
 * Panels one after the other, from one on with which a page begins.
 * @param {Room} room
 * @param {{ wide: number, high: number }} inner
 * @param {{ columns: number, rows: number }} most
 * @param {number} first
 * @returns {Page}
 */
function pageInOrder(room, inner, most, first) {
  const { count } = room;
  if (room.columns === count) most.rows = 1; // a single row goes on on the next page
  const columns = room.columns && room.columns < count ? room.columns : suitable(room, inner, most);
  const perPage = columns * most.rows;
  const start = Math.min(first - (first % perPage), Math.max(0, count - 1));
  const panels = numbers(start, Math.min(start + perPage, count));
  const end = start + panels.length;
  return {
    panels,
    columns,
    said: panels.length > 1 ? `Panels ${start + 1} to ${end} of ${count}` : `Panel ${start + 1} of ${count}`,
    earlier: start ? Math.max(0, start - perPage) : null,
    later: end < count ? end : null,
  };
}

/**
 * A part of the rows and columns of a grid, the one with a panel.
 * @param {Room} room
 * @param {{ columns: number, rows: number }} most
 * @param {number} first
 * @returns {Page}
 */
function pageOfGrid(room, most, first) {
  const { columns } = room;
  const rows = Math.ceil(room.count / columns);
  const size = { columns: evenly(columns, most.columns), rows: evenly(rows, most.rows) };
  const across = Math.ceil(columns / size.columns);
  const pages = across * Math.ceil(rows / size.rows);
  const at = {
    column: Math.floor((first % columns) / size.columns),
    row: Math.floor(Math.floor(first / columns) / size.rows),
  };
  const page = at.row * across + at.column;
  const there = {
    columns: numbers(at.column * size.columns, Math.min(columns, (at.column + 1) * size.columns)),
    rows: numbers(at.row * size.rows, Math.min(rows, (at.row + 1) * size.rows)),
  };
  const begin = (/** @type {number} */ to) =>
    Math.floor(to / across) * size.rows * columns + (to % across) * size.columns;
  return {
    panels: there.rows.flatMap((row) => there.columns.map((column) => row * columns + column)),
    columns: there.columns.length,
    said: `${span("Column", there.columns, columns)}, ${span("row", there.rows, rows)}`,
    earlier: page ? begin(page - 1) : null,
    later: page + 1 < pages ? begin(page + 1) : null,
  };
}

/** @param {number} from @param {number} to */
const numbers = (from, to) => Array.from({ length: Math.max(0, to - from) }, (_, i) => from + i);

/**
 * How many of some stand on a page, if pages are to be about even.
 * @param {number} count
 * @param {number} most
 */
const evenly = (count, most) => Math.ceil(count / Math.ceil(count / most));

/**
 * @param {string} what
 * @param {number[]} there
 * @param {number} count
 */
function span(what, there, count) {
  const [first, last] = [there[0] + 1, there[there.length - 1] + 1];
  return first === last ? `${what} ${first} of ${count}` : `${what}s ${first} to ${last} of ${count}`;
}

/**
 * How large each of some panels is.
 * @param {number} size
 * @param {number} number
 * @param {number} gap
 */
const each = (size, number, gap) => Math.max(LEAST, Math.floor((size - gap * (number - 1)) / number));

/**
 * So many columns that panels are a little wider than high and few places stay empty; as many as fit if not all panels
 * do.
 * @param {Room} room
 * @param {{ wide: number, high: number }} inner
 * @param {{ columns: number, rows: number }} most
 */
function suitable(room, inner, most) {
  const { count, across, down } = room;
  let [best, least] = [Math.min(most.columns, count), Infinity];
  for (let columns = 1; columns <= Math.min(most.columns, count); columns++) {
    const rows = Math.ceil(count / columns);
    if (rows > most.rows) continue;
    const shape = each(inner.wide, columns, across) / each(inner.high, rows, down);
    const cost = Math.abs(Math.log(shape / GOOD_SHAPE)) + (2 * (columns * rows - count)) / count;
    if (cost < least) [best, least] = [columns, cost];
  }
  return best;
}

/**
 * Gives panels the sizes that fill the room, now that it is known how much their axes and legends take.
 * @param {import("vega").View} view
 * @param {Layout} layout
 * @param {HTMLElement} host
 * @param {string[]} signals The names of the view's signals.
 */
export async function fitted(view, layout, host, signals) {
  const { columns, rows } = layout;
  // The drawing library calls the width of a single column otherwise than that of several.
  const [across, down] = [signals.includes("childWidth") ? "childWidth" : "width", "childHeight"];
  for (let round = 0; round < 2; round++) {
    const [wide, high] = [view.signal("panel_width"), view.signal("panel_height")];
    const { x1, x2, y1, y2 } = /** @type {any} */ (view.scenegraph()).root.bounds;
    const around = { x: x2 - x1 - columns * wide, y: y2 - y1 - rows * high };
    const width = Math.max(LEAST, Math.floor((host.clientWidth - layout.beside - around.x - 4) / columns));
    const height = Math.max(LEAST, Math.floor((layout.height - around.y - 4) / rows));
    if (width === wide && height === high) return;
    view.signal("panel_width", width).signal("panel_height", height).signal(across, width).signal(down, height);
    await view.runAsync();
  }
}

/**
 * What leads from one page of panels to another.
 * @param {Layout} layout
 * @param {(first: number) => void} turn
 */
export function pager(layout, turn) {
  const bar = made("div", { className: "pager" });
  bar.append(made("span", { textContent: layout.said }));
  for (const [name, start] of Object.entries({ Earlier: layout.earlier, Later: layout.later })) {
    const button = made("button", { type: "button", className: "btn btn-small", textContent: name });
    button.disabled = start === null;
    button.addEventListener("click", () => turn(start ?? 0));
    bar.append(button);
  }
  return bar;
}
