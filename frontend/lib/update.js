// What is on the page brought up to date, so that the keyboard, what is half typed, scroll and folds stay.
import { Idiomorph } from "idiomorph";
import { reachableIn } from "./dom.js";
import { giveTones } from "./tones.js";

/**
 * Makes an element's content what the server sends, changing only what differs. A field that has the keyboard keeps
 * it and what is typed; all others show what the server says. Where what had the keyboard is gone, what now stands in its
 * place gets it.
 * @param {HTMLElement} element
 * @param {string} html
 */
export function updateContent(element, html) {
  const active = document.activeElement;
  const position = active ? reachableIn(element).indexOf(/** @type {HTMLElement} */ (active)) : -1;
  Idiomorph.morph(element, html, {
    morphStyle: "innerHTML",
    ignoreActiveValue: active?.matches("input, textarea, select") ?? false, // a button says what it does now
    callbacks: { beforeNodeMorphed: keepTouched },
  });
  giveTones(element);
  if (!active || active.isConnected) return;
  const same = active.id ? document.getElementById(active.id) : null;
  const stops = reachableIn(element);
  if (same) same.focus();
  else if (position >= 0) stops[Math.min(position, stops.length - 1)]?.focus();
}

/**
 * What is unfolded stays so (its id tells which it is among others); a formula that is being typed stays with what is
 * said about it.
 * @param {Node} from
 * @param {Node} to
 */
function keepTouched(from, to) {
  if (from instanceof HTMLDetailsElement && to instanceof HTMLDetailsElement) to.open = from.open;
  return !(from instanceof Element && from.matches("[data-formula]") && from.contains(document.activeElement));
}
