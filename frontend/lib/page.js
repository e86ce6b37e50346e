// Small things every page shares: notices, dialogs, forms as edits, positions of popovers.
import { all, byId, fieldAt, made, near } from "./dom.js";
import { post } from "./http.js";

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

/** @param {HTMLInputElement} field */
function read(field) {
  const value = field.value;
  switch (field.dataset.as) {
    case "json":
      return JSON.parse(value);
    case "int":
      return value === "" ? null : Number.parseInt(value, 10);
    case "number":
      return value === "" ? null : Number(value);
    case "date":
      return value === "" ? null : value;
    case "bool":
      return value === "true";
    default:
      return value;
  }
}

/**
 * A form's values as nested data: names with dots become objects; boxes marked data-list are collected in a list.
 * @param {HTMLFormElement} form
 * @returns {Record<string, any>}
 */
export function formData(form) {
  /** @type {Record<string, any>} */
  const data = {};
  for (const field of /** @type {HTMLInputElement[]} */ ([...form.elements])) {
    if (!field.name || field.disabled) continue;
    const path = field.name.split(".");
    const last = /** @type {string} */ (path.pop());
    const place = path.reduce((object, key) => (object[key] ??= {}), data);
    if (field.type === "checkbox" && "list" in field.dataset) {
      place[last] ??= [];
      if (field.checked) place[last].push(read(field));
    } else if ("list" in field.dataset) {
      place[last] ??= [];
      if (field.type !== "radio" || field.checked) place[last].push(read(field));
    } else if (field.type === "checkbox") place[last] = field.checked;
    else if (field.type === "radio") {
      if (field.checked) place[last] = read(field);
    } else place[last] = read(field);
  }
  return data;
}

/**
 * Fills a form from the values on a button (a choice such as "Last 12 months"); returns the form.
 * @param {HTMLElement} button
 * @param {string} prefix
 */
export function filledForm(button, prefix) {
  const form = /** @type {HTMLFormElement} */ (button.closest("form"));
  const values = { back: 0, ...JSON.parse(button.dataset.fill ?? "{}") };
  for (const [name, value] of Object.entries(values)) {
    const field = /** @type {HTMLInputElement} */ (form.elements.namedItem(`${prefix}.${name}`));
    field.value = value;
  }
  return form;
}

/**
 * What a control's form is set to; undefined if it does not make sense (which is said), null if it shows all.
 * @param {HTMLFormElement} form
 */
export function chosen(form) {
  if (!form.reportValidity()) return undefined;
  const { choice, none } = formData(form);
  if (none) return null;
  if (choice.set) {
    const set = choice.set.filter((/** @type {any} */ value) => value !== null && value !== "");
    return set.length ? { set } : null;
  }
  if (choice.kind === "dates" && choice.start && choice.end) {
    const first = `${choice.start}T${choice.start_time || "00:00"}`;
    const last = `${choice.end}T${choice.end_time || "23:59:59"}`;
    if (first > last) {
      toast(`The first ${choice.start > choice.end ? "day" : "moment"} is after the last. Nothing was changed.`);
      return undefined;
    }
  }
  return choice.values && !choice.values.length ? null : choice;
}

/**
 * Days and times are typed part by part: drawing their form anew would take the keyboard back to the first one.
 * @param {HTMLInputElement} input
 */
export const isTyped = (input) => input.matches("[type=date], [type=time]");

/**
 * A year that is being typed goes through 0002, 0020 and 0202.
 * @param {HTMLInputElement} input
 */
export const isHalfTyped = (input) => input.type === "date" && input.value !== "" && input.value < "1000";

/**
 * Puts a popover under what opened it, inside the window.
 * @param {HTMLElement} popover
 * @param {Element} anchor
 */
export function placeUnder(popover, anchor) {
  const box = anchor.getBoundingClientRect();
  const width = popover.offsetWidth;
  const left = Math.max(12, Math.min(box.left, document.documentElement.clientWidth - width - 12));
  popover.style.left = `${left + window.scrollX}px`;
  const below = document.documentElement.clientHeight - popover.offsetHeight - 8;
  popover.style.top = `${Math.max(8, Math.min(box.bottom + 6, below)) + window.scrollY}px`;
}

/**
 * Waits until an element is on screen: x-show shows it a moment after its state has changed, and what is not shown
 * can neither be measured nor take the keyboard.
 * @param {HTMLElement} element
 */
export async function shown(element) {
  for (let frame = 0; frame < 30 && !element.offsetWidth; frame += 1) await new Promise(requestAnimationFrame);
}

/**
 * Puts the keyboard into a popover: into its search box if it has one, so that typing and Enter choose.
 * @param {HTMLElement} popover
 */
export function focusFirst(popover) {
  const [search] = all(popover, "[data-filters], [data-find]");
  const [first] = all(popover, "input:not([type=hidden]), select, button");
  (search ?? first)?.focus();
}

/**
 * Replaces an element's content and keeps the keyboard where it was.
 * @param {HTMLElement} element
 * @param {string} html
 */
export function replaceContent(element, html) {
  const active = /** @type {HTMLInputElement | null} */ (document.activeElement);
  const held = active && element.contains(active) ? { id: active.id, caret: active.selectionStart } : null;
  const scroll = element.scrollTop;
  const unfolded = all(element, "details[open] > summary").map((summary) => summary.textContent);
  element.innerHTML = html;
  for (const summary of all(element, "details > summary")) {
    const details = /** @type {HTMLDetailsElement} */ (summary.parentElement);
    if (unfolded.includes(summary.textContent)) details.open = true;
  }
  element.scrollTop = scroll;
  if (held?.id) takeKeyboard(held.id, held.caret);
}

/**
 * @param {string} id
 * @param {number | null} caret
 */
function takeKeyboard(id, caret) {
  const field = /** @type {HTMLInputElement | null} */ (document.getElementById(id));
  field?.focus();
  if (caret != null && field?.setSelectionRange && field.type !== "number") field.setSelectionRange(caret, caret);
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
  for (const none of all(list, "[data-none]")) none.hidden = any;
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
