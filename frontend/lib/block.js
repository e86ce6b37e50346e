// What stands around the drawing of a block: its texts and its notes, for who reads and who makes it.
import { showNotes, showTexts } from "./words.js";

/**
 * @param {HTMLElement} block
 * @param {any} data
 */
export function showWords(block, data) {
  const note = /** @type {HTMLElement} */ (block.querySelector(".chart-note"));
  showTexts(block.querySelector(".block-title"), note, data);
  const notes = [...data.notes];
  if (data.not_followed.length) notes.push(`Does not follow ${data.not_followed.join(", ")}: it has no such field.`);
  showNotes(/** @type {HTMLElement} */ (block.querySelector(".note")), notes, data.key);
  block.classList.toggle("is-figure", Boolean(data.figures));
}
