// What can be done with what stands under the pointer, or has the keyboard: right click, a long press and the context
// key open it.
import { computePosition, flip, shift } from "@floating-ui/dom";
import { all, made, near } from "./dom.js";
import { moveByArrows } from "./popover.js";

/**
 * @typedef {{ label: string, run: () => void, danger?: boolean }} Choice
 * @typedef {(event: Event) => Choice[] | null} Offer tells what can be done where an event happened; null for nothing.
 */

/** @type {Offer[]} */
const offers = [];

/**
 * Offers what can be done at places of a page.
 * @param {Offer} another
 */
export const offer = (another) => offers.push(another);

/** @type {HTMLElement | null} */
let open = null;
/** @type {HTMLElement | SVGElement | null} What had the keyboard; marks are parts of a picture. */
let opener = null;
/** @type {MouseEvent | null} */
let pointed = null;

function shut(back = false) {
  open?.remove();
  open = null;
  if (back) opener?.focus({ preventScroll: true });
}

/**
 * @param {Choice[]} choices
 * @param {MouseEvent} event
 */
async function show(choices, event) {
  shut();
  const active = document.activeElement;
  opener = active instanceof HTMLElement || active instanceof SVGElement ? active : null;
  const menu = made("div", { className: "popover !w-56" });
  menu.setAttribute("role", "dialog");
  menu.setAttribute("aria-label", "What can be done");
  for (const { label, run, danger } of choices) {
    const look = danger ? "option !text-madder" : "option";
    const button = made("button", { type: "button", className: look, textContent: label });
    button.addEventListener("click", () => {
      shut(true);
      run();
    });
    menu.append(button);
  }
  document.body.append(menu);
  open = menu;
  pointed = event;
  await place();
  menu.querySelector("button")?.focus();
}

/** Puts the menu where it was asked for, inside the window. */
async function place() {
  if (!open || !pointed) return;
  const { clientX, clientY, target } = pointed;
  const atKeyboard = !clientX && !clientY && target instanceof Element;
  const where = () => (atKeyboard ? target.getBoundingClientRect() : new DOMRect(clientX, clientY, 0, 0));
  const { x, y } = await computePosition({ getBoundingClientRect: where }, open, {
    placement: "bottom-start",
    middleware: [flip({ padding: 8 }), shift({ padding: 8, crossAxis: true })],
  });
  Object.assign(open.style, { left: `${x}px`, top: `${y}px` });
}

/**
 * The links and buttons of a row of a list, as choices.
 * @type {Offer}
 */
function ofListItem(event) {
  const item = near(event, "[data-item]");
  if (!item) return null;
  return all(item, "a[href], button").map((action, position) => ({
    label: (position === 0 && action.tagName === "A" ? "Open " : "") + (action.textContent?.trim() ?? ""),
    run: () => action.click(),
    danger: action.matches(".link-danger"),
  }));
}

/** Makes such menus open. */
export function watchContext() {
  offer(ofListItem);
  addEventListener("resize", place);
  document.addEventListener("contextmenu", (event) => {
    if (near(event, "input, textarea, .popover, dialog")) return;
    const found = offers.flatMap((each) => each(event) ?? []);
    if (!found.length) return;
    event.preventDefault();
    show(found, event);
  });
  document.addEventListener("pointerdown", (event) => {
    if (open && !open.contains(/** @type {Node} */ (event.target))) shut();
  });
  document.addEventListener("keydown", (event) => {
    if (!open) return;
    if (event.key === "Escape") {
      event.stopPropagation();
      shut(true);
    } else if (open.contains(/** @type {Node} */ (event.target))) moveByArrows(event, open);
  });
}
