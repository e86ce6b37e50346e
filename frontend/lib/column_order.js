// Columns of a table in another order: dragged by their headings, moved with Alt and an arrow key, or from the menu.
import { offer } from "./context.js";
import { all, near } from "./dom.js";

/**
 * @typedef {{ clause: string, index: number }} Place
 * Which entry of which clause a column is.
 */

/**
 * @param {HTMLElement} heading
 * @returns {Place}
 */
function placeOf(heading) {
  const [clause, index] = (heading.dataset.column ?? "").split(":");
  return { clause, index: Number(index) };
}

/** @param {Event} event */
const headingAt = (event) => near(event, "th[data-column]");

/**
 * Lets columns be moved among those of their clause.
 * @param {HTMLElement} root
 * @param {(from: Place, to: number) => Promise<unknown>} moved Draws them in their new order.
 */
export function watchColumnOrder(root, moved) {
  /** @type {Place | null} */
  let dragged = null;

  const headingsOf = (/** @type {string} */ clause) => all(root, `th[data-column^="${clause}:"]`);
  const headingOf = (/** @type {Place} */ { clause, index }) =>
    headingsOf(clause).find((heading) => placeOf(heading).index === index);

  /** @param {Place} from @param {number} to */
  async function move(from, to) {
    if (to === from.index || !headingOf({ ...from, index: to })) return;
    await moved(from, to);
    headingOf({ ...from, index: to })
      ?.querySelector("button")
      ?.focus();
  }
  function unmark() {
    for (const heading of all(root, "th.drop-before, th.drop-after")) {
      heading.classList.remove("drop-before", "drop-after");
    }
  }
  /**
   * The heading to whose place what is dragged would go.
   * @param {Event} event
   */
  function targetAt(event) {
    const heading = headingAt(event);
    return heading && dragged && placeOf(heading).clause === dragged.clause ? heading : null;
  }

  root.addEventListener("pointerdown", (event) => {
    const heading = headingAt(event);
    if (heading) heading.draggable = !heading.classList.contains("at-edge"); // where its width is dragged
  });
  root.addEventListener("dragstart", (event) => {
    const heading = headingAt(event);
    if (!heading || !event.dataTransfer) return;
    dragged = placeOf(heading);
    event.dataTransfer.setData("text/veduta-column", heading.dataset.column ?? "");
    event.dataTransfer.effectAllowed = "move";
  });
  root.addEventListener("dragover", (event) => {
    const heading = targetAt(event);
    unmark();
    if (!heading || !dragged) return;
    event.preventDefault();
    heading.classList.add(placeOf(heading).index > dragged.index ? "drop-after" : "drop-before");
  });
  root.addEventListener("drop", (event) => {
    const heading = targetAt(event);
    if (heading && dragged) {
      event.preventDefault();
      move(dragged, placeOf(heading).index);
    }
  });
  root.addEventListener("dragend", () => {
    dragged = null;
    unmark();
  });
  root.addEventListener("keydown", (event) => {
    const heading = event.altKey ? headingAt(event) : null;
    const step = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    if (!heading || !step) return;
    event.preventDefault();
    event.stopPropagation();
    const from = placeOf(heading);
    move(from, from.index + step);
  });
  offer((event) => {
    const heading = root.contains(/** @type {Node} */ (event.target)) ? headingAt(event) : null;
    if (!heading) return null;
    const from = placeOf(heading);
    const last = headingsOf(from.clause).length - 1;
    return [
      ...(from.index > 0 ? [{ label: "Further left", run: () => move(from, from.index - 1) }] : []),
      ...(from.index < last ? [{ label: "Further right", run: () => move(from, from.index + 1) }] : []),
    ];
  });
}
