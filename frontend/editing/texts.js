// What blocks say: texts in a dialog with a preview, headings and titles of groups where they stand.
import { made, near } from "../lib/dom.js";
import { formulaEditor } from "../formula.js";
import { formData } from "../lib/forms.js";
import { getHtml, numberQuestions, post } from "../lib/http.js";
import { debounce, dialog, failed, openDialog, sayWithin } from "../lib/page.js";

/** @returns {any} Methods of the editor. */
export function texts() {
  return {
    /** Asks for a text with its numbers; null for none. */
    async askText(text = "", numbers = []) {
      const { element, closed } = openDialog("edit-text", "Text");
      const area = element.querySelector("textarea");
      const preview = element.querySelector("[data-preview]");
      const show = async () => {
        preview.innerHTML = (await post(this.$root.dataset.text, { text: area.value })).html;
      };
      const later = debounce(show, 200);
      const there = [...numbers];
      area.value = text;
      area.addEventListener("input", later);
      element.addEventListener("click", (event) => {
        const button = near(event, "[data-wrap], [data-line], [data-link], [data-put], [data-add-number]");
        if (!button) return;
        if ("addNumber" in button.dataset) {
          this.askNumber().then((number) => {
            if (!number) return;
            if (!there.some(({ name }) => name === number.name)) there.push(number);
            area.setRangeText(`{${number.name}}`, area.selectionStart, area.selectionEnd, "end");
            area.focus();
            later();
          });
          return;
        }
        const { selectionStart: from, selectionEnd: to, value } = area;
        const marked = value.slice(from, to) || "text";
        const { wrap, line, put } = button.dataset;
        const lineStart = value.lastIndexOf("\n", from - 1) + 1;
        if (wrap) area.setRangeText(wrap + marked + wrap, from, to, "select");
        else if (line) area.setRangeText(line, lineStart, lineStart, "end");
        else if (put) area.setRangeText(put.replaceAll("\\n", "\n"), from, to, "end");
        else area.setRangeText(`[${marked}](https://)`, from, to, "end");
        area.focus();
        later();
      });
      area.focus();
      if (text) show();
      if ((await closed) !== "ok" || !area.value.trim()) return null;
      return { text: area.value.trim(), numbers: there };
    },
    async editText({ id, text, numbers }) {
      const said = await this.askText(text, numbers);
      if (said) this.edit({ edit: "set_block", block: id, ...said });
    },
    /** Asks for a measure, and perhaps of what only; null for none. */
    async askNumber() {
      const base = `${this.base}numbers/`;
      const { element, closed } = dialog("", { label: "A number" });
      formulaEditor().watch(element);
      let number = null;
      const show = async (dataset = "") => {
        element.innerHTML = await getHtml(`${base}?dataset=${encodeURIComponent(dataset)}`);
      };
      const fields = () => formData(element.querySelector("form"));
      const beginQuestion = numberQuestions();
      const offerValues = async () => {
        const { dataset, field, value } = fields();
        if (!field) return;
        const isLast = beginQuestion();
        const query = new URLSearchParams({ dataset, field, find: value });
        const html = await getHtml(`${base}values/?${query}`);
        if (isLast()) element.querySelector("datalist").innerHTML = html;
      };
      const offerSoon = debounce(offerValues, 200);
      element.addEventListener("change", (event) => {
        if (near(event, "[data-dataset]")) show(fields().dataset).catch(failed);
        if (near(event, "[data-field]")) offerValues().catch(failed);
      });
      element.addEventListener("input", (event) => near(event, "[data-value]") && offerSoon());
      element.addEventListener("submit", async (event) => {
        event.preventDefault();
        try {
          ({ number } = await post(`${base}made/`, fields()));
          element.close();
        } catch (problem) {
          sayWithin(element, problem);
        }
      });
      try {
        await show();
      } catch (error) {
        element.close();
        failed(error);
      }
      await closed;
      return number;
    },
    // A heading, or the title of a group, is written where it stands.
    editTitle(id) {
      const element = this.element(id);
      const block = this.blockOf(id);
      if (!element || !block) return;
      const part = block.kind === "group" ? "title" : "text";
      const box = made("input", { value: block[part], className: "w-full font-bold", maxLength: 300 });
      box.setAttribute("aria-label", block.kind === "group" ? "Title of the group" : "Heading");
      const title = element.querySelector(":scope > .block-title");
      if (title) title.replaceChildren(box);
      else element.prepend(box);
      box.focus();
      box.select();
      const done = () => {
        const text = box.value.trim() || (part === "text" ? "Heading" : "");
        if (text === this.blockOf(id)?.[part]) this.fillAnew(id);
        else this.edit({ edit: "set_block", block: id, [part]: text });
      };
      box.addEventListener("blur", done, { once: true });
      box.addEventListener("keydown", (event) => {
        event.stopPropagation();
        if (event.key === "Enter" || event.key === "Escape") box.blur();
      });
    },
  };
}
