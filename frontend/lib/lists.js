// Lists: what is deleted goes at once and can be brought back, one thing or several that are chosen.
import { all, near } from "./dom.js";
import { post } from "./http.js";
import { failed, postAndOfferUndo, toast } from "./page.js";

/** @param {Element} list */
const boxes = (list) => /** @type {HTMLInputElement[]} */ (all(list, "[data-choose]"));

/** @param {Element} list */
const chosen = (list) => boxes(list).filter((box) => box.checked);

/**
 * Takes a thing out of its list; the keyboard goes on with the next one.
 * @param {Element} item
 */
function takeOut(item) {
  const neighbour = item.nextElementSibling ?? item.previousElementSibling;
  const next = neighbour?.querySelector("a, button") ?? document.querySelector("h1");
  item.remove();
  if (next instanceof HTMLElement) {
    if (next.tagName === "H1") next.tabIndex = -1;
    next.focus();
  }
}

/** @param {Element} list */
function sayHowMany(list) {
  const count = chosen(list).length;
  for (const bar of all(list, "[data-chosen]")) bar.hidden = count === 0;
  for (const said of all(list, "[data-chosen-count]")) said.textContent = `${count} chosen`;
  const box = list.querySelector("[data-choose-all]");
  if (box instanceof HTMLInputElement) {
    box.checked = count > 0 && count === boxes(list).length;
    box.indeterminate = count > 0 && !box.checked;
  }
}

/** @param {Element} list */
async function deleteChosen(list) {
  /** @type {string[]} */
  const undos = [];
  for (const item of all(list, "[data-item]:has([data-choose]:checked)")) {
    const [button] = all(item, "[data-deletes]");
    try {
      const { undo } = await post(button.dataset.post ?? "");
      undos.push(undo);
      takeOut(item);
    } catch (error) {
      failed(error);
      break;
    }
  }
  sayHowMany(list);
  const bringBack = async () => {
    try {
      for (const undo of undos) await post(undo);
    } catch (error) {
      failed(error);
    }
    location.reload();
  };
  if (undos.length) toast(`${undos.length} deleted.`, { label: "Undo", run: bringBack });
}

/**
 * Lets what does not have the typed words stand back in a drawing, and brings the first that has them into view.
 * @param {HTMLInputElement} box
 */
function highlight(box) {
  const words = box.value.trim().toLowerCase();
  const things = [...document.querySelectorAll(`#${box.dataset.highlights} [data-words]`)];
  const fits = (/** @type {Element} */ thing) => (thing.getAttribute("data-words") ?? "").toLowerCase().includes(words);
  for (const thing of things) thing.classList.toggle("stands-back", !fits(thing));
  if (words) things.find(fits)?.scrollIntoView({ block: "nearest", inline: "nearest" });
}

/** Makes the lists of the page work. */
export function watchLists() {
  document.addEventListener("input", (event) => {
    const box = near(event, "[data-highlights]");
    if (box) highlight(/** @type {HTMLInputElement} */ (box));
  });
  document.addEventListener("click", (event) => {
    const button = near(event, "[data-post]");
    if (button) {
      event.preventDefault();
      postAndOfferUndo(button.dataset.post ?? "", () => {
        const item = button.closest("[data-item]");
        if (button.dataset.then) location.href = button.dataset.then;
        else if (item) takeOut(item);
      });
    }
    const list = near(event, "[data-listed]");
    if (!list) return;
    if (near(event, "[data-delete-chosen]")) deleteChosen(list);
    if (near(event, "[data-choose-none]")) {
      for (const box of boxes(list)) box.checked = false;
      sayHowMany(list);
    }
  });
  document.addEventListener("change", (event) => {
    const list = near(event, "[data-listed]");
    if (!list) return;
    const every = near(event, "[data-choose-all]");
    if (every) for (const box of boxes(list)) box.checked = /** @type {HTMLInputElement} */ (every).checked;
    sayHowMany(list);
  });
}
