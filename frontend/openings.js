// What else a new chart could begin as. Part of the workbench.
import { made, near } from "./lib/dom.js";
import { draw } from "./lib/draw.js";
import { getJson } from "./lib/http.js";

/**
 * @param {() => boolean} isEdited Whether the chart has been edited, and is not new any more.
 * @returns {any} Methods of the workbench.
 */
export function openings(isEdited) {
  /** @type {any[]} */
  let offered = [];

  return {
    // What else a new chart could begin as, in small pictures, until it is edited.
    async offerOpenings() {
      try {
        offered = (await getJson(`${this.base}openings/`)).openings;
      } catch {
        return; // the chart itself is there
      }
      const place = this.$refs.openings;
      if (isEdited() || !offered.length) return;
      place.hidden = false;
      for (const [index, opening] of offered.entries()) {
        const button = place.appendChild(made("button", { type: "button", className: "opening" }));
        button.dataset.opening = String(index);
        const frame = button.appendChild(made("span", { className: "opening-frame" }));
        frame.inert = true;
        frame.setAttribute("aria-hidden", "true");
        const small = frame.appendChild(made("span", { className: "opening-picture" }));
        await draw(small, opening.chart);
        button.append(made("span", { className: "opening-name", textContent: opening.chart.title }));
      }
    },
    openingChosen(event) {
      const button = near(event, "[data-opening]");
      if (!button) return;
      const { definition } = offered[Number(button.dataset.opening)];
      if (this.history.push({ definition })) this.changed();
      this.answer();
    },
  };
}
