// What blocks say: texts in a dialog with a preview, headings and titles of groups where they stand.
import { made, near } from "../lib/dom.js";
import { post } from "../lib/http.js";
import { debounce, openDialog } from "../lib/page.js";

/** @returns {any} Methods of the editor. */
export function texts() {
  return {
    async askText(text) {
      const { element, closed } = openDialog("edit-text", "Text");
      const area = element.querySelector("textarea");
      const preview = element.querySelector("[data-preview]");
      const show = async () => {
        preview.innerHTML = (await post(this.$root.dataset.text, { text: area.value })).html;
      };
      const later = debounce(show, 200);
      area.value = text;
      area.addEventListener("input", later);
      element.addEventListener("click", (event) => {
        const button = near(event, "[data-wrap], [data-line], [data-link]");
        if (!button) return;
        const { selectionStart: from, selectionEnd: to, value } = area;
        const marked = value.slice(from, to) || "text";
        const { wrap, line } = button.dataset;
        const lineStart = value.lastIndexOf("\n", from - 1) + 1;
        if (wrap) area.setRangeText(wrap + marked + wrap, from, to, "select");
        else if (line) area.setRangeText(line, lineStart, lineStart, "end");
        else area.setRangeText(`[${marked}](https://)`, from, to, "end");
        area.focus();
        later();
      });
      area.focus();
      if (text) show();
      let written = text;
      area.addEventListener("input", () => {
        written = area.value;
      });
      element.addEventListener("close", () => {
        written = area.value;
      });
      return (await closed) === "ok" ? written.trim() : null;
    },
    async editText({ id, text: before }) {
      const text = await this.askText(before);
      if (text !== null) this.edit({ edit: "set_block", block: id, text });
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
