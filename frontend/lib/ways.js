// Where the marks of a chart lead: from their dimensions to finer ones.
import { all, made, near } from "./dom.js";
import { itemAt } from "./draw.js";

/**
 * @typedef {{ position: number, to: object, into?: any[] | null, unfold?: boolean }} Step
 * @typedef {{ step: Step, down: boolean, unfolds: boolean, from: string, to: string }} Way
 */

/**
 * The step into a value of a mark.
 * @param {Step} step
 * @param {any[]} point
 * @returns {Step}
 */
export const into = (step, point) => ({ ...step, into: [point[step.position]] });

/**
 * What a mark is called along a dimension: its value, as its tip says it.
 * @param {Event} event
 * @param {string} dimension
 */
function wordsAt(event, dimension) {
  const tip = /** @type {string[][]} */ (itemAt(event)?.datum.tip ?? []);
  const line = tip.find(([heading]) => heading.toLowerCase() === dimension.toLowerCase());
  return line ? line[1] : `this ${dimension}`;
}

/**
 * What a mark or a cell says of itself.
 * @param {Event} event
 */
export const saidAt = (event) =>
  /** @type {string | undefined} */ (itemAt(event)?.datum.said) ??
  near(event, "[data-point]")?.textContent?.trim() ??
  "";

/**
 * The ways down from a mark, as choices.
 * @param {Way[]} ways
 * @param {any[]} point
 * @param {Event} event
 * @param {(step: Step) => void} take
 */
export function waysInto(ways, point, event, take) {
  return ways
    .filter(({ down, step }) => down && step.position < point.length)
    .map(({ step, from, to }) => ({
      label: `Into ${wordsAt(event, from)}, by ${to}`,
      run: () => take(into(step, point)),
    }));
}

/**
 * Puts a button before the rows of a table that can be unfolded, which says of which value it is.
 * @param {HTMLElement} place
 * @param {Way[]} ways
 */
export function offerUnfolding(place, ways) {
  const way = ways.find(({ unfolds }) => unfolds);
  if (!way) return;
  for (const row of all(place, "tbody tr:not([data-depth])")) {
    const point = JSON.parse(/** @type {HTMLElement} */ (row.querySelector("[data-point]"))?.dataset.point ?? "null");
    const heading = row.children[way.step.position];
    if (!point || !heading) continue;
    const button = made("button", { type: "button", className: "unfold-button", textContent: "▸" });
    button.dataset.unfold = JSON.stringify(point.slice(0, way.step.position + 1));
    button.setAttribute("aria-label", `Unfold ${heading.textContent?.trim()}, by ${way.to}`);
    button.title = `Unfold by ${way.to}`;
    heading.prepend(button);
  }
}
