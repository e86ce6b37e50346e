// What is on the page brought up to date, so that the keyboard, what is half typed, scroll and folds stay.
import { Idiomorph } from "idiomorph";

/**
 * Makes an element's content what the server sends, changing only what differs. A field that has the keyboard keeps
 * it and what is typed; all others show what the server says.
 * @param {HTMLElement} element
 * @param {string} html
 */
export function updateContent(element, html) {
  const active = document.activeElement;
  Idiomorph.morph(element, html, {
    morphStyle: "innerHTML",
    ignoreActiveValue: true,
    callbacks: { beforeNodeMorphed: keepTouched },
  });
  if (active?.id && !active.isConnected) document.getElementById(active.id)?.focus();
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
