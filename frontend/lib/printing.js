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
  /** @param {string} width How wide what is printed is; "" as on the screen. */
  function lay(width) {
    if (!(board instanceof HTMLElement)) return;
    board.style.width = width;
    board.style.flex = width && "none";
  }
  addEventListener("beforeprint", () => {
    if (board instanceof HTMLElement) lay(`${board.dataset.sheetWidth}px`);
    refit();
    if (!isDark()) return;
    before = { theme: document.documentElement.dataset.theme };
    show("light");
  });
  addEventListener("afterprint", () => {
    lay("");
    refit();
    if (before) show(before.theme);
    before = null;
  });
}
