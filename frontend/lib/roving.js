// Groups of things that are one stop of Tab, such as a list of fields or the cells of a table; arrow keys go between
// them. A group names its things by a selector in data-roving; data-roving-grid says that they stand in rows.
import { all, near } from "./dom.js";

const STEPS = { ArrowDown: 1, ArrowRight: 1, ArrowUp: -1, ArrowLeft: -1 };

/**
 * The things of a group that are shown; all cells of a table are, and there may be many.
 * @param {HTMLElement} group
 */
function thingsOf(group) {
  const things = all(group, group.dataset.roving ?? "");
  const canBe = (/** @type {HTMLElement} */ thing) => thing.offsetParent && !thing.matches(":disabled");
  if (!("rovingGrid" in group.dataset)) return things.filter(canBe);
  return things.filter((thing) => !thing.closest("tr")?.hidden); // what is folded is not gone through
}

/**
 * @param {HTMLElement[]} things
 * @param {HTMLElement} stop
 */
function makeStop(things, stop) {
  for (const thing of things) {
    const index = thing === stop ? "0" : "-1";
    if (thing.getAttribute("tabindex") !== index) thing.setAttribute("tabindex", index);
  }
}

/** @param {HTMLElement} group */
function tidy(group) {
  const things = thingsOf(group);
  const chosen = (/** @type {HTMLElement} */ thing) => thing.getAttribute("aria-selected") === "true";
  const stop = things.find((thing) => thing === document.activeElement) ?? things.find(chosen);
  const first = stop ?? things.find((thing) => thing.getAttribute("tabindex") === "0") ?? things[0];
  if (first) makeStop(things, first);
}

/**
 * The thing above or below another one in a table.
 * @param {HTMLElement[]} things
 * @param {HTMLElement} here
 * @param {number} step
 */
function inNextRow(things, here, step) {
  const row = here.closest("tr");
  const from = things.indexOf(here);
  const others = step > 0 ? things.slice(from + 1) : things.slice(0, from).reverse();
  const next = others.find((thing) => thing.closest("tr") !== row)?.closest("tr");
  const inIt = things.filter((thing) => thing.closest("tr") === next);
  const column = (/** @type {Element} */ cell) => [...(cell.parentElement?.children ?? [])].indexOf(cell);
  return inIt.find((thing) => column(thing) === column(here)) ?? inIt[0];
}

/**
 * @param {KeyboardEvent} event
 * @param {HTMLElement} group
 */
function target(event, group) {
  const things = thingsOf(group);
  const here = things.find((thing) => thing === event.target);
  if (!here) return undefined;
  if (event.key === "Home") return things[0];
  if (event.key === "End") return things.at(-1);
  const step = STEPS[/** @type {keyof typeof STEPS} */ (event.key)];
  if (!step) return undefined;
  if ("rovingGrid" in group.dataset && ["ArrowDown", "ArrowUp"].includes(event.key))
    return inNextRow(things, here, step);
  return things[things.indexOf(here) + step];
}

/** Makes the groups of the page work, those that come later too. */
export function watchRoving() {
  const tidyAll = () => all(document, "[data-roving]").forEach(tidy);
  let waiting = false;
  const soon = () => {
    if (waiting) return;
    waiting = true;
    requestAnimationFrame(() => {
      waiting = false;
      tidyAll();
    });
  };
  tidyAll();
  const concerns = (/** @type {MutationRecord} */ change) => {
    const changed = /** @type {Element} */ (change.target);
    return change.type === "childList" || changed.closest("[data-roving]") || changed.querySelector("[data-roving]");
  };
  new MutationObserver((changes) => changes.some(concerns) && soon()).observe(document.body, {
    childList: true,
    subtree: true,
    attributeFilter: ["hidden", "disabled", "aria-selected", "style"],
  });
  document.addEventListener("focusin", (event) => {
    const group = near(event, "[data-roving]");
    const thing = group && thingsOf(group).find((each) => each === event.target);
    if (group && thing) makeStop(thingsOf(group), thing);
  });
  document.addEventListener("keydown", (event) => {
    const group = near(event, "[data-roving]");
    if (!group || event.defaultPrevented || event.altKey || event.ctrlKey || event.metaKey) return;
    const cell = near(event, "td, th");
    if (event.key === "Enter" && cell && cell === event.target) cell.click();
    const next = target(event, group);
    if (!next) return;
    event.preventDefault();
    next.focus();
  });
}
