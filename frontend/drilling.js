// Drilling the blocks of a dashboard: along their paths and by any dimension, back by their crumbs, and to the members
// beside one.
import { near } from "./lib/dom.js";
import { pointAt } from "./lib/draw.js";
import { openOnly } from "./lib/folding.js";
import { into, offerUnfolding, waysInto } from "./lib/ways.js";
import { getHtml, getJson } from "./lib/http.js";
import { failed } from "./lib/page.js";
import { focusFirst, placeUnder, shown } from "./lib/popover.js";

/** @returns {any} Methods of the reader's page. */
export function drilling() {
  let menuOf = ""; // the block whose ways the popover offers
  let stepOf = { block: null, number: 0 }; // that whose values it offers

  return {
    showDrill(block, { crumbs, ways }) {
      offerUnfolding(block.querySelector(".picture"), ways);
      const place = block.querySelector(".drilled");
      place.innerHTML = crumbs;
      place.hidden = !crumbs;
    },
    drillTo(id, steps) {
      const drills = { ...this.state.drills, [id]: steps };
      if (!steps.length) delete drills[id];
      this.go({ drills }, id); // what is narrowed by a block is narrowed by its selections
    },
    take(block, step) {
      this.drillTo(block.dataset.block, [...block._data.drill.steps, step]);
    },
    // Into a mark along the first path that leads down from it; null where none does.
    drillInto(block, point) {
      const way = block._data?.drill.ways.find(({ down, step }) => down && step.position < point.length);
      if (!way) return null;
      this.take(block, into(way.step, point));
      return way;
    },
    up(block) {
      const { steps, ways } = block._data.drill;
      const way = ways.find(({ down }) => !down);
      if (steps.length) this.drillTo(block.dataset.block, steps.slice(0, -1));
      else if (way) this.take(block, way.step);
    },

    // What can be done with a mark, or with its block where there is none.
    waysFrom(block, point, event) {
      const { ways, others, steps } = block._data?.drill ?? { ways: [], others: false, steps: [] };
      return [
        ...waysInto(ways, point, event, (step) => this.take(block, step)),
        ...(steps.length ? [{ label: "Up again", run: () => this.up(block) }] : []),
        ...(others ? [{ label: "Break down by …", run: () => this.openWays(block, point) }] : []),
      ];
    },
    async openWays(block, point = null) {
      const id = block.dataset.block;
      const query = this.query(point ? { point: JSON.stringify(point) } : {});
      try {
        const html = await getHtml(`${this.base}blocks/${id}/drill/${query}`);
        menuOf = id;
        await this.showPopover(html, block.querySelector(".block-title"));
      } catch (error) {
        failed(error);
      }
    },
    async showPopover(html, anchor) {
      this.$refs.popover.innerHTML = html;
      this.popoverOpen = true;
      await shown(this.$refs.popover);
      placeUnder(this.$refs.popover, anchor);
      focusFirst(this.$refs.popover);
    },

    // The members of a step: to the one beside it, or to any.
    async beside(block, number, side) {
      const next = (await this.membersOf(block, number))[side];
      if (next.length) this.replaceMember(block, number, next[0]);
    },
    async chooseMember(block, number, opener) {
      const { html } = await this.membersOf(block, number);
      if (!html) return;
      stepOf = { block, number };
      await this.showPopover(html, opener);
    },
    async membersOf(block, number) {
      try {
        return await getJson(`${this.base}blocks/${block.dataset.block}/members/${this.query({ step: number })}`);
      } catch (error) {
        failed(error);
        return { before: [], after: [], html: "" };
      }
    },
    replaceMember(block, number, value) {
      const steps = [...block._data.drill.steps];
      const { position = 0, into: before } = steps[number];
      // Of a mark the values of the other dimensions stay.
      const values = before.length > 1 ? before.map((each, place) => (place === position ? value : each)) : [value];
      steps[number] = { ...steps[number], into: values };
      this.drillTo(block.dataset.block, steps);
    },

    // Clicks and keys.
    unfoldClicked(button) {
      const block = /** @type {any} */ (button.closest("[data-block]"));
      const { step } = block._data.drill.ways.find(({ unfolds }) => unfolds);
      openOnly(block.querySelector(".picture"), button.dataset.unfold);
      this.take(block, { ...step, unfold: true });
    },
    drillClicked(event) {
      const unfold = near(event, "[data-unfold]");
      if (unfold) {
        this.unfoldClicked(unfold);
        return true;
      }
      const button = near(event, "[data-drill-to], [data-drill-beside], [data-drill-members], [data-drill-menu]");
      const block = /** @type {any} */ (button && near(event, "[data-block]"));
      if (!block) return false;
      const { drillTo, drillBeside, drillMembers, ofStep } = button.dataset;
      if (drillTo) this.drillTo(block.dataset.block, block._data.drill.steps.slice(0, Number(drillTo)));
      else if (drillBeside) this.beside(block, Number(ofStep), drillBeside);
      else if (drillMembers) this.chooseMember(block, Number(drillMembers), button);
      else this.openWays(block);
      return true;
    },
    drillChosen(event) {
      const member = near(event, "[data-member]");
      if (member) {
        this.shut();
        this.replaceMember(stepOf.block, stepOf.number, JSON.parse(member.dataset.member));
        return true;
      }
      const option = near(event, "[data-step]");
      const block = option && document.getElementById(`block-${menuOf}`);
      if (!block) return false;
      this.shut();
      this.take(block, JSON.parse(option.dataset.step));
      return true;
    },
    drillKeys(event) {
      const block = /** @type {any} */ (event.altKey && near(event, "[data-block]"));
      if (!block?._data || !["ArrowDown", "ArrowUp"].includes(event.key)) return;
      event.preventDefault();
      const point = pointAt(event);
      if (event.key === "ArrowUp") this.up(block);
      else if (point) this.drillInto(block, point);
      else this.openWays(block);
    },
  };
}
