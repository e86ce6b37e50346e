// Publishing: what it changes for readers is shown first, with charts as they are and as they will be.
import { all } from "../lib/dom.js";
import { draw } from "../lib/draw.js";
import { showTexts } from "../lib/words.js";
import { formData } from "../lib/forms.js";
import { getHtml, getJson, post } from "../lib/http.js";
import { dialog, failed, sayWithin } from "../lib/page.js";

/** @returns {any} Methods of the editor. */
export function publishing() {
  return {
    async publish() {
      try {
        await this.made();
        if (!(await this.flush())) return;
        const html = await getHtml(`${this.base}before-publishing/`);
        const { element } = dialog(html, { label: "Publish", wide: html.includes("small-picture") });
        const form = element.querySelector("form");
        form.addEventListener("submit", async (event) => {
          event.preventDefault();
          try {
            location.href = (await post(`${this.base}publish/`, formData(form))).address;
          } catch (problem) {
            sayWithin(form, problem);
          }
        });
        form.querySelector("button").focus();
        for (const host of all(element, "[data-now]")) this.drawSmall(host, `${this.base}blocks/${host.dataset.now}/`);
        for (const host of all(element, "[data-then]"))
          this.drawSmall(host, `${this.base}blocks/${host.dataset.then}/?draft=1`);
      } catch (error) {
        failed(error);
      }
    },
    async drawSmall(host, address) {
      try {
        const data = await getJson(address);
        showTexts(host.parentElement.querySelector(".block-title"), host.previousElementSibling, data);
        await draw(host, data);
      } catch (error) {
        host.textContent = error.message;
      }
    },
  };
}
