// Fills with patterns, by which series are told apart where there are no colours, as in print.
import { all } from "./dom.js";

/**
 * @typedef {{ of: string[], on: string[] }} Patterns
 * The series that are filled so, by the names that their marks have, and the colours of texts that stand on them.
 */

const SIDE = 8;
/** What is drawn on a series' colour, on a tile of 8 by 8; the first one is plain. */
const DESIGNS = [
  "",
  "M-2,2 l4,-4 M0,8 l8,-8 M6,10 l4,-4",
  "M1.5,2 h1 M5.5,6 h1",
  "M0,4 h8",
  "M-2,6 l4,4 M0,0 l8,8 M6,-2 l4,4",
  "M4,0 v8",
  "M0,4 h8 M4,0 v8",
  "M0,0 l8,8 M0,8 l8,-8",
];
const DOTS = 2;

/**
 * The name of the series that an element of a drawing, or an entry of its legend, is of.
 * @param {any} element
 * @returns {string | undefined}
 */
function seriesOf(element) {
  const datum = element.__data__?.datum;
  return element.closest(".role-legend") ? datum?.value : datum?.paint;
}

/**
 * @param {string} tag
 * @param {Record<string, string | number>} attributes
 */
function svgElement(tag, attributes) {
  const element = document.createElementNS("http://www.w3.org/2000/svg", tag);
  for (const [name, value] of Object.entries(attributes)) element.setAttribute(name, String(value));
  return element;
}

/**
 * The pattern of the so manieth series in a colour, made once for a drawing. Returns its id.
 * @param {SVGSVGElement} svg
 * @param {number} number
 * @param {string} colour
 */
function patternIn(svg, number, colour) {
  svg.dataset.patterns ??= crypto.getRandomValues(new Uint32Array(1))[0].toString(36);
  const id = `pattern-${svg.dataset.patterns}-${number}-${colour.replace(/\W/g, "")}`;
  if (svg.querySelector(`[id="${id}"]`)) return id;
  const pattern = svgElement("pattern", { id, width: SIDE, height: SIDE, patternUnits: "userSpaceOnUse" });
  const width = number % DESIGNS.length === DOTS ? 2.2 : 1.3;
  pattern.append(
    svgElement("rect", { width: SIDE, height: SIDE, fill: colour }),
    svgElement("path", { d: DESIGNS[number % DESIGNS.length], class: "pattern-lines", "stroke-width": width }),
  );
  svg.prepend(pattern);
  return id;
}

/**
 * @param {SVGSVGElement} svg
 * @param {Patterns} patterns
 */
function fill(svg, patterns) {
  const colours = new Map();
  for (const element of all(svg, "path")) {
    const name = seriesOf(element) ?? "";
    const number = patterns.of.indexOf(name);
    const colour = element.getAttribute("fill") ?? "none";
    if (number < 1 || !/^(#|rgb)/.test(colour)) continue;
    colours.set(name, colour);
    const filled = `url("#${patternIn(svg, number, colour)}")`;
    if (element.style.fill !== filled) element.style.fill = filled;
  }
  for (const text of all(svg, "text")) {
    const colour = colours.get(seriesOf(text));
    if (!colour || !patterns.on.includes((text.getAttribute("fill") ?? "").toUpperCase())) continue;
    text.classList.add("on-pattern");
    text.style.stroke = colour;
  }
}

/**
 * Fills the marks of a drawing with patterns, and goes on to whenever they are drawn anew.
 * @param {HTMLElement} host
 * @param {Patterns | undefined} patterns
 */
export function patterned(host, patterns) {
  if (!patterns) return;
  for (const svg of /** @type {Iterable<SVGSVGElement>} */ (host.querySelectorAll("svg.marks"))) {
    fill(svg, patterns);
    new MutationObserver(() => fill(svg, patterns)).observe(svg, {
      subtree: true,
      childList: true,
      attributeFilter: ["fill", "d"],
    });
  }
}
