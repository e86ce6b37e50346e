// The page of one formula of a model: its box, what it gives while it is typed, and keeping it.
import { formulaEditor } from "./formula.js";
import { made, near } from "./lib/dom.js";
import { getHtml, post } from "./lib/http.js";
import { formData } from "./lib/forms.js";
import { dialog, failed } from "./lib/page.js";

export function modelFormula() {
  let editor = null;
  const settings = (form) => formData(form);
  return {
    init() {
      const form = this.$refs.form;
      editor = formulaEditor(
        (caret, formula) => {
          const { by, grain } = settings(form);
          return post(this.$root.dataset.check, { formula, caret, by, grain });
        },
        () => {},
      );
      editor.attach(form);
      form.querySelector("textarea").focus();
    },
    typed(event) {
      if (event.target.matches("[data-formula-box]")) editor.typed(event.target);
    },
    changed(event) {
      if (event.target.matches("#try-by, #try-grain")) editor.typed();
    },
    keys(event) {
      if (editor.keys(event)) return;
      if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "s") {
        event.preventDefault();
        this.save();
      }
    },
    async clicked(event) {
      const put = near(event, "[data-put]");
      const taken = near(event, "[data-insert]");
      if (put) editor.put(put.dataset.put);
      else if (taken) editor.take(taken);
      else if (near(event, "[data-reference-open]"))
        dialog(await getHtml(this.$root.dataset.reference), { wide: true, label: "What formulas can do" });
    },
    async save() {
      const form = this.$refs.form;
      if (form.reportValidity())
        await keepFormula(this.$root.dataset.save, settings(form), (answer) => {
          location.href = answer.address;
        });
    },
  };
}

// Keeps a formula in the model; asks first if charts would not work any more.
export async function keepFormula(address, data, then) {
  try {
    then(await post(address, data));
  } catch (error) {
    if (error.status !== 409 || !error.data?.charts) return failed(error);
    const list = document.createElement("ul");
    list.append(
      ...error.data.charts.map((text) => made("li", { textContent: text, className: "border-t border-rule py-1" })),
    );
    const html = `<h2>This change breaks charts</h2>${list.outerHTML}<p class="mt-4 flex gap-2"><button type="button" class="btn btn-primary" data-close="">Leave it as it is</button><button type="button" class="btn" data-close="anyway">Save anyway</button></p>`;
    if ((await dialog(html, { label: "This change breaks charts" }).closed) === "anyway")
      await keepFormula(address, { ...data, anyway: true }, then);
  }
}
