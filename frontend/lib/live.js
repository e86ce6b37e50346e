// What several people have open at the same time: what others do arrives by itself, and who is there is shown.
import { made } from "./dom.js";
import { post } from "./http.js";
import { debounce } from "./page.js";

/** Milliseconds between two signs of being there. */
const SIGN = 20_000;

/**
 * @param {string} base The address of what is open.
 * @param {HTMLElement} names Where the names of the others stand.
 * @param {(revision: number) => void} changed Somebody has changed it.
 * @param {(people: { name: string, part: string }[]) => void} [shown] The others who are there, and where.
 * @returns {(part: string) => void} To be told on which part one is.
 */
export function goLive(base, names, changed, shown = () => {}) {
  const tab = crypto.randomUUID?.() ?? String(Math.random());
  let part = "";
  /** @type {EventSource | null} */
  let events = null;
  const listen = () => {
    events = new EventSource(`${base}live/`);
    events.addEventListener("changed", ({ data }) => changed(JSON.parse(data).revision));
    events.addEventListener("people", ({ data }) => showPeople(JSON.parse(data)));
    // Whoever may not be told any more would only ask again and again.
    events.addEventListener("ended", () => hush());
  };
  const hush = () => {
    events?.close();
    events = null;
  };
  /** @param {{ tab: string, name: string, part: string }[]} people */
  const showPeople = (people) => {
    const others = people.filter((person) => person.tab !== tab);
    const each = [...new Set(others.map(({ name }) => name))];
    names.replaceChildren(...each.map((name) => made("span", { className: "person-chip", textContent: name })));
    shown(others);
  };
  const sign = () => post(`${base}present/`, { tab, part }).catch(() => {}); // the next one says it
  const soon = debounce(sign, 500);
  setInterval(() => document.hidden || sign(), SIGN);
  sign();
  listen();
  // A browser has few connections to a server for all its tabs: those that nobody looks at have none.
  document.addEventListener("visibilitychange", () => {
    if (document.hidden) return hush();
    sign();
    return events || listen();
  });
  addEventListener("pagehide", () => {
    hush();
    post(`${base}present/`, { tab, leaves: true }).catch(() => {});
  });
  return (now) => {
    part = now;
    soon();
  };
}
