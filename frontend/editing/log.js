// The log of edits: what was done by whom, and earlier states brought back. Part of the dashboard editor.
import { all, made, near } from "../lib/dom.js";
import { getHtml, getJson } from "../lib/http.js";
import { dialog, failed, toast } from "../lib/page.js";

/** @returns {any} Methods of the editor. */
export function log() {
  return {
    async showLog() {
      try {
        await this.made();
        await this.flush();
        const { element } = dialog(await getHtml(`${this.base}draft/log/`), { label: "Log of edits" });
        element.addEventListener("click", (event) => {
          const more = near(event, "[data-log]");
          const state = near(event, "[data-bring-back]");
          if (more) this.showMoreOfLog(more);
          if (state) this.bringBack(state.dataset.bringBack, element);
        });
      } catch (error) {
        failed(error);
      }
    },
    // In the place of the button that asks for it.
    async showMoreOfLog(button) {
      try {
        const part = made("div", { className: "log-part" });
        part.innerHTML = await getHtml(`${this.base}draft/log/?${button.dataset.log}`);
        button.replaceWith(part);
        all(part, "a, button")[0]?.focus();
      } catch (error) {
        failed(error);
      }
    },
    async bringBack(number, element) {
      try {
        const state = await getJson(`${this.base}draft/states/${number}/`);
        element.close();
        await this.inTurn(() => this.take(state));
        toast("The draft is as it was then.", { label: "Undo", run: () => this.undo() });
      } catch (error) {
        failed(error);
      }
    },
  };
}
