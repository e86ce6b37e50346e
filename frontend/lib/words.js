// What stands around a drawing: its title, the texts below and above it, and its notes.
import { giveTones } from "./tones.js";

const SET = { middle: "text-center", right: "text-right" };
const SIZES = { small: "text-small", large: "text-large" };

/**
 * Shows a chart's title and the note below it as they are set to look.
 * @param {HTMLElement | null} title
 * @param {HTMLElement} note
 * @param {{ title: string, note: string, foot: string, title_look: { align: string, size: string, hidden: boolean } }} data
 */
export function showTexts(title, note, { title: words, note: more, foot: below, title_look: look }) {
  note.textContent = more;
  note.hidden = !more;
  const foot = /** @type {HTMLElement | null} */ (note.parentElement?.querySelector(".chart-foot"));
  if (foot) {
    foot.textContent = below;
    foot.hidden = !below;
  }
  if (title) title.textContent = words;
  title?.classList.toggle("visually-hidden", look.hidden);
  for (const element of title ? [title, note] : [note]) {
    for (const [value, name] of Object.entries(SET)) element.classList.toggle(name, look.align === value);
    for (const [value, name] of Object.entries(SIZES)) element.classList.toggle(name, look.size === value);
  }
}

/**
 * @param {HTMLElement} element
 * @param {string[]} notes
 */
export function showNotes(element, notes, key = "") {
  element.innerHTML = key;
  element.append(notes.join(" "));
  giveTones(element);
}
