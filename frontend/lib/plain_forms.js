// Forms that make a whole page anew: what stands in them is kept if the session has ended, nothing can be reached, or
// something in them is refused.
import { made } from "./dom.js";
import { cookie, getJson, postForm } from "./http.js";
import { failed } from "./page.js";

/** @type {WeakSet<HTMLFormElement>} Forms that are under way. */
const busy = new WeakSet();
/** @type {WeakSet<HTMLFormElement>} Forms that the browser may send now. */
const ready = new WeakSet();

/**
 * @param {HTMLFormElement} form
 * @param {string} message
 */
function say(form, message) {
  form.querySelector("[data-refused]")?.remove();
  if (!message) return;
  const said = made("p", { className: "notice notice-problem", textContent: message });
  said.setAttribute("role", "alert");
  said.dataset.refused = "";
  form.append(said);
}

/**
 * Sends a form whose page says beside it what is refused.
 * @param {HTMLFormElement} form
 * @param {HTMLElement | null} submitter
 */
async function sendHere(form, submitter) {
  try {
    const { address } = await postForm(form, submitter);
    const here = location.pathname + location.search;
    location.href = address;
    if (address.startsWith(`${here}#`)) location.reload();
  } catch (error) {
    const { status, message } = /** @type {import("./http.js").Problem} */ (error);
    if (status === 422) say(form, message);
    else if (status === 409) {
      ready.add(form); // the server has something to ask on a page of its own
      form.requestSubmit(submitter);
    } else failed(error);
  }
}

/**
 * Lets the browser send a form once it is plain that it would be taken.
 * @param {HTMLFormElement} form
 * @param {HTMLElement | null} submitter
 */
async function sendOnward(form, submitter) {
  try {
    await getJson("/signed-in/");
    const token = /** @type {HTMLInputElement} */ (form.elements.namedItem("csrfmiddlewaretoken"));
    token.value = cookie("csrftoken"); // a new session has a new one
    ready.add(form);
    form.requestSubmit(submitter);
  } catch (error) {
    failed(error);
  }
}

/** Makes such forms of the page keep what is in them; each is sent once. */
export function watchForms() {
  document.addEventListener("submit", async (event) => {
    const form = /** @type {HTMLFormElement} */ (event.target);
    const isSent = form.elements.namedItem("csrfmiddlewaretoken") && document.getElementById("find");
    if (event.defaultPrevented || !isSent || ready.delete(form)) return;
    event.preventDefault();
    if (busy.has(form)) return;
    busy.add(form);
    await ("keeps" in form.dataset ? sendHere : sendOnward)(form, event.submitter);
    busy.delete(form);
  });
}
