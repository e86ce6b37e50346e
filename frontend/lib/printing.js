// On paper everything is light, whatever the theme is.
import { refit } from "./draw.js";
import { isDark } from "./ready.js";

/** @param {string | undefined} theme The light one, or what was set before. */
function show(theme) {
  if (theme) document.documentElement.dataset.theme = theme;
  else delete document.documentElement.dataset.theme;
  document.dispatchEvent(new CustomEvent("veduta:theme"));
}

/** Draws in the light theme, and as wide as the paper, for as long as a page is printed. */
export function watchPrinting() {
  /** @type {{ theme: string | undefined } | null} */
  let before = null;
  const board = document.querySelector("[data-sheet-width]");
  addEventListener("beforeprint", () => {
    if (board instanceof HTMLElement) board.style.width = `${board.dataset.sheetWidth}px`;
    refit();
    if (!isDark()) return;
    before = { theme: document.documentElement.dataset.theme };
    show("light");
  });
  addEventListener("afterprint", () => {
    if (board instanceof HTMLElement) board.style.width = "";
    refit();
    if (before) show(before.theme);
    before = null;
  });
}
