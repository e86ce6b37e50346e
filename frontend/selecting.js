// What is selected in the blocks of a dashboard: marks are added and taken away, and what it does is changed in the
// trail.
import { near } from "./lib/dom.js";
import { getHtml, getJson } from "./lib/http.js";
import { failed } from "./lib/page.js";

/**
 * @param {any} a
 * @param {any} b
 */
export const same = (a, b) => JSON.stringify(a) === JSON.stringify(b);

/**
 * Whether some points stand for a mark: they may hold its first dimensions only.
 * @param {any[][]} points
 * @param {any[] | undefined} point
 */
export const standFor = (points, point) => !!point && points.some((each) => same(each, point.slice(0, each.length)));

/**
 * What is selected in a block, as it is kept: its marks, and those values into which it is drilled.
 * @param {any} block
 * @param {any[][]} points
 */
export const selectionOf = (block, points, from = 0) => {
  const { by, within } = block._data?.drill ?? { by: [], within: [] };
  const values = within.map((/** @type {any[]} */ [, value]) => value);
  return {
    block: block.dataset.block,
    by: [...by.slice(from, from + points[0].length), ...within.map((/** @type {any[]} */ [group]) => group)],
    points: points.map((point) => [...point, ...values]),
  };
};

/**
 * Marks that others are added to, or taken out of if they are all there.
 * @param {any[][]} old
 * @param {any[][]} more
 */
export function toggled(old, more) {
  const isIn = (/** @type {any[][]} */ list) => (/** @type {any[]} */ point) =>
    list.some((other) => same(point, other));
  if (more.every(isIn(old))) return old.filter((point) => !isIn(more)(point));
  return [...old, ...more.filter((point) => !isIn(old)(point))];
}

/** @returns {any} Methods of the reader's page. */
export function selecting() {
  return {
    select(block, points, { add, from = 0 }) {
      const id = block.dataset.block;
      const made = selectionOf(block, points, from);
      const old = this.state.selections.find((selection) => selection.block === id && !selection.dashboard);
      const others = this.state.selections.filter((selection) => selection !== old);
      const isLike = old && same(old.by, made.by); // marks of other dimensions do not mix
      let marks = made.points;
      if (isLike && add) marks = toggled(old.points, marks);
      else if (isLike && same(old.points, marks)) marks = [];
      const mode = isLike && add ? old.mode : "focus";
      this.go({ selections: marks.length ? [...others, { ...made, mode, points: marks }] : others });
    },
    // Readers who cannot hold a key mark several all the same.
    severalClicked(event) {
      const option = near(event, "[data-several]:not(.picture)");
      if (!option) return false;
      const picture = document.querySelector(`#block-${option.dataset.several} .picture`);
      const isOn = picture.toggleAttribute("data-several");
      option.setAttribute("aria-pressed", String(isOn));
      option.textContent = isOn ? "Select one at a time" : "Select several";
      return true;
    },
    totalClicked(event) {
      const total = near(event, "[data-block] [data-total]");
      const point = total && JSON.parse(total.dataset.total);
      if (!point?.length) return false;
      this.chosen(total.closest("[data-block]"), [point], { add: event.shiftKey || event.ctrlKey });
      return true;
    },

    // The trail's buttons, and those of what it opens.
    selectionClicked(button) {
      const { selection, mode, of, behind, without } = button.dataset;
      const remove = button.dataset.remove ?? button.dataset.clear;
      const { selections } = this.state;
      const replaced = (change) => selections.map((item, i) => (i === Number(of) ? { ...item, ...change } : item));
      if (selection) this.openSelection(selection, button);
      else if (remove) this.goAndShut(selections.filter((_, i) => i !== Number(remove)));
      else if (mode) this.goAndShut(replaced({ mode }));
      else if (without) {
        const points = selections[Number(of)].points.filter((_, i) => i !== Number(without));
        this.goAndShut(replaced({ points }));
      } else if (behind) this.behind(selections[Number(behind)].block, { selection: behind });
      else return false;
      return true;
    },
    goAndShut(selections) {
      this.shut();
      this.go({ selections });
    },
    async openSelection(number, button) {
      try {
        await this.showPopover(await getHtml(`${this.base}selections/${number}/${this.query()}`), button);
      } catch (error) {
        failed(error);
      }
    },
    togetherSent(event) {
      const number = event.target.dataset.together;
      if (number === undefined) return false;
      this.putTogether(Number(number), event.target.elements.namedItem("name").value);
      return true;
    },
    async putTogether(number, name) {
      try {
        const { block, step } = await getJson(`${this.base}selections/${number}/together/${this.query({ name })}`);
        const steps = /** @type {any} */ (document.getElementById(`block-${block}`))._data.drill.steps;
        const selections = this.state.selections.filter((_, i) => i !== number);
        this.shut();
        this.go({ selections, drills: { ...this.state.drills, [block]: [...steps, step] } });
      } catch (error) {
        failed(error);
      }
    },
  };
}
