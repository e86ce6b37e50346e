// A drawing that comes with its page.
import { all, byId, sent } from "./dom.js";
import { draw, pictureOf } from "./draw.js";

/** A drawing of which a picture can be kept: its form's field takes it, where there is one. */
export function pictured() {
  return {
    /** @this {any} */
    async init() {
      await draw(this.$root, sent(this.$root.dataset.from));
      const picture = await pictureOf(this.$root);
      /** @type {HTMLInputElement} */ (byId("template-picture")).value = picture;
      for (const offer of all(document, "[data-picture-offer]")) offer.hidden = !picture;
    },
  };
}

export function drawnOnce() {
  return {
    /** @this {any} */
    init() {
      const answer = sent(this.$root.dataset.from);
      const again = () => draw(this.$root, answer);
      document.addEventListener("veduta:theme", again);
      again();
    },
  };
}
