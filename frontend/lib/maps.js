// Zooming and moving maps: with buttons, the wheel, two fingers, dragging and keys.
import { made } from "./dom.js";

/**
 * @typedef {{ zoom: number, x: number, y: number }} Place
 * How much larger than the drawing a map is, and where its corner stands.
 */

const STEP = 1.6;
const MOST = 64;

/**
 * The place after zooming by a factor around a point; never smaller than the drawing, and never away from it.
 * @param {Place} place
 * @param {number} factor
 * @param {{ x: number, y: number }} at
 * @param {{ width: number, height: number }} size
 * @returns {Place}
 */
export function zoomed(place, factor, at, size) {
  const zoom = Math.min(MOST, Math.max(1, place.zoom * factor));
  const by = zoom / place.zoom;
  return held({ zoom, x: at.x - (at.x - place.x) * by, y: at.y - (at.y - place.y) * by }, size);
}

/**
 * A place whose map covers the drawing.
 * @param {Place} place
 * @param {{ width: number, height: number }} size
 * @returns {Place}
 */
export function held({ zoom, x, y }, { width, height }) {
  return {
    zoom,
    x: Math.min(0, Math.max(width * (1 - zoom), x)),
    y: Math.min(0, Math.max(height * (1 - zoom), y)),
  };
}

/**
 * Lets a compiled specification's map be zoomed, if it has one.
 * @param {any} compiled
 */
export function madeZoomable(compiled) {
  const [projection, other] = compiled.projections ?? [];
  if (!projection?.fit || other) return false;
  delete projection.size;
  projection.extent = { signal: "[[map_x, map_y], [map_x + width * map_zoom, map_y + height * map_zoom]]" };
  const signals = { map_zoom: 1, map_x: 0, map_y: 0 };
  compiled.signals = [
    ...(compiled.signals ?? []),
    ...Object.entries(signals).map(([name, value]) => ({ name, value })),
  ];
  return true;
}

/**
 * Listens to what zooms and moves a map.
 * @param {HTMLElement} host
 * @param {import("vega").View} view
 */
export function watchMap(host, view) {
  /** @type {Place} */
  let place = { zoom: 1, x: 0, y: 0 };
  const size = () => ({ width: view.width(), height: view.height() });
  const middle = () => ({ x: view.width() / 2, y: view.height() / 2 });
  const drawn = /** @type {SVGElement} */ (host.querySelector("svg, canvas"));
  const buttons = made("div", { className: "map-buttons" });

  /** @param {Place} to */
  function show(to) {
    place = to;
    view.signal("map_zoom", to.zoom).signal("map_x", to.x).signal("map_y", to.y).runAsync();
    drawn.style.touchAction = to.zoom > 1 ? "none" : "pan-y";
    drawn.style.cursor = to.zoom > 1 ? "grab" : "";
    all.disabled = to.zoom === 1;
    out.disabled = to.zoom === 1;
  }
  const zoom = (/** @type {number} */ factor, at = middle()) => show(zoomed(place, factor, at, size()));
  const move = (/** @type {number} */ x, /** @type {number} */ y) =>
    show(held({ ...place, x: place.x + x, y: place.y + y }, size()));

  /** @param {string} text @param {string} label @param {() => void} run */
  function button(text, label, run) {
    const element = made("button", { type: "button", className: "btn btn-small", textContent: text, title: label });
    element.setAttribute("aria-label", label);
    element.addEventListener("click", run);
    buttons.append(element);
    return element;
  }
  button("+", "Zoom in", () => zoom(STEP));
  const out = button("−", "Zoom out", () => zoom(1 / STEP));
  const all = button("All", "All: back to the whole map", () => show({ zoom: 1, x: 0, y: 0 }));
  host.append(buttons);
  show(place);
  watchPointers(drawn, { place: () => place, origin: () => view.origin(), zoom, move });
  drawn.addEventListener("keydown", (event) => {
    const pan = { ArrowLeft: [60, 0], ArrowRight: [-60, 0], ArrowUp: [0, 60], ArrowDown: [0, -60] }[event.key];
    if (event.key === "+" || event.key === "=") zoom(STEP);
    else if (event.key === "-") zoom(1 / STEP);
    else if (event.key === "0") show({ zoom: 1, x: 0, y: 0 });
    else if (pan && event.shiftKey) move(pan[0], pan[1]);
    else return;
    event.preventDefault();
    event.stopPropagation();
  });
}

/**
 * The wheel zooms once the map was clicked (so that a page scrolls over it), or with Ctrl; one finger or the mouse
 * moves it, two fingers zoom.
 * @param {SVGElement} drawn
 * @param {{ place: () => Place, origin: () => number[], zoom: (factor: number, at?: { x: number, y: number }) => void,
 *   move: (x: number, y: number) => void }} map
 */
function watchPointers(drawn, map) {
  /** @type {Map<number, PointerEvent>} */
  const down = new Map();
  let entered = false;
  let moved = 0;

  /** @param {{ clientX: number, clientY: number }} event */
  function at(event) {
    const box = drawn.getBoundingClientRect();
    const [left, top] = map.origin();
    return { x: event.clientX - box.left - left, y: event.clientY - box.top - top };
  }
  drawn.addEventListener(
    "wheel",
    (event) => {
      if (!entered && !event.ctrlKey) return;
      event.preventDefault();
      map.zoom(Math.exp(-event.deltaY / 400), at(event));
    },
    { passive: false },
  );
  drawn.addEventListener("pointerdown", (event) => {
    entered = true;
    moved = 0;
    down.set(event.pointerId, event);
  });
  drawn.addEventListener("pointermove", (event) => {
    const before = down.get(event.pointerId);
    if (!before) return;
    down.set(event.pointerId, event);
    const [x, y] = [event.clientX - before.clientX, event.clientY - before.clientY];
    moved += Math.hypot(x, y);
    const other = [...down.values()].find((each) => each.pointerId !== event.pointerId);
    if (other) {
      const apart = (/** @type {PointerEvent} */ one) =>
        Math.hypot(one.clientX - other.clientX, one.clientY - other.clientY);
      map.zoom(apart(event) / Math.max(1, apart(before)), at(other));
    } else if (map.place().zoom > 1) map.move(x, y);
  });
  for (const end of ["pointerup", "pointercancel", "pointerleave"]) {
    drawn.addEventListener(end, (event) => {
      down.delete(/** @type {PointerEvent} */ (event).pointerId);
      if (end === "pointerleave") entered = false;
    });
  }
  // What ends moving the map is no click on a mark.
  drawn.addEventListener("click", (event) => moved > 6 && map.place().zoom > 1 && event.stopPropagation(), true);
}
