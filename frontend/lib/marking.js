// Marking several marks of a drawing at once: a range along its axis, a box, or a line drawn round them.
import { made } from "./dom.js";

/**
 * @typedef {{ x: number, y: number }} Place
 * On the screen, in pixels.
 * @typedef {{ x: number, y: number, point: any[] }} Middle
 * Where the middle of a mark is, and its values.
 * @typedef {"range" | "box" | "lasso"} Shape
 */

/** Pixels that the pointer goes before it drags. */
const LEAST = 6;

/**
 * Whether a place lies within a line that is closed by itself.
 * @param {Place} place
 * @param {Place[]} line
 */
export function isWithin({ x, y }, line) {
  let within = false;
  line.forEach((here, i) => {
    const before = line[(i || line.length) - 1];
    const crosses = here.y > y !== before.y > y;
    if (crosses && x < ((before.x - here.x) * (y - here.y)) / (before.y - here.y) + here.x) within = !within;
  });
  return within;
}

/**
 * The points of marks that a dragged line takes in: of a range along an axis the values of the first dimension,
 * whatever the series.
 * @param {Middle[]} middles
 * @param {Place[]} line
 * @param {Shape} shape
 * @param {string} along The axis of the first dimension, "x" or "y".
 */
export function pointsIn(middles, line, shape, along) {
  const [first, last] = [line[0], line[line.length - 1]];
  const between = (/** @type {number} */ value, /** @type {number} */ a, /** @type {number} */ b) =>
    value >= Math.min(a, b) && value <= Math.max(a, b);
  const takesIn = {
    range: (/** @type {Middle} */ at) =>
      along === "y" ? between(at.y, first.y, last.y) : between(at.x, first.x, last.x),
    box: (/** @type {Middle} */ at) => between(at.x, first.x, last.x) && between(at.y, first.y, last.y),
    lasso: (/** @type {Middle} */ at) => isWithin(at, line),
  }[shape];
  const points = new Map();
  for (const middle of middles) {
    if (!middle.point || !takesIn(middle)) continue;
    const point = shape === "range" ? middle.point.slice(0, 1) : middle.point;
    points.set(JSON.stringify(point), point);
  }
  return [...points.values()];
}

/**
 * @typedef {{ along: () => string, moves: () => boolean, middles: () => Middle[] }} Drawn
 * A drawing: the axis of its first dimension, whether dragging moves it, and its marks.
 */

/**
 * Which shape dragging draws; null where it marks nothing.
 * @param {PointerEvent} event
 * @param {HTMLElement} host
 * @param {Drawn} drawn
 * @returns {Shape | null}
 */
function shapeOf(event, host, drawn) {
  const isSeveral = "several" in host.dataset;
  if (event.button !== 0 || (event.pointerType === "touch" && !isSeveral)) return null;
  if (event.altKey || event.pointerType === "touch") return "lasso";
  if (drawn.along()) return "range";
  return drawn.moves() && !event.shiftKey ? null : "box";
}

/**
 * Dragging over a drawing marks what lies in a range along its axis or, where it has none, in a box; with Alt, or by a
 * finger while several are marked, within a line. The function it gives says whether a click that comes is only the
 * end of dragging.
 * @param {HTMLElement} host
 * @param {Drawn} drawn
 * @param {(points: any[], how: { add: boolean, many: boolean }) => void} chosen
 */
export function watchMarking(host, drawn, chosen) {
  /** @type {{ line: Place[], shape: Shape } | null} */
  let drag = null;
  /** @type {HTMLElement | null} */
  let brush = null;
  let dragged = false;

  host.addEventListener("pointerdown", (event) => {
    const shape = shapeOf(event, host, drawn);
    if (shape) drag = { line: [{ x: event.clientX, y: event.clientY }], shape };
  });
  host.addEventListener("pointermove", (event) => {
    if (!drag) return;
    const [start] = drag.line;
    if (!brush && Math.hypot(event.clientX - start.x, event.clientY - start.y) < LEAST) return;
    brush ??= host.appendChild(made("div", { className: drag.shape === "lasso" ? "lasso" : "brush" }));
    drag.line.push({ x: event.clientX, y: event.clientY });
    show(brush, host, drag.line);
    event.preventDefault();
  });
  window.addEventListener("pointercancel", () => end());
  window.addEventListener("pointerup", (event) => {
    const done = end();
    if (!done) return;
    dragged = true;
    setTimeout(() => {
      dragged = false;
    });
    const points = pointsIn(drawn.middles(), done.line, done.shape, drawn.along());
    const isMore = event.ctrlKey || event.metaKey || (event.shiftKey && !drawn.moves());
    if (points.length) chosen(points, { add: isMore || "several" in host.dataset, many: true });
  });
  function end() {
    const done = brush ? drag : null;
    brush?.remove();
    brush = drag = null;
    return done;
  }
  return () => dragged;
}

/**
 * Shows the line that is dragged: as the box between its ends, or as it runs.
 * @param {HTMLElement} brush
 * @param {HTMLElement} host
 * @param {Place[]} line
 */
function show(brush, host, line) {
  const box = host.getBoundingClientRect();
  const inside = line.map(({ x, y }) => ({ x: x - box.left + host.scrollLeft, y: y - box.top + host.scrollTop }));
  if (brush.className === "lasso") {
    brush.style.clipPath = `polygon(${inside.map(({ x, y }) => `${x}px ${y}px`).join(", ")})`;
    return;
  }
  const [first, last] = [inside[0], inside[inside.length - 1]];
  Object.assign(brush.style, {
    left: `${Math.min(first.x, last.x)}px`,
    top: `${Math.min(first.y, last.y)}px`,
    width: `${Math.abs(last.x - first.x)}px`,
    height: `${Math.abs(last.y - first.y)}px`,
  });
}
