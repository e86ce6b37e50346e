// How a block looks and what a click on it does, and what lies behind a page, in dialogs.
import { all } from "../lib/dom.js";
import { formData } from "../lib/forms.js";
import { postFile, postForHtml } from "../lib/http.js";
import { dialog, failed, sayWithin } from "../lib/page.js";

// What of a form of grounds can be seen, by what is chosen in it.
function showParts(form) {
  const apart = /** @type {HTMLInputElement} */ (form.querySelector("[data-apart]"));
  /** @type {HTMLElement} */ (form.querySelector("[data-on-narrow]")).hidden = !apart.checked;
  const parts = all(form, "[data-picture-parts]");
  for (const [place, choice] of all(form, "[data-picture-choice]").entries())
    parts[place].hidden = !(/** @type {HTMLSelectElement} */ (choice).value);
}

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
    async setGround() {
      const page = this.page.id;
      try {
        const html = await postForHtml(`${this.base}ground/`, { definition: this.definition, page });
        const { element } = dialog(html, { label: "Ground and distances" });
        const form = element.querySelector("form");
        form.addEventListener("change", ({ target }) => {
          const { files } = /** @type {HTMLInputElement} */ (target);
          if (files?.length) this.bringIn(form, files[0]);
          else showParts(form);
        });
        form.addEventListener("submit", async (event) => {
          event.preventDefault();
          const { apart, on_narrow, ...said } = formData(form);
          const change = { edit: "set_ground", page, ...said, on_narrow: apart ? on_narrow : null };
          const refused = (problem) => sayWithin(form, problem);
          if (await this.edit(change, refused)) element.close();
        });
      } catch (error) {
        failed(error);
      }
    },
    // A picture from a file becomes a choice, chosen where none is yet.
    async bringIn(form, file) {
      try {
        const { name } = await postFile(this.$root.dataset.pictures, file);
        for (const choice of /** @type {HTMLSelectElement[]} */ (all(form, "[data-picture-choice]"))) {
          choice.append(new Option(name, name));
          if (!choice.value) choice.value = name;
        }
        showParts(form);
      } catch (problem) {
        sayWithin(form, problem);
      }
    },
  };
}
