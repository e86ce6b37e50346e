// Colours that people have chosen, given to what shows them: each names one for the light and one for the dark theme.
import { all } from "./dom.js";

const PARTS = { ground: "--ground", ink: "--ink", fill: "--fill" };

/**
 * Gives grounds and texts their colours, which are words in data-ground and data-ink; and bars theirs.
 * @param {HTMLElement} root
 */
export function giveTones(root) {
  for (const [name, property] of Object.entries(PARTS)) {
    for (const element of all(root, `[data-${name}]`)) {
      const [light, dark] = (element.dataset[name] ?? "").split(" ");
      element.style.setProperty(property, `light-dark(${light}, ${dark})`);
    }
  }
}
