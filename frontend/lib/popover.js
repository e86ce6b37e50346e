// Popovers and lists of options: where they stand, and how the keyboard moves in them.
import { autoUpdate, computePosition, flip, offset, shift, size } from "@floating-ui/dom";
import { all, byId, fieldAt, stopsIn } from "./dom.js";

/** @type {WeakMap<HTMLElement, () => void>} */
const placed = new WeakMap();

/**
 * Puts a popover beside what opened it, inside the window, and keeps it there while it is shown.
 * @param {HTMLElement} popover
 * @param {Element} anchor
 * @param {import("@floating-ui/dom").Placement} [placement]
 */
export function placeUnder(popover, anchor, placement = "bottom-start") {
  placed.get(popover)?.();
  const place = async () => {
    if (!popover.offsetWidth || !anchor.isConnected) return placed.get(popover)?.();
    const { x, y } = await computePosition(anchor, popover, { placement, middleware });
    Object.assign(popover.style, { left: `${x}px`, top: `${y}px` });
  };
  placed.set(popover, autoUpdate(anchor, popover, place));
}

const middleware = [
  offset(6),
  flip({ padding: 8 }),
  shift({ padding: 12 }),
  size({
    padding: 8,
    apply: ({ availableHeight, elements }) =>
      elements.floating.style.setProperty("--room", `${Math.max(160, availableHeight)}px`),
  }),
];

/**
 * Waits until an element is on screen: x-show shows it a moment after its state has changed, and what is not shown
 * can neither be measured nor take the keyboard.
 * @param {HTMLElement} element
 */
export async function shown(element) {
  for (let frame = 0; frame < 30 && !element.offsetWidth; frame += 1) await new Promise(requestAnimationFrame);
}

/**
 * Puts the keyboard into a popover, unless it is there already: into its search box if it has one, so that typing and
 * Enter choose.
 * @param {HTMLElement} popover
 */
export function focusFirst(popover) {
  if (popover.contains(document.activeElement)) return;
  const [search] = all(popover, "[data-filters], [data-find]");
  const [first] = all(popover, "input:not([type=hidden]), select, button");
  (search ?? first)?.focus({ preventScroll: true }); // what stands first is seen first
}

/**
 * Filters a list of options by what is typed into its search box.
 * @param {HTMLInputElement} box
 */
export function filterOptions(box) {
  const words = box.value.trim().toLowerCase();
  const list = byId(box.dataset.filters ?? "");
  let any = false;
  for (const option of all(list, "[data-words]")) {
    option.hidden = !option.dataset.words?.toLowerCase().includes(words);
    any ||= !option.hidden;
  }
  for (const heading of all(list, "[data-heading]")) heading.hidden = words !== "";
  for (const none of all(list, "[data-none]")) none.hidden = any;
}

/**
 * Tab goes round within an open popover; Escape leads out of it.
 * @param {KeyboardEvent} event
 * @param {HTMLElement} popover
 */
export function keepTabInside(event, popover) {
  const stops = stopsIn(popover);
  const [first, last] = [stops[0], stops.at(-1)];
  if (event.target !== (event.shiftKey ? first : last)) return;
  event.preventDefault();
  (event.shiftKey ? last : first)?.focus();
}

/**
 * Arrow keys move between a popover's or list's options.
 * @param {KeyboardEvent} event
 * @param {HTMLElement} root
 */
export function moveByArrows(event, root) {
  if (!["ArrowDown", "ArrowUp"].includes(event.key)) return;
  if (fieldAt(event, "select, textarea, input[type=number], input[type=date]")) return;
  const stops = all(root, "button, input, select, a[href]").filter(
    (item) => item.offsetParent && !item.matches(":disabled"),
  );
  const here = stops.findIndex((stop) => stop === document.activeElement);
  const next = stops[here + (event.key === "ArrowDown" ? 1 : -1)];
  if (next) {
    event.preventDefault();
    next.focus();
  }
}
