// The log of edits: what was done by whom, and earlier states brought back.
import { all, made, near } from "./dom.js";
import { getHtml, getJson } from "./http.js";
import { dialog, failed } from "./page.js";

/**
 * @param {string} base The address of what several people change.
 * @param {(state: any) => void} bringBack Takes an earlier state.
 */
export async function showLog(base, bringBack) {
  try {
    const { element } = dialog(await getHtml(`${base}draft/log/`), { label: "Log of edits" });
    element.addEventListener("click", async (event) => {
      const more = near(event, "[data-log]");
      const state = near(event, "[data-bring-back]");
      try {
        if (more) await showMore(base, more);
        if (!state) return;
        const kept = await getJson(`${base}draft/states/${state.dataset.bringBack}/`);
        element.close();
        bringBack(kept);
      } catch (error) {
        failed(error);
      }
    });
  } catch (error) {
    failed(error);
  }
}

/**
 * In the place of the button that asks for it.
 * @param {string} base
 * @param {HTMLElement} button
 */
async function showMore(base, button) {
  const part = made("div");
  part.innerHTML = await getHtml(`${base}draft/log/?${button.dataset.log}`);
  button.replaceWith(part);
  all(part, "a, button")[0]?.focus();
}
