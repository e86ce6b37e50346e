// What every page loads: Alpine, the shared behaviour of buttons and lists, uploads, the dataset page.
import focus from "@alpinejs/focus";
import Alpine from "@alpinejs/csp";
import { dataset, datasetCheck, refreshProgress, palette, sender, uploader } from "./data.js";
import { menu } from "./menu.js";
import { modelFormula } from "./model.js";
import { all, fieldAt, near } from "./lib/dom.js";
import { watchCells } from "./lib/cell_range.js";
import { watchContext } from "./lib/context.js";
import { watchForms } from "./lib/plain_forms.js";
import { watchLists } from "./lib/lists.js";
import { dialog, failed, toast } from "./lib/page.js";
import { filterOptions, keepTabInside } from "./lib/popover.js";
import { watchColours } from "./lib/recent_colours.js";
import { watchRoving } from "./lib/roving.js";
import { watchScrolling } from "./lib/scrolling.js";
import { giveTones } from "./lib/tones.js";
import { watchBoxes } from "./lib/understood.js";
import { watchWidths } from "./lib/widths.js";

Alpine.plugin(focus);
Alpine.data("menu", menu);
Alpine.data("uploader", uploader);
Alpine.data("datasetCheck", datasetCheck);
Alpine.data("refreshProgress", refreshProgress);
Alpine.data("sender", sender);
Alpine.data("palette", palette);
Alpine.data("often", () => ({
  // Shows the settings that belong to how often.
  changed(event) {
    for (const part of all(document, "[data-often]")) part.hidden = part.dataset.often !== event.target.value;
  },
}));
Alpine.data("dataset", dataset);
Alpine.data("modelFormula", modelFormula);

document.addEventListener("click", (event) => {
  const themed = near(event, "[data-set-theme]");
  if (themed) {
    const dark =
      getComputedStyle(document.documentElement).colorScheme === "dark" ||
      (!document.documentElement.dataset.theme && matchMedia("(prefers-color-scheme: dark)").matches);
    const theme = dark ? "light" : "dark";
    document.documentElement.dataset.theme = theme;
    document.cookie = `theme=${theme}; path=/; max-age=31536000; samesite=lax`;
    document.dispatchEvent(new CustomEvent("veduta:theme"));
  }
});
watchContext();
watchLists();
watchForms();
watchBoxes();
watchColours();
document.addEventListener("input", (event) => {
  const box = fieldAt(event, "[data-filters]");
  if (box) filterOptions(box);
});
// “No limit” and values of a parameter exclude each other.
document.addEventListener(
  "change",
  (event) => {
    const form = near(event, "form");
    const none = /** @type {HTMLInputElement | null} */ (form?.querySelector("[data-no-limit]"));
    if (!none) return;
    if (event.target === none)
      for (const each of all(form, "[data-list]:checked")) /** @type {HTMLInputElement} */ (each).checked = false;
    else none.checked = false;
  },
  true,
);
document.addEventListener("change", (event) => {
  fieldAt(event, "select[data-submits]")?.form.requestSubmit();
});
document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey || near(event, "input, textarea, select, [contenteditable]"))
    return;
  const find = document.getElementById("find");
  if (event.key === "/" && find) find.focus();
  else if (event.key === "n" && find?.dataset.newChart) location.href = find.dataset.newChart;
  else if (event.key === "?" && document.getElementById("keys")) showKeys();
  else return;
  event.preventDefault();
});
document.addEventListener("keydown", (event) => {
  const popover = event.key === "Tab" && near(event, ".popover");
  if (popover) keepTabInside(event, popover);
});
document.addEventListener("keydown", (event) => {
  const list = event.key === "Enter" && fieldAt(event, "select[data-enter-submits]");
  if (list) list.form.requestSubmit();
});
function showKeys() {
  if (!document.querySelector("dialog")) dialog(document.getElementById("keys").innerHTML, { label: "Keys" });
}
document.addEventListener("click", (event) => {
  if (near(event, "[data-show-keys]")) showKeys();
});

// Arrow keys go between tabs, which shows what they stand for.
document.addEventListener("keydown", (event) => {
  const tab = near(event, "[role=tab]");
  const step = { ArrowRight: 1, ArrowLeft: -1 }[event.key];
  if (!tab || !step) return;
  const tabs = all(tab.closest("[role=tablist]"), "[role=tab]");
  const next = tabs.at((tabs.indexOf(tab) + step) % tabs.length);
  event.preventDefault();
  next.focus();
  next.click();
});

let asking = false;
document.addEventListener("veduta:signed-out", async () => {
  if (asking) return;
  asking = true;
  const html = document.getElementById("signed-out").innerHTML;
  const answer = await dialog(html, { label: "You are signed out" }).closed;
  asking = false;
  document.dispatchEvent(new CustomEvent(answer === "again" ? "veduta:try-again" : "veduta:stays-out"));
});

for (const message of all(document, "#messages [data-message]")) toast(message.dataset.message);
window.addEventListener("unhandledrejection", (event) => failed(event.reason));

// All modules of the page have run by then, so that Alpine knows the page's own parts.
matchMedia("(prefers-color-scheme: dark)").addEventListener("change", () => {
  if (!document.documentElement.dataset.theme) document.dispatchEvent(new CustomEvent("veduta:theme"));
});
document.addEventListener("DOMContentLoaded", () => {
  giveTones(document.body);
  Alpine.start();
  watchRoving();
  watchScrolling();
  watchWidths();
  watchCells();
});
