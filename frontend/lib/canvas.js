// Drawings of very many marks, which are painted instead of being elements: what is pointed at, and going from mark to
// mark with the keyboard.
import { made } from "./dom.js";

/** So many marks are elements at most. */
export const MOST_ELEMENTS = 2_500;

/**
 * @typedef {{ item: any, x1: number, y1: number, x2: number, y2: number }} Painted
 * A mark with its edges, in pixels from the corner of the canvas.
 */

/** @type {WeakMap<Element, { item: any, at: number, view: import("vega").View }>} */
const canvases = new WeakMap();

/**
 * The mark that is pointed at, or has the keyboard, in a painted drawing.
 * @param {EventTarget | null} target
 */
export const paintedItem = (target) => (target instanceof Element && canvases.get(target)?.item) || null;

/** @param {HTMLElement} host */
export const canvasOf = (host) => /** @type {HTMLCanvasElement | null} */ (host.querySelector("canvas"));

/**
 * Keeps what is pointed at, and lets the canvas be reached.
 * @param {HTMLElement} host
 * @param {import("vega").View} view
 * @param {string} sentence
 */
export function watchCanvas(host, view, sentence) {
  const canvas = canvasOf(host);
  if (!canvas) return;
  const state = { item: /** @type {any} */ (null), at: -1, view };
  canvases.set(canvas, state);
  canvas.tabIndex = 0;
  canvas.classList.add("reachable");
  canvas.setAttribute("role", "group");
  canvas.setAttribute("aria-label", `${sentence} Arrow keys go from mark to mark.`);
  const point = (/** @type {any} */ _, /** @type {any} */ item) => {
    state.item = item?.datum?.point ? item : null;
    canvas.style.cursor = state.item ? "pointer" : "";
  };
  for (const name of /** @type {const} */ (["pointermove", "pointerdown"])) view.addEventListener(name, point);
}

/**
 * All marks of a painted drawing, in the order in which they are read.
 * @param {HTMLElement} host
 * @returns {Painted[]}
 */
export function paintedMarks(host) {
  const canvas = canvasOf(host);
  const state = canvas && canvases.get(canvas);
  if (!state) return [];
  const [left, top] = state.view.origin();
  /** @type {Painted[]} */
  const marks = [];
  collect(/** @type {any} */ (state.view.scenegraph()).root, left, top, marks);
  return marks;
}

/**
 * @param {any} mark
 * @param {number} left
 * @param {number} top
 * @param {Painted[]} marks
 */
function collect(mark, left, top, marks) {
  for (const item of mark.items ?? []) {
    if (mark.marktype === "group") {
      for (const inside of item.items ?? []) collect(inside, left + (item.x ?? 0), top + (item.y ?? 0), marks);
    } else if (item.datum?.point && mark.marktype !== "text") {
      const { x1, y1, x2, y2 } = item.bounds;
      marks.push({ item, x1: x1 + left, y1: y1 + top, x2: x2 + left, y2: y2 + top });
    }
  }
}

/**
 * Goes to the next mark, or back: it is framed and said.
 * @param {HTMLElement} host
 * @param {number} step
 */
export function goToPainted(host, step) {
  const canvas = canvasOf(host);
  const state = canvas && canvases.get(canvas);
  const marks = paintedMarks(host);
  if (!canvas || !state || !marks.length) return;
  state.at = Math.min(marks.length - 1, Math.max(0, state.at + step));
  const mark = marks[state.at];
  state.item = mark.item;
  const { ring, words } = signsOf(host, canvas);
  ring.style.left = `${mark.x1 + canvas.offsetLeft - 3}px`;
  ring.style.top = `${mark.y1 + canvas.offsetTop - 3}px`;
  ring.style.width = `${mark.x2 - mark.x1 + 6}px`;
  ring.style.height = `${mark.y2 - mark.y1 + 6}px`;
  words.textContent = mark.item.datum.said ?? "";
}

/**
 * The frame around the mark that has the keyboard, and what says it aloud.
 * @param {HTMLElement} host
 * @param {HTMLCanvasElement} canvas
 */
function signsOf(host, canvas) {
  const there = /** @type {HTMLElement | null} */ (host.querySelector(".mark-frame"));
  const ring = there ?? host.appendChild(made("div", { className: "mark-frame" }));
  const said = /** @type {HTMLElement | null} */ (host.querySelector(".mark-said"));
  const words = said ?? host.appendChild(made("div", { className: "mark-said sr-only" }));
  words.setAttribute("role", "status");
  if (!there) canvas.addEventListener("blur", () => ring.remove());
  return { ring, words };
}
