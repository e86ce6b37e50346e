// A page on paper: its sheets' ends as lines on the board, and ways out where one would cut a block.
import { made, near } from "../lib/dom.js";
import { formData } from "../lib/forms.js";
import { post } from "../lib/http.js";
import { failed } from "../lib/page.js";
import { updateContent } from "../lib/update.js";
import { ROW } from "./grid.js";

/** @returns {any} Methods of the editor. */
export function paper() {
  return {
    onPaper: false,

    async showPaper() {
      this.onPaper = !this.onPaper;
      await this.fillPaper();
    },
    async fillPaper() {
      for (const line of this.$refs.board.querySelectorAll(".sheet-end")) line.remove();
      if (!this.onPaper) return;
      try {
        const asked = { definition: this.definition, page: this.page.id };
        const { html, begins } = await post(`${this.base}paper/`, asked);
        updateContent(this.$refs.paper, html);
        for (const [place, row] of begins.entries()) {
          const line = made("div", { className: "sheet-end", textContent: `sheet ${place + 2}` });
          line.style.top = `${row * ROW}px`;
          this.$refs.board.append(line);
        }
      } catch (error) {
        failed(error);
      }
    },
    paperChanged(event) {
      const form = near(event, "form[data-paper]");
      if (form) this.edit({ edit: "set_paper", ...formData(/** @type {HTMLFormElement} */ (form)) });
    },
    paperClicked(event) {
      const button = near(event, "button");
      if (!button) return;
      const { breaks, goesOn, usual, shrink, w, h } = button.dataset;
      if (breaks) this.edit({ edit: "set_on_paper", block: breaks, breaks: true });
      else if (goesOn) this.edit({ edit: "set_on_paper", block: goesOn, goes_on: true });
      else if (usual) this.edit({ edit: "set_on_paper", block: usual });
      else if (shrink) this.edit({ edit: "size_block", block: shrink, w: Number(w), h: Number(h) });
    },
  };
}
