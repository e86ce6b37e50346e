// The small editor of a chart's filters, in a dialog, for one of the dashboard's own. Part of the dashboard editor.
import { formulaEditor } from "../formula.js";
import { near } from "../lib/dom.js";
import { filledForm, formData } from "../lib/forms.js";
import { numberQuestions, post, postForHtml } from "../lib/http.js";
import { newId } from "../lib/ids.js";
import { debounce, dialog, failed } from "../lib/page.js";
import { numberAsParameter } from "../lib/number_parameter.js";
import { focusFirst, moveByArrows } from "../lib/popover.js";
import { updateContent } from "../lib/update.js";

const WITH_DONE = `<div data-clause-of></div>
<p class="mt-3"><button type="button" class="btn btn-primary" data-close="">Done</button></p>`;

export class FilterEditor {
  /**
   * @param {any} editor The dashboard editor.
   * @param {string} dataset
   * @param {string | null} id Of the filter; a new one gets one with its first setting.
   */
  constructor(editor, dataset, id) {
    this.editor = editor;
    this.dataset = dataset;
    this.id = id;
    this.at = { field: "", way: "", find: "" };
    /** @type {HTMLFormElement | null} A form that was changed and waits for its button. */
    this.waiting = null;
    this.beginQuestion = numberQuestions();
    this.search = debounce((/** @type {string} */ find) => this.show({ find }).catch(failed), 250);
  }

  async open() {
    try {
      const html = await this.clause();
      const { element } = dialog(WITH_DONE, { label: "A filter of the dashboard" });
      this.element = element;
      this.place = /** @type {HTMLElement} */ (element.querySelector("[data-clause-of]"));
      this.place.innerHTML = html;
      focusFirst(this.place);
      formulaEditor().watch(element);
      element.addEventListener("keydown", (event) => moveByArrows(event, this.place));
      element.addEventListener("click", (event) => this.finished(event), true);
      element.addEventListener("click", (event) => this.clicked(event));
      element.addEventListener("change", (event) => this.changed(event));
      element.addEventListener("submit", (event) => this.submitted(event));
      element.addEventListener("input", ({ target }) => {
        const box = /** @type {HTMLInputElement} */ (target);
        if ("find" in box.dataset) this.search(box.value);
      });
    } catch (error) {
      failed(error);
    }
  }

  /** The place of the filter among those on its dataset; a new one comes after the last. */
  get index() {
    const own = this.editor.definition.filters.filter(({ dataset }) => dataset === this.dataset);
    const place = own.findIndex(({ id }) => id === this.id);
    return place < 0 ? own.length : place;
  }

  clause() {
    const { definition } = this.editor;
    const asked = { definition, dataset: this.dataset, clause: "only", index: this.index, ...this.at };
    return postForHtml(`${this.editor.base}filters/clause/`, asked);
  }
  async show(changes = {}) {
    this.at = { ...this.at, ...changes };
    const isLast = this.beginQuestion();
    const html = await this.clause();
    if (isLast()) updateContent(this.place, html);
  }

  /** @param {HTMLFormElement} form */
  async set(form) {
    if (!form.reportValidity()) return;
    const { definition, base } = this.editor;
    const edit = { edit: "set_filter", ...formData(form), index: this.index };
    const asked = { definition, dataset: this.dataset, index: this.index, edit };
    const { filter } = await post(`${base}filters/made/`, asked);
    const id = this.id ?? newId();
    const change = this.id
      ? { edit: "set_filter", filter_id: id, filter }
      : { edit: "add_filter", id, dataset: this.dataset, filter };
    this.id = id;
    if (await this.editor.edit(change)) await this.show({ field: "", way: "" });
  }

  async clicked(event) {
    const button = near(event, "[data-open], [data-fill], [data-edit], [data-number-parameter]");
    if (!button) return;
    event.preventDefault();
    const { open, field = "", way = "", at } = button.dataset;
    try {
      if (button.dataset.numberParameter) return await this.letReadersSet(button);
      if (button.dataset.fill) await this.set(/** @type {HTMLFormElement} */ (filledForm(button, "filter")));
      else if (open) {
        if (Number(at) !== this.index) this.id = null; // another one
        await this.show({ field, way, find: "" });
      } else this.remove();
    } catch (error) {
      failed(error);
    }
  }
  // The number becomes a parameter, and a control by which readers set it stands in the trail.
  async letReadersSet(button) {
    const { id: parameter, form } = await numberAsParameter(button);
    this.waiting = null;
    await this.set(form);
    await this.editor.addControl({ dataset: this.dataset, parameter });
  }
  remove() {
    this.element.close();
    if (this.id) this.editor.edit({ edit: "remove_filter", filter_id: this.id });
  }
  // A form without a button holds as it is changed, one with it when it is pressed, or when one is done.
  changed(event) {
    const form = /** @type {HTMLFormElement} */ (near(event, "form[data-edit-form]"));
    if (!form || "find" in event.target.dataset) return;
    if (form.querySelector("[type=submit]")) this.waiting = form;
    else this.set(form).catch(failed);
  }
  finished(event) {
    if (!near(event, "[data-close]") || !this.waiting?.isConnected) return;
    event.preventDefault();
    event.stopPropagation();
    const form = this.waiting;
    this.waiting = null;
    if (form.reportValidity())
      this.set(form)
        .then(() => this.element.close())
        .catch(failed);
  }
  submitted(event) {
    event.preventDefault();
    const form = /** @type {HTMLFormElement} */ (near(event, "form[data-edit-form]"));
    this.waiting = null;
    if (form) this.set(form).catch(failed);
  }
}
