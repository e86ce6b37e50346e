// Colours that were chosen last are offered wherever one is written. The browser keeps them.
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

/** @param {string[]} colours */
function offer(colours) {
  const list = document.getElementById("recent-colours");
  list?.replaceChildren(...colours.map((value) => made("option", { value })));
}

export function watchColours() {
  offer(kept());
  document.addEventListener("change", (event) => {
    const box = fieldAt(event, "input[list=recent-colours], input[type=color]");
    if (box?.value.trim()) remember(box.value.trim());
  });
}
