// A page as a telephone shows it, beside the editor: the true page in a frame 390 px wide, and the order of its blocks.
import { near } from "../lib/dom.js";
import { postForHtml } from "../lib/http.js";
import { failed } from "../lib/page.js";

/** @returns {any} Methods of the editor. */
export function telephone() {
  return {
    onTelephone: false,

    async showTelephone() {
      this.onTelephone = !this.onTelephone;
      if (this.onTelephone) await this.fillTelephone();
      else this.$refs.frame.removeAttribute("src");
    },
    // The list from the definition as it is, the frame from the draft once it is saved.
    async fillTelephone() {
      if (!this.onTelephone) return;
      try {
        const page = this.page.id;
        const focused = document.activeElement?.closest("[data-narrow-block]");
        const [id, act] = [focused?.getAttribute("data-narrow-block"), document.activeElement?.getAttributeNames()];
        this.$refs.narrow.innerHTML = await postForHtml(`${this.base}narrow/`, { definition: this.definition, page });
        const part = act?.find((name) => ["data-up", "data-down", "data-height", "data-shown"].includes(name));
        if (id && part) this.$refs.narrow.querySelector(`[data-narrow-block="${id}"] [${part}]`)?.focus();
        if (!(await this.flush())) return;
        this.$refs.frame.src = `${this.base}?${new URLSearchParams({ draft: "1", page, at: String(this.revision) })}`;
      } catch (error) {
        failed(error);
      }
    },
    narrowClicked(event) {
      const row = near(event, "[data-narrow-block]");
      if (!row) return;
      const { narrowBlock: block, place } = row.dataset;
      const step = near(event, "[data-up]") ? -1 : near(event, "[data-down]") ? 1 : 0;
      if (step) this.edit({ edit: "move_on_narrow", block, to: Number(place) + step });
    },
    narrowChanged(event) {
      const row = near(event, "[data-narrow-block]");
      if (!row) return;
      const field = (name) => /** @type {HTMLInputElement} */ (row.querySelector(`[data-${name}]`));
      const [height, shown] = [field("height").value, field("shown").checked];
      const block = row.dataset.narrowBlock;
      this.edit({ edit: "set_on_narrow", block, hidden: !shown, height: height ? Number(height) : null });
    },
    narrowAsUsual() {
      this.edit({ edit: "reset_narrow", page: this.page.id });
    },
  };
}
