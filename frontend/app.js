// What every page loads: Alpine, the shared behaviour of buttons and lists, uploads, the dataset page.
import focus from "@alpinejs/focus";
import Alpine from "@alpinejs/csp";
import { dataset, datasetCheck, refreshProgress, sender, uploader } from "./data.js";
import { modelFormula } from "./model.js";
import { dialog, failed, filterOptions, postAndOfferUndo, toast } from "./lib/page.js";

Alpine.plugin(focus);
Alpine.data("menu", () => ({
  open: false,
  toggle() { this.open = !this.open; },
  close() { this.open = false; },
}));
Alpine.data("uploader", uploader);
Alpine.data("datasetCheck", datasetCheck);
Alpine.data("refreshProgress", refreshProgress);
Alpine.data("sender", sender);
Alpine.data("often", () => ({
  // Shows the settings that belong to how often.
  changed(event) {
    for (const part of document.querySelectorAll("[data-often]")) part.hidden = part.dataset.often !== event.target.value;
  },
}));
Alpine.data("dataset", dataset);
Alpine.data("modelFormula", modelFormula);

document.addEventListener("click", (event) => {
  const button = event.target.closest("[data-post]");
  if (button) {
    event.preventDefault();
    postAndOfferUndo(button.dataset.post, () => {
      if (button.dataset.then) location.href = button.dataset.then;
      else button.closest("[data-item]")?.remove();
    });
  }
  const themed = event.target.closest("[data-set-theme]");
  if (themed) {
    const dark = getComputedStyle(document.documentElement).colorScheme === "dark"
      || (!document.documentElement.dataset.theme && matchMedia("(prefers-color-scheme: dark)").matches);
    const theme = dark ? "light" : "dark";
    document.documentElement.dataset.theme = theme;
    document.cookie = `theme=${theme}; path=/; max-age=31536000; samesite=lax`;
    document.dispatchEvent(new CustomEvent("veduta:theme"));
  }
});
document.addEventListener("input", (event) => {
  if (event.target.matches("[data-filters]")) filterOptions(event.target);
});
// “No limit” and values of a parameter exclude each other.
document.addEventListener("change", (event) => {
  const form = event.target.closest("form");
  const none = form?.querySelector("[data-no-limit]");
  if (!none) return;
  if (event.target === none) for (const each of form.querySelectorAll("[data-list]:checked")) each.checked = false;
  else none.checked = false;
}, true);
document.addEventListener("change", (event) => {
  if (event.target.matches("select[data-submits]")) event.target.form.requestSubmit();
});
document.addEventListener("keydown", (event) => {
  if (event.key === "/" && !event.target.closest("input, textarea, select, [contenteditable]")) {
    event.preventDefault();
    document.getElementById("find")?.focus();
  }
});

let asking = false;
document.addEventListener("veduta:signed-out", async () => {
  if (asking) return;
  asking = true;
  const html = document.getElementById("signed-out").innerHTML;
  await dialog(html, { label: "You are signed out" }).closed;
  asking = false;
  document.dispatchEvent(new CustomEvent("veduta:try-again"));
});

for (const message of document.querySelectorAll("#messages [data-message]")) toast(message.dataset.message);
window.addEventListener("unhandledrejection", (event) => failed(event.reason));

window.Alpine = Alpine;
Alpine.start();
