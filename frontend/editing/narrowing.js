// What narrows a dashboard: its filters, made as those of a chart are, and which blocks they, its controls and clicks
// reach.
import { all, made } from "../lib/dom.js";
import { formData } from "../lib/forms.js";
import { postForHtml } from "../lib/http.js";
import { dialog, failed, openDialog, sayWithin } from "../lib/page.js";
import { FilterEditor } from "./filter_editor.js";

/** @returns {any} Methods of the editor. */
export function narrowing() {
  return {
    // Chips of the filters, by what the server says of them.
    filterChips(words) {
      return this.definition.filters.map(({ id, in_trail: inTrail }) => {
        const chip = made("span", { className: "chip chip-fixed" });
        const said = `only ${words[id] ?? "…"}`;
        const open = made("button", { type: "button", textContent: said, title: "Change this filter" });
        if (!inTrail) open.classList.add("italic");
        open.dataset.filter = id;
        const reach = made("button", { type: "button", textContent: "◎", title: "Which blocks it reaches" });
        reach.setAttribute("aria-label", `Which blocks “${said}” reaches`);
        reach.dataset.reach = id;
        const away = made("button", { type: "button", textContent: "✕" });
        away.setAttribute("aria-label", `Remove the filter: ${said}`);
        away.dataset.filterAway = id;
        chip.append(open, reach, away);
        return chip;
      });
    },
    async chooseFilter() {
      if (this.datasets.length === 1) return this.openFilter(this.datasets[0], null);
      const { element, closed } = openDialog("choose-filter", "A filter of the dashboard");
      this.ownDatasetsFirst(element);
      const choice = await closed;
      return choice && this.openFilter(choice, null);
    },
    changeFilter(id) {
      const { dataset } = this.definition.filters.find((filter) => filter.id === id);
      return this.openFilter(dataset, id);
    },
    openFilter(dataset, id) {
      return new FilterEditor(this, dataset, id).open();
    },
    async setTrail() {
      const { element, closed } = openDialog("set-trail", "The trail");
      const radios = /** @type {HTMLInputElement[]} */ (all(element, "[name=applies]"));
      for (const radio of radios) radio.checked = (radio.value === "1") === this.definition.applies;
      if ((await closed) === "ok") this.edit({ edit: "set_applies", applies: radios[1].checked });
    },

    // Which blocks a control or a filter reaches: all, those of pages, or those that are ticked on pages in small.
    async setScope(narrows) {
      try {
        const html = await postForHtml(`${this.base}scope/`, { definition: this.definition, narrows });
        const { element } = dialog(html, { label: "What it reaches" });
        const form = element.querySelector("form");
        for (const place of all(element, "[data-scope-block]")) this.placeInSmall(place);
        form.addEventListener("change", () => {
          const { of, how: shape } = formData(form);
          for (const part of all(form, '[data-for="how.first"]')) part.hidden = part.dataset.is !== shape.first;
          for (const part of all(form, "[data-scope-of]")) part.hidden = part.dataset.scopeOf !== of;
        });
        form.addEventListener("submit", async (event) => {
          event.preventDefault();
          const { of, pages, ticked, fields = {}, in_trail: inTrail, how } = formData(form);
          const kept = Object.fromEntries(Object.entries(fields).filter(([, field]) => field !== "-"));
          const reached = { all: { scope: { of } }, pages: { scope: { of, names: pages } }, ticked: { ticked } }[of];
          const refused = (problem) => sayWithin(form, problem);
          if (!(await this.edit({ edit: "set_scope", narrows, fields: kept, ...reached }, refused))) return;
          if (how && !(await this.edit({ edit: "shape_control", control: narrows, ...how }, refused))) return;
          const filter = this.definition.filters.find(({ id }) => id === narrows);
          if (filter && filter.in_trail !== inTrail)
            await this.edit({ edit: "set_filter", filter_id: narrows, in_trail: inTrail });
          element.close();
        });
      } catch (error) {
        failed(error);
      }
    },
    placeInSmall(element) {
      const block = this.definition.pages
        .flatMap(({ blocks }) => blocks)
        .find(({ id }) => id === element.dataset.scopeBlock);
      const { x, y, w, h } = block.group
        ? this.definition.pages.flatMap(({ blocks }) => blocks).find(({ id }) => id === block.group)
        : block;
      if (element.closest("[data-scope-kind=flowing]") && !block.group)
        Object.assign(element.style, { gridColumn: `${x + 1} / span ${w}`, gridRow: `${y + 1} / span ${h}` });
    },

    // What narrows one block, and what a click on it does, to be set by ticking.
    async whatNarrows(block) {
      try {
        const html = await postForHtml(`${this.base}follows/`, { definition: this.definition, block });
        const { element } = dialog(html, { label: "What narrows this block" });
        element.addEventListener("change", ({ target }) => {
          const { follows, clickOn } = /** @type {HTMLElement} */ (target).dataset;
          const box = /** @type {HTMLInputElement} */ (target);
          if (follows) this.edit({ edit: "set_follows", narrows: follows, block, follows: box.checked });
          else if (clickOn) this.edit({ edit: "set_click", block, other: clickOn, does: box.value });
        });
      } catch (error) {
        failed(error);
      }
    },
  };
}
