// Several people in one dashboard: what others do arrives by itself, and who is there is shown. Part of the dashboard
// editor.
import { all, made, near } from "../lib/dom.js";
import { post } from "../lib/http.js";
import { debounce } from "../lib/page.js";

/** Milliseconds between two signs of being there. */
const SIGN = 20_000;

/** @returns {any} Methods of the editor. */
export function together() {
  const tab = crypto.randomUUID?.() ?? String(Math.random());
  let block = ""; // the one that has the keyboard
  let people = [];

  return {
    beginTogether() {
      const events = new EventSource(`${this.base}live/`);
      events.addEventListener("changed", ({ data }) => this.changedElsewhere(JSON.parse(data).revision));
      events.addEventListener("people", ({ data }) => {
        people = JSON.parse(data).filter((person) => person.tab !== tab);
        this.showPeople();
      });
      const sign = () => post(`${this.base}present/`, { tab, block }).catch(() => {}); // the next one says it
      const soon = debounce(sign, 500);
      this.$refs.board.addEventListener("focusin", (event) => {
        block = near(event, "[data-id]")?.dataset.id ?? "";
        soon();
      });
      const signs = setInterval(() => document.hidden || sign(), SIGN);
      sign();
      addEventListener("pagehide", () => {
        clearInterval(signs);
        events.close();
        post(`${this.base}present/`, { tab, leaves: true }).catch(() => {});
      });
    },
    // Names in the head, and at the blocks on which others are.
    showPeople() {
      const names = [...new Set(people.map(({ name }) => name))];
      this.$refs.people.replaceChildren(
        ...names.map((name) => made("span", { className: "person-chip", textContent: name, title: `${name} is here` })),
      );
      for (const each of all(this.$refs.board, "[data-others]")) delete each.dataset.others;
      for (const { name, block: at } of people) {
        const element = at && this.element(at);
        if (element) element.dataset.others = name;
      }
    },
  };
}
