// How a block looks and what a click on it does, in a dialog.
import { all } from "../lib/dom.js";
import { formData } from "../lib/forms.js";
import { postForHtml } from "../lib/http.js";
import { dialog, failed, sayWithin } from "../lib/page.js";

/** @returns {any} Methods of the editor. */
export function dressing() {
  return {
    async dress(block) {
      try {
        const html = await postForHtml(`${this.base}look/`, { definition: this.definition, block });
        const { element } = dialog(html, { label: "How this block looks" });
        const form = element.querySelector("form");
        form.addEventListener("change", ({ target }) => {
          for (const part of all(form, `[data-for="${/** @type {HTMLInputElement} */ (target).name}"]`))
            part.hidden = part.dataset.is !== /** @type {HTMLInputElement} */ (target).value;
        });
        form.addEventListener("submit", async (event) => {
          event.preventDefault();
          const refused = (problem) => sayWithin(form, problem);
          if (await this.edit({ edit: "set_look", block, ...formData(form) }, refused)) element.close();
        });
      } catch (error) {
        failed(error);
      }
    },
  };
}
