// A button and the options it opens.
import { near } from "./lib/dom.js";
import { moveByArrows, placeUnder, shown } from "./lib/popover.js";

export const menu = () => ({
  open: false,
  async toggle() {
    this.open = !this.open;
    if (!this.open) return;
    await shown(this.$refs.list);
    placeUnder(this.$refs.list, this.$refs.opener, "bottom-end");
  },
  shut() {
    this.open = false;
  },
  choose(event) {
    if (near(event, "a, button")) this.shut();
  },
  async keys(event) {
    if (event.key === "Escape" && this.open) {
      event.stopPropagation();
      this.shut();
      this.$refs.opener.focus();
    } else if (event.key === "ArrowDown" && !this.open) {
      event.preventDefault();
      await this.toggle();
      this.$refs.list.querySelector("a, button")?.focus();
    } else if (this.open) moveByArrows(event, this.$root);
  },
});
