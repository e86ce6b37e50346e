// Small things every page shares: notices, dialogs, asking for what can be undone.
import { byId, made, near } from "./dom.js";
import { getHtml, post } from "./http.js";
import { filterOptions } from "./popover.js";

/**
 * Says something at the edge of the screen, for a while or, with `lasting` 0, until it is closed.
 * @param {string} message
 * @param {{ label: string, run: () => void } | null} action
 */
export function toast(message, action = null, lasting = 7000) {
  const item = made("div", { className: "toast" });
  item.append(made("span", { textContent: message }));
  const close = () => item.remove();
  if (action) {
    const button = made("button", { type: "button", textContent: action.label });
    button.addEventListener("click", () => {
      close();
      action.run();
    });
    item.append(button);
  }
  const dismiss = made("button", { type: "button", textContent: "Close" });
  dismiss.addEventListener("click", close);
  item.append(dismiss);
  byId("toasts").append(item);
  if (lasting) setTimeout(close, lasting);
}

/**
 * Says what went wrong, but for what was called off or is said elsewhere.
 * @param {any} error
 */
export function failed(error) {
  if (error.name !== "AbortError" && error.status !== 401) toast(error.message, null, 12000);
}

/**
 * A notice of what went wrong, to stand where something would have been shown; it is read out at once.
 * @param {any} error
 */
export function problemNotice(error) {
  const box = made("p", { className: "notice notice-problem", textContent: error.message });
  box.setAttribute("role", "alert");
  return box;
}

/**
 * Says what went wrong where a form has a place for it.
 * @param {ParentNode} form
 * @param {any} problem
 */
export function sayWithin(form, problem) {
  const place = /** @type {HTMLElement} */ (form.querySelector("[data-said]"));
  place.hidden = false;
  place.textContent = problem.message;
}

/**
 * Shows HTML in a dialog; `closed` resolves with the value of the button that closed it.
 * @param {string} html
 */
export function dialog(html, { wide = false, label = "" } = {}) {
  const element = made("dialog", { className: wide ? "dialog dialog-wide" : "dialog" });
  if (label) element.setAttribute("aria-label", label);
  element.innerHTML = html;
  document.body.append(element);
  element.addEventListener("click", (event) => {
    const button = near(event, "[data-close]");
    if (button || event.target === element) element.close(button?.dataset.close ?? "");
  });
  const closed = new Promise((resolve) => {
    element.addEventListener("close", () => {
      element.remove();
      resolve(element.returnValue);
    });
  });
  element.showModal();
  return { element, closed };
}

/**
 * Shows one of the dialogs that came with the page.
 * @param {string} name
 * @param {string} label
 */
export const openDialog = (name, label) => dialog(byId(name).innerHTML, { label });

/**
 * Fills the list of a dialog, the one that its search box filters, with options from an address.
 * @param {HTMLElement} element
 * @param {string} address
 */
export async function loadOptions(element, address) {
  const box = /** @type {HTMLInputElement} */ (element.querySelector("[data-filters]"));
  const list = byId(box.dataset.filters ?? "");
  try {
    list.innerHTML = await getHtml(address);
    if (list.isConnected) filterOptions(box);
  } catch (error) {
    list.replaceChildren();
    failed(error);
  }
}

/**
 * Runs once nothing was asked for a while (in milliseconds), with what was asked last.
 * @template {unknown[]} V
 * @param {(...values: V) => void} run
 * @param {number} wait
 */
export function debounce(run, wait) {
  /** @type {ReturnType<typeof setTimeout>} */
  let timer;
  return (/** @type {V} */ ...values) => {
    clearTimeout(timer);
    timer = setTimeout(() => run(...values), wait);
  };
}

/**
 * Asks the server to do something that it can undo; `after` runs once it is done.
 * @param {string} address
 * @param {() => void} [after]
 */
export async function postAndOfferUndo(address, after) {
  try {
    const { message, undo } = await post(address);
    after?.();
    toast(message, undo && { label: "Undo", run: () => post(undo).then(() => location.reload(), failed) });
  } catch (error) {
    failed(error);
  }
}

/**
 * That nothing reaches the server, and how many edits wait until something does.
 * @param {number} waiting
 */
export function noConnection(waiting) {
  if (!waiting) return "no connection";
  return `no connection: ${waiting === 1 ? "an edit waits" : `${waiting} edits wait`}`;
}

const SOON = 5_000;

/**
 * Runs once the server may be reached again: when the browser says so, or after a while.
 * @param {() => void} run
 */
export function whenReachable(run) {
  const once = () => {
    clearTimeout(timer);
    removeEventListener("online", once);
    run();
  };
  const timer = setTimeout(once, SOON);
  addEventListener("online", once);
}
