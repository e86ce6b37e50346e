// Boxes for days and numbers take what people write; the server says what it understood, and so does the box.
import { all, made, near } from "./dom.js";
import { getJson } from "./http.js";

/** @param {HTMLInputElement} box */
const isNew = (box) => box.value !== (box.dataset.known ?? box.defaultValue);

/**
 * @param {HTMLInputElement} box
 * @param {string} message
 */
function say(box, message) {
  const place = box.closest(".day-box") ?? box;
  const there = place.nextElementSibling;
  if (there?.matches(".not-understood")) there.remove();
  box.setAttribute("aria-invalid", String(message !== ""));
  if (!message) return;
  const said = made("p", { className: "not-understood", textContent: message });
  said.setAttribute("role", "alert");
  place.after(said);
}

/**
 * Asks what a box means; false, and said beside it, if that is nothing.
 * @param {HTMLInputElement} box
 */
async function understand(box) {
  const text = box.value.trim();
  try {
    const query = new URLSearchParams({ what: box.dataset.understood ?? "", text });
    const { value, said, problem } = text ? await getJson(`/understood/?${query}`) : { value: "", said: "" };
    if (box.value.trim() !== text) return false; // somebody goes on typing
    if (problem) {
      say(box, problem);
      return false;
    }
    box.value = said;
    box.dataset.known = said;
    if (box.dataset.understood === "day") box.dataset.day = value;
    say(box, "");
    return true;
  } catch (error) {
    say(box, /** @type {Error} */ (error).message);
    return false;
  }
}

/** Makes the boxes of the page work; they tell of a change once it is understood. */
export function watchBoxes() {
  document.addEventListener(
    "change",
    async (event) => {
      const box = /** @type {HTMLInputElement | null} */ (near(event, "[data-understood]"));
      if (!box || !isNew(box)) return;
      event.stopImmediatePropagation();
      if (await understand(box)) box.dispatchEvent(new Event("change", { bubbles: true }));
    },
    true,
  );
  document.addEventListener(
    "submit",
    async (event) => {
      const form = /** @type {HTMLFormElement} */ (event.target);
      const waiting = /** @type {HTMLInputElement[]} */ (all(form, "[data-understood]")).filter(isNew);
      if (!waiting.length) return;
      event.preventDefault();
      event.stopImmediatePropagation();
      for (const box of waiting) if (!(await understand(box))) return box.focus();
      form.requestSubmit(/** @type {any} */ (event).submitter);
    },
    true,
  );
  document.addEventListener("click", (event) => {
    const place = near(event, "[data-calendar]")?.closest(".day-box");
    if (!place) return;
    const [box, picker] = /** @type {HTMLInputElement[]} */ (all(place, "input"));
    picker.value = box.dataset.day ?? "";
    picker.showPicker();
  });
  document.addEventListener(
    "change",
    (event) => {
      const place = near(event, ".day-picker")?.closest(".day-box");
      if (!place) return;
      event.stopImmediatePropagation();
      const [box, picker] = /** @type {HTMLInputElement[]} */ (all(place, "input"));
      box.value = picker.value;
      box.dispatchEvent(new Event("change", { bubbles: true }));
    },
    true,
  );
}
