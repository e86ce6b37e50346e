// The editor of a chart's own specification. What is wrong and what can be written is for the server to say; the page
// draws what has no mistakes, a moment after the last key.
import { all, made } from "./lib/dom.js";
import { post } from "./lib/http.js";
import { debounce, failed } from "./lib/page.js";

export function specification() {
  let editor = null;
  let taken = ""; // what the drawing shows

  return {
    said: "",

    async init() {
      const { codeEditor } = await import("./lib/code_editor.js");
      this.draw = debounce(() => this.take(), 700);
      editor = codeEditor(this.$refs.editor, {
        label: "Specification",
        ask: (text, caret) => this.grammar({ text, caret }),
        changed: () => this.draw(),
      });
      await this.load();
    },
    grammar(about) {
      return post(`${this.base}grammar/`, { definition: this.definition, ...about });
    },
    async load() {
      try {
        const { text, fields } = await this.grammar({ begins: true });
        taken = text;
        editor?.show(text);
        this.said = "";
        this.$refs.fields.replaceChildren(
          ...fields.map(([name, kind]) => {
            const button = made("button", { type: "button", className: "option", textContent: name });
            button.append(made("span", { className: "tail", textContent: kind }));
            button.dataset.name = name;
            return button;
          }),
        );
      } catch (error) {
        failed(error);
      }
    },
    async take() {
      const text = editor.text();
      const problem = await editor.check();
      if (text !== editor.text()) return; // there was more to write
      this.said = problem ? `Line ${problem.line}: ${problem.message} The last good drawing stays.` : "";
      if (problem || text === taken) return;
      taken = text;
      await this.answer({ edit: "set_specification", text });
    },
    async even() {
      try {
        editor.show((await this.grammar({ text: editor.text(), even: true })).text);
        this.draw();
      } catch (error) {
        failed(error);
      }
    },
    async beginAgain() {
      const before = this.definition;
      try {
        const { text } = await post(`${this.base}grammar/`, {
          definition: { ...before, specification: "" },
          begins: true,
        });
        editor.show(text);
        this.draw();
      } catch (error) {
        failed(error);
      }
    },
    insert(event) {
      const button = all(this.$refs.fields, "[data-name]").find((each) => each.contains(event.target));
      if (button) editor.insert(JSON.stringify(button.dataset.name));
    },
    destroy() {
      editor?.destroy();
    },
  };
}
