// Colours that were chosen last, which the browser keeps, and the palette are offered wherever one is written.
import { fieldAt, made } from "./dom.js";

const KEY = "veduta-colours";
const MOST = 12;

/** @returns {string[]} */
function kept() {
  try {
    return JSON.parse(localStorage.getItem(KEY) ?? "[]");
  } catch {
    return [];
  }
}

/** @param {string} colour */
function remember(colour) {
  const colours = [colour, ...kept().filter((each) => each !== colour)].slice(0, MOST);
  try {
    localStorage.setItem(KEY, JSON.stringify(colours));
  } catch {
    // Without storage they last as long as the page.
  }
  offer(colours);
}

/** @returns {string[]} The colours for series that are in use, where the page draws with them. */
function palette() {
  const themes = document.getElementById("chart-themes")?.textContent;
  return themes ? JSON.parse(themes).light.range.category : [];
}

/** @param {string[]} colours */
function offer(colours) {
  const list = document.getElementById("recent-colours");
  list?.replaceChildren(...[...new Set([...colours, ...palette()])].map((value) => made("option", { value })));
}

export function watchColours() {
  offer(kept());
  document.addEventListener("change", (event) => {
    const box = fieldAt(event, "input[list=recent-colours], input[type=color]");
    if (box?.value.trim()) remember(box.value.trim());
  });
}
