// Small things every page shares: notices, dialogs, forms as edits, positions of popovers.
import { post } from "./http.js";

export function toast(message, action = null, lasting = 7000) {
  const box = document.getElementById("toasts");
  const item = document.createElement("div");
  item.className = "toast";
  item.append(Object.assign(document.createElement("span"), { textContent: message }));
  const close = () => item.remove();
  if (action) {
    const button = Object.assign(document.createElement("button"), { type: "button", textContent: action.label });
    button.addEventListener("click", () => {
      close();
      action.run();
    });
    item.append(button);
  }
  const dismiss = Object.assign(document.createElement("button"), { type: "button", textContent: "Close" });
  dismiss.addEventListener("click", close);
  item.append(dismiss);
  box.append(item);
  if (lasting) setTimeout(close, lasting);
}

export function failed(error) {
  if (error.name !== "AbortError" && error.status !== 401) toast(error.message, null, 12000);
}

// Shows HTML in a dialog; resolves with the value of the button that closed it.
export function dialog(html, { wide = false, label = "" } = {}) {
  const element = document.createElement("dialog");
  element.className = wide ? "dialog dialog-wide" : "dialog";
  if (label) element.setAttribute("aria-label", label);
  element.innerHTML = html;
  document.body.append(element);
  element.addEventListener("click", (event) => {
    const button = event.target.closest("[data-close]");
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

function read(field) {
  const value = field.value;
  switch (field.dataset.as) {
    case "json": return JSON.parse(value);
    case "int": return value === "" ? null : Number.parseInt(value, 10);
    case "number": return value === "" ? null : Number(value);
    case "date": return value === "" ? null : value;
    case "bool": return value === "true";
    default: return value;
  }
}

// A form's values as nested data: names with dots become objects; boxes marked data-list are collected in a list.
export function formData(form) {
  const data = {};
  for (const field of form.elements) {
    if (!field.name || field.disabled) continue;
    const path = field.name.split(".");
    const last = path.pop();
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

// Fills a form from the values on a button (a choice such as "Last 12 months"); returns the form.
export function filledForm(button, prefix) {
  const form = button.closest("form");
  const values = { back: 0, ...JSON.parse(button.dataset.fill) };
  for (const [name, value] of Object.entries(values)) form.elements[`${prefix}.${name}`].value = value;
  return form;
}

// What a control's form is set to; undefined if it does not make sense (which is said), null if it shows all.
export function chosen(form) {
  if (!form.reportValidity()) return undefined;
  const { choice, none } = formData(form);
  if (none) return null;
  if (choice.set) {
    const set = choice.set.filter((value) => value !== null && value !== "");
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

// Days and times are typed part by part: drawing their form anew would take the keyboard back to the first one.
export const isTyped = (input) => input.matches("[type=date], [type=time]");

// A year that is being typed goes through 0002, 0020 and 0202.
export const isHalfTyped = (input) => input.type === "date" && input.value !== "" && input.value < "1000";

// Puts a popover under what opened it, inside the window.
export function placeUnder(popover, anchor) {
  const box = anchor.getBoundingClientRect();
  const width = popover.offsetWidth;
  const left = Math.max(12, Math.min(box.left, document.documentElement.clientWidth - width - 12));
  popover.style.left = `${left + window.scrollX}px`;
  const below = document.documentElement.clientHeight - popover.offsetHeight - 8;
  popover.style.top = `${Math.max(8, Math.min(box.bottom + 6, below)) + window.scrollY}px`;
}

// Waits until an element is on screen: x-show shows it a moment after its state has changed, and what is not shown
// can neither be measured nor take the keyboard.
export async function shown(element) {
  for (let frame = 0; frame < 30 && !element.offsetWidth; frame += 1) await new Promise(requestAnimationFrame);
}

// Puts the keyboard into a popover: into its search box if it has one, so that typing and Enter choose.
export function focusFirst(popover) {
  const search = popover.querySelector("[data-filters], [data-find]");
  (search ?? popover.querySelector("input:not([type=hidden]), select, button"))?.focus();
}

// Replaces an element's content and keeps the keyboard where it was.
export function replaceContent(element, html) {
  const active = element.contains(document.activeElement) ? document.activeElement : null;
  const id = active?.id;
  const caret = active?.selectionStart;
  const scroll = element.scrollTop;
  const unfolded = [...element.querySelectorAll("details[open] > summary")].map((summary) => summary.textContent);
  element.innerHTML = html;
  for (const summary of element.querySelectorAll("details > summary")) {
    if (unfolded.includes(summary.textContent)) summary.parentElement.open = true;
  }
  element.scrollTop = scroll;
  const again = id && document.getElementById(id);
  if (again) {
    again.focus();
    if (caret != null && again.setSelectionRange && again.type !== "number") again.setSelectionRange(caret, caret);
  }
}

export function debounce(run, wait) {
  let timer;
  return (...values) => {
    clearTimeout(timer);
    timer = setTimeout(() => run(...values), wait);
  };
}

// Filters a list of options by what is typed into its search box.
export function filterOptions(box) {
  const words = box.value.trim().toLowerCase();
  const list = document.getElementById(box.dataset.filters);
  let any = false;
  for (const option of list.querySelectorAll("[data-words]")) {
    option.hidden = !option.dataset.words.toLowerCase().includes(words);
    any ||= !option.hidden;
  }
  const none = list.querySelector("[data-none]");
  if (none) none.hidden = any;
}

// Arrow keys move between a popover's or list's options.
export function moveByArrows(event, root) {
  if (!["ArrowDown", "ArrowUp"].includes(event.key)) return;
  if (event.target.matches("select, textarea, input[type=number], input[type=date]")) return;
  const stops = [...root.querySelectorAll("button, input, select, a[href]")].filter((item) => item.offsetParent && !item.disabled);
  const here = stops.indexOf(document.activeElement);
  const next = stops[here + (event.key === "ArrowDown" ? 1 : -1)];
  if (next) {
    event.preventDefault();
    next.focus();
  }
}

export async function postAndOfferUndo(address, after) {
  try {
    const { message, undo } = await post(address);
    after?.();
    toast(message, undo && { label: "Undo", run: () => post(undo).then(() => location.reload(), failed) });
  } catch (error) {
    failed(error);
  }
}
