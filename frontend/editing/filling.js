// What blocks show is chosen: a picture, a control of the trail, and what fills an empty place.
import { all, near } from "../lib/dom.js";
import { formData } from "../lib/forms.js";
import { post, postFile } from "../lib/http.js";
import { failed, openDialog, sayWithin, toast } from "../lib/page.js";

/** @returns {any} Methods of the editor. */
export function filling() {
  return {
    /** Asks for a picture and what is on it; null for none. */
    async askPicture(picture = "", text = "") {
      const { element, closed } = openDialog("choose-picture", "Picture");
      const words = /** @type {HTMLInputElement} */ (element.querySelector("[name=text]"));
      const list = element.querySelector("#picture-options");
      let chosen = picture;
      const show = () => {
        for (const option of all(list, "[data-picture]"))
          option.setAttribute("aria-pressed", String(option.dataset.picture === chosen));
      };
      words.value = text;
      show();
      list.addEventListener("click", (event) => {
        const option = near(event, "[data-picture]");
        if (!option) return;
        chosen = option.dataset.picture;
        if (!words.value) words.value = option.dataset.said ?? "";
        show();
      });
      const file = /** @type {HTMLInputElement} */ (element.querySelector("[type=file]"));
      file.addEventListener("change", async () => {
        try {
          const { html } = await postFile(this.$root.dataset.pictures, file.files[0]);
          list.insertAdjacentHTML("afterbegin", html);
          chosen = /** @type {HTMLElement} */ (list.firstElementChild).dataset.picture;
          show();
        } catch (error) {
          failed(error);
        }
      });
      return (await closed) === "ok" && chosen ? { picture: chosen, text: words.value.trim() } : null;
    },
    async addPicture() {
      const said = await this.askPicture();
      if (said) this.add({ kind: "image", ...said });
    },
    async choosePicture({ id, picture, text }) {
      const said = await this.askPicture(picture, text);
      if (said) this.edit({ edit: "set_block", block: id, ...said });
    },

    /** Asks which control of the trail stands in a block, or has one made; null for none. */
    async askControl() {
      if (!this.definition.controls.length && !(await this.chooseControl())) return null;
      const { controls } = this.definition;
      if (controls.length === 1) return controls[0].id;
      const { element, closed } = openDialog("choose-trail-control", "A control of the trail");
      const list = element.querySelector("[data-controls]");
      for (const { id, name } of controls) {
        const option = document.createElement("button");
        Object.assign(option, { type: "button", className: "option", textContent: name });
        option.dataset.close = id;
        list.append(option);
      }
      return (await closed) || null;
    },
    async addControlBlock() {
      const control = await this.askControl();
      if (control) this.add({ kind: "control", control });
    },
    async chooseControlOf({ id }) {
      const control = await this.askControl();
      if (control) this.edit({ edit: "set_block", block: id, control });
    },

    // The form by which a place is given to a colleague, who finds it in the inbox.
    offerToGive(element, block, wanted) {
      const form = /** @type {HTMLFormElement | null} */ (element.querySelector("[data-give]"));
      if (!form) return;
      /** @type {HTMLInputElement} */ (form.querySelector("[name=words]")).value = wanted;
      form.addEventListener("submit", async (event) => {
        event.preventDefault();
        try {
          await this.flush(); // the place is to be there
          toast((await post(`${this.base}give/`, { block, ...formData(form) })).message);
          element.close("given");
          this.fillAnew(block);
        } catch (problem) {
          sayWithin(form, problem);
        }
      });
    },
    async fillPlace({ id, text: wanted }) {
      const { element, closed } = openDialog("fill-place", "Fill this place");
      const words = /** @type {HTMLInputElement} */ (element.querySelector("[name=wanted]"));
      words.value = wanted;
      this.offerToGive(element, id, wanted);
      const kind = await closed;
      const said = words.value.trim();
      const fill = (more) => this.edit({ edit: "fill_place", block: id, kind, ...more });
      const acts = {
        chart: () =>
          this.flush()
            .then(() => this.askChart(id))
            .then((chart) => chart && fill({ chart })),
        text: () => this.askText().then((text) => text && fill(text)),
        heading: () => fill({ text: "Heading" }).then((made) => made && this.editTitle(id)),
        image: () => this.askPicture().then((picture) => picture && fill(picture)),
        control: () => this.askControl().then((control) => control && fill({ control })),
        wanted: () => said !== wanted && this.edit({ edit: "set_block", block: id, text: said }),
      };
      return acts[kind]?.();
    },
  };
}
