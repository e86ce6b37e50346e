// Parts of the drawing: a click on one, or choosing it from their list, opens its settings. Part of the workbench.
import { offer } from "./lib/context.js";
import { made, near } from "./lib/dom.js";
import { pointAt } from "./lib/draw.js";
import { elementOf, framed, partAt } from "./lib/parts.js";

/**
 * @param {() => import("./lib/parts.js").Part[]} parts Those of the drawing that is shown.
 * @returns {any} Methods of the workbench.
 */
export function drawingParts(parts) {
  return {
    watchParts() {
      const picture = this.$refs.picture;
      picture.addEventListener("click", (event) => {
        const part = !pointAt(event) && partAt(picture, this.axes(), event);
        if (part) this.openPart(part);
      });
      picture.addEventListener("pointermove", (event) => {
        const part = event.buttons || pointAt(event) ? null : partAt(picture, this.axes(), event);
        framed(picture, part ? elementOf(picture, part) : null);
        if (part) picture.style.cursor = "pointer";
      });
      picture.addEventListener("pointerleave", () => framed(picture, null));
      offer((event) => {
        const pointed = /** @type {MouseEvent} */ (event);
        const part = near(event, "[x-ref=picture]") && partAt(picture, this.parts(), pointed);
        return part ? [{ label: "How it looks", run: () => this.openPart(part) }] : null;
      });
    },
    parts,
    // A click on an entry of the legend stands for its marks, so that only axes open by a click.
    axes() {
      return this.parts().filter((part) => part.side);
    },
    openPart({ name, of_values: ofValues }) {
      this.openPopover({ clause: "look", index: 0, field: name, way: ofValues ? "values" : "names" });
    },
    partOption(part) {
      const option = made("button", { type: "button", className: "option", textContent: part.title });
      option.addEventListener("focus", () => framed(this.$refs.picture, elementOf(this.$refs.picture, part)));
      option.addEventListener("click", () => this.openPart(part));
      return option;
    },
  };
}
