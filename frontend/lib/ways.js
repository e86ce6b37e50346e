// Where the marks of a chart lead: from their dimensions to finer ones.
import { itemAt } from "./draw.js";

/**
 * @typedef {{ position: number, to: object, into?: any[] | null }} Step
 * @typedef {{ step: Step, down: boolean, from: string, to: string }} Way
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
