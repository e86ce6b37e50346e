// Lays out the panels of a drawing: as many as there is room for, the others on further pages.
import { made } from "./dom.js";

/**
 * @typedef {{ count: number, columns: number, across: number, down: number, beside: number,
 *   least_width: number, least_height: number }} Room
 * How panels want to be laid out, as the server says.
 * @typedef {{ spec: any, first: number, shown: number, columns: number, rows: number, pages: boolean, count: number,
 *   beside: number, height: number }} Layout
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
  if (room.columns === count) most.rows = 1; // a single row goes on on the next page
  const columns = room.columns && room.columns < count ? room.columns : suitable(room, inner, most);
  const perPage = columns * most.rows;
  const pages = perPage < count;
  const start = Math.min(first - (first % perPage), Math.max(0, count - 1));
  const shown = Math.min(perPage, count - start);
  const rows = Math.ceil(shown / columns);
  const sizes = {
    columns,
    first: start,
    shown,
    whole: width,
    panel_width: each(inner.wide, columns, across),
    panel_height: each(inner.high, rows, down),
  };
  return {
    spec: {
      ...spec,
      columns,
      params: Object.entries(sizes).map(([name, value]) => ({ name, value })),
      concat: spec.concat
        .slice(start, start + shown)
        .map((/** @type {any} */ panel) => ({ ...panel, width: sizes.panel_width, height: sizes.panel_height })),
    },
    first: start,
    shown,
    columns,
    rows,
    pages,
    count,
    beside: room.beside,
    height: height - (pages ? PAGER : 0),
  };
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
  const { first, shown, count } = layout;
  const bar = made("div", { className: "pager" });
  const words = shown > 1 ? `Panels ${first + 1} to ${first + shown} of ${count}` : `Panel ${first + 1} of ${count}`;
  bar.append(made("span", { textContent: words }));
  const to = { Earlier: first - shown, Later: first + shown };
  for (const [name, start] of Object.entries(to)) {
    const button = made("button", { type: "button", className: "btn btn-small", textContent: name });
    button.disabled = name === "Earlier" ? first === 0 : start >= count;
    button.addEventListener("click", () => turn(Math.max(0, start)));
    bar.append(button);
  }
  return bar;
}
