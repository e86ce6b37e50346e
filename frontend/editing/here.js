// What of a chart is other in one block only: listed and taken away here, changed in the workbench.
import { near } from "../lib/dom.js";
import { postForHtml } from "../lib/http.js";
import { dialog, failed } from "../lib/page.js";

/** @returns {any} Methods of the editor. */
export function here() {
  return {
    async hereOnly(block) {
      const listed = () => postForHtml(`${this.base}here/`, { definition: this.definition, block });
      try {
        const { element } = dialog(await listed(), { label: "Here only" });
        element.addEventListener("click", async (event) => {
          const drop = near(event, "[data-drop-own]");
          if (drop && (await this.edit({ edit: "drop_own", block, part: drop.dataset.dropOwn }))) {
            element.innerHTML = await listed();
            element.querySelector("button").focus();
          }
          if (near(event, "[data-change-here]")) await this.changeHere(block);
        });
      } catch (error) {
        failed(error);
      }
    },
    async changeHere(block) {
      await this.made();
      if (await this.flush()) location.href = `${this.base}blocks/${block}/here/`;
    },
  };
}
