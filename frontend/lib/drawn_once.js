// A drawing that comes with its page.
import { sent } from "./dom.js";
import { draw } from "./draw.js";

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
