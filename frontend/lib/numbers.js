// Numbers in texts: the server works them out, this puts them where they stand.
import { all } from "./dom.js";

/**
 * @param {HTMLElement | null} block
 * @param {string[]} numbers
 */
export function showNumbers(block, numbers) {
  if (!block) return;
  for (const place of all(block, "[data-number]")) place.textContent = numbers[Number(place.dataset.number)] ?? "–";
}
