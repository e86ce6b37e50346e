// The parts of a drawing: where they stand, so that they can be pointed at, framed, and opened.
import { all, made } from "./dom.js";

/**
 * @typedef {{ name: string, title: string, of_values: boolean, side: string }} Part
 */

/**
 * @param {HTMLElement} host
 * @param {Part} part
 * @returns {Element | null} What is drawn of a part.
 */
export function elementOf(host, part) {
  if (part.name === "whole" || part.name === "table") return host;
  if (part.name === "title" || part.name === "labels") return null; // it stands outside; they stand everywhere
  if (part.name === "legend") return host.querySelector(".role-legend");
  if (part.name === "series") return host.querySelector(".role-legend") ?? host.querySelector("svg .role-mark");
  const svg = host.querySelector("svg")?.getBoundingClientRect();
  if (!svg) return null;
  const labelled = all(host, ".role-axis").filter((axis) => axis.querySelector("text"));
  const inPanels = Boolean(host.querySelector(".panels"));
  return labelled.find((axis) => standsAt(axis.getBoundingClientRect(), svg, part.side, inPanels)) ?? null;
}

/**
 * Whether a part takes up so much of a drawing that there is no room beside it.
 * @param {Element} element
 * @param {HTMLElement} host
 */
export function fills(element, host) {
  const box = element.getBoundingClientRect();
  return box.height > host.offsetHeight / 2 && box.width > host.offsetWidth / 2;
}

/**
 * Whether an axis stands at a side of the drawing; those of panels, which stand anywhere, whether they go that way.
 * @param {DOMRect} axis
 * @param {DOMRect} drawing
 * @param {string} side
 * @param {boolean} inPanels
 */
function standsAt(axis, drawing, side, inPanels) {
  const lies = axis.width > axis.height;
  if (lies !== (side === "bottom" || side === "top")) return false;
  const isFar = lies
    ? axis.top + axis.height / 2 > drawing.top + drawing.height / 2
    : axis.left + axis.width / 2 > drawing.left + drawing.width / 2;
  return inPanels || isFar === (side === "bottom" || side === "right");
}

/**
 * The part whose labels or title an event happened at. Texts do not take the pointer themselves.
 * @param {HTMLElement} host
 * @param {Part[]} parts
 * @param {MouseEvent} event
 */
export function partAt(host, parts, event) {
  return parts.find((part) => {
    const box = part.name === "whole" ? null : elementOf(host, part)?.getBoundingClientRect();
    if (!box) return false;
    const { clientX: x, clientY: y } = event;
    return x >= box.left && x <= box.right && y >= box.top && y <= box.bottom;
  });
}

/**
 * Frames a part, or none.
 * @param {HTMLElement} host
 * @param {Element | null} element
 */
export function framed(host, element) {
  host.querySelector(".part-frame")?.remove();
  if (!element) return;
  const [box, around] = [element.getBoundingClientRect(), host.getBoundingClientRect()];
  const sign = host.appendChild(made("div", { className: "part-frame" }));
  Object.assign(sign.style, {
    left: `${Math.max(0, box.left - around.left - 3) + host.scrollLeft}px`,
    top: `${Math.max(0, box.top - around.top - 3) + host.scrollTop}px`,
    width: `${Math.min(box.width + 6, around.width)}px`,
    height: `${Math.min(box.height + 6, around.height)}px`,
  });
}
