// The controls of a dashboard, and its colours of values, in the editor.
import { all, byId, made, near } from "../lib/dom.js";
import { chosen, filledForm, formData, isTyped } from "../lib/forms.js";
import { handleMoved } from "../lib/handles.js";
import { getHtml, numberQuestions, post, postForHtml } from "../lib/http.js";
import { dialog, failed, loadOptions, openDialog, sayWithin } from "../lib/page.js";
import { moveByArrows, placeUnder, shown } from "../lib/popover.js";
import { updateContent } from "../lib/update.js";

/** @returns {any} Methods of the editor. */
export function controls() {
  const beginQuestion = numberQuestions();

  return {
    openControl: null,
    filterWords: {},
    /** @type {string[]} Those of the dashboard's charts. */
    datasets: [],

    showControls() {
      const chips = this.definition.controls.map((control) => {
        const chip = made("span", { className: "chip" });
        const open = made("button", {
          type: "button",
          textContent: control.name,
          title: "What it is set to at first",
        });
        open.dataset.control = control.id;
        const reach = made("button", { type: "button", textContent: "◎", title: "Which blocks it reaches" });
        reach.setAttribute("aria-label", `Which blocks ${control.name} reaches`);
        reach.dataset.reach = control.id;
        const away = made("button", { type: "button", textContent: "✕" });
        away.setAttribute("aria-label", `Remove the control ${control.name}`);
        away.dataset.away = control.id;
        chip.append(open, reach, away);
        return chip;
      });
      const none = made("span", { className: "muted", textContent: "none yet" });
      const fixed = this.filterChips(this.filterWords);
      this.$refs.controls.replaceChildren(...(chips.length || fixed.length ? [...fixed, ...chips] : [none]));
    },
    async chooseControl() {
      const { element, closed } = openDialog("choose-control", "Add a control");
      loadOptions(element, `${this.base}edit/fields/`).then(() => this.ownDatasetsFirst(element));
      const data = /** @type {HTMLSelectElement} */ (element.querySelector("[data-chooser-data]"));
      if (this.datasets.length) [data.value] = this.datasets;
      const choice = await closed;
      if (!choice) return false;
      if (choice.startsWith("chooser ")) return this.addChooser(choice.slice("chooser ".length), data.value);
      const [dataset, field] = choice.split(" ");
      return this.addControl({ dataset, ...(field.startsWith(":") ? { parameter: field.slice(1) } : { field }) });
    },
    // A control of the usual kind on a field or a parameter of a dataset.
    async addControl(on) {
      try {
        const control = await post(`${this.base}new-control/`, on);
        return await this.edit({ edit: "add_control", control });
      } catch (error) {
        failed(error);
        return false;
      }
    },
    // What can be chosen of the data that is on the dashboard stands before that of all other data.
    ownDatasetsFirst(element) {
      const own = all(element, "[data-close]").filter(({ dataset }) =>
        this.datasets.includes(dataset.close.split(" ")[0]),
      );
      own[0]?.parentElement.prepend(...own);
    },
    // A control by which readers choose what charts show, from options that are ticked.
    async addChooser(of, dataset) {
      try {
        const asked = { of, dataset };
        const { element } = dialog(await postForHtml(`${this.base}chooser/`, asked), { label: "What readers choose" });
        const form = element.querySelector("form");
        form.addEventListener("submit", async (event) => {
          event.preventDefault();
          try {
            const control = await post(`${this.base}chooser/made/`, { ...asked, ...formData(form) });
            const refused = (problem) => sayWithin(form, problem);
            if (await this.edit({ edit: "add_control", control }, refused)) element.close();
          } catch (problem) {
            sayWithin(form, problem);
          }
        });
        return true;
      } catch (error) {
        failed(error);
        return false;
      }
    },
    // Colours of values: a line for each; a field or value of several has · between them.
    async setColours() {
      const { colours, own_colours: own } = this.definition;
      const { element } = openDialog("set-colours", "Colours and letters");
      const place = element.querySelector("[data-colours]");
      const inputs = (row) => /** @type {HTMLInputElement[]} */ (all(row, "input"));
      const add = (row = {}) => {
        place.insertAdjacentHTML("beforeend", byId("colour-row").innerHTML);
        for (const input of inputs(place.lastElementChild)) input.value = row[input.name] ?? "";
      };
      for (const { fields, colours: of } of colours ?? []) {
        for (const { values, colour } of of) {
          add({ fields: fields.join(" · "), values: values.map((value) => value ?? "(empty)").join(" · "), colour });
        }
      }
      add();
      inputs(place.lastElementChild)[0].focus();
      const palettes = /** @type {HTMLSelectElement[]} */ (all(element, "[data-palette]"));
      for (const choice of palettes) choice.value = this.definition.palettes[choice.name] ?? "";
      const letters = /** @type {HTMLSelectElement} */ (element.querySelector("[name=letters]"));
      letters.value = this.definition.letters;
      const none = /** @type {HTMLInputElement} */ (element.querySelector("[name=own]"));
      none.checked = Boolean(own);
      const written = (row) => Object.fromEntries(inputs(row).map(({ name, value }) => [name, value]));
      element.addEventListener("click", async (event) => {
        near(event, "[data-away]")?.closest("[data-row]").remove();
        if (near(event, "[data-add]")) add();
        if (!near(event, "[data-take]")) return;
        try {
          const rows = all(place, "[data-row]").map(written);
          const set = { rows, own: none.checked };
          const understood = await post(`${this.base}colours/`, set);
          const named = Object.fromEntries(palettes.map(({ name, value }) => [name, value]));
          await this.edit({ edit: "set_colours", ...understood, palettes: named, letters: letters.value });
          element.close();
        } catch (error) {
          failed(error);
        }
      });
    },
    controlClicked(event) {
      const { control, away, filter, filterAway, reach } = event.target.dataset;
      if (filter) this.changeFilter(filter);
      else if (reach) this.setScope(reach);
      else if (filterAway) this.edit({ edit: "remove_filter", filter_id: filterAway });
      else if (away) this.edit({ edit: "remove_control", control: away });
      else if (control) this.showControl(control, "", event.target);
    },
    async showControl(id, find = "", anchor = null) {
      this.openControl = id;
      const isLast = beginQuestion();
      try {
        await this.flush();
        const html = await getHtml(`${this.base}controls/${id}/?draft=1&find=${encodeURIComponent(find)}`);
        if (!isLast()) return;
        if (!anchor) {
          if (this.popoverOpen) updateContent(this.$refs.popover, html); // what was closed meanwhile stays so
        } else {
          this.$refs.popover.innerHTML = html;
          this.popoverOpen = true;
          await shown(this.$refs.popover);
          placeUnder(
            this.$refs.popover,
            this.$refs.controls.querySelector(`[data-control="${id}"]`) ?? this.$refs.controls,
          );
        }
      } catch (error) {
        failed(error);
      }
    },
    setControl(id, choice) {
      return this.edit({ edit: "set_control", control: id, choice });
    },
    popoverClicked(event) {
      const fill = near(event, "[data-fill]");
      const everything = near(event, "[data-all]");
      if (fill) this.chooseFrom(filledForm(fill, "choice"));
      else if (everything) {
        this.setControl(everything.dataset.all, null);
        this.popoverOpen = false;
      }
    },
    popoverChanged(event) {
      const form = near(event, "form[data-choice]");
      if (!form || "find" in event.target.dataset) return;
      this.chooseFrom(form, isTyped(event.target));
    },
    async chooseFrom(form, typed = false) {
      const choice = chosen(form);
      if (choice === undefined) return;
      await this.setControl(form.dataset.choice, choice);
      if (!typed)
        await this.showControl(form.dataset.choice, this.$refs.popover.querySelector("[data-find]")?.value ?? "");
    },
    popoverTyped(event) {
      handleMoved(event);
      if ("find" in event.target.dataset) this.typed(event.target);
    },
    popoverKeys(event) {
      moveByArrows(event, this.$refs.popover);
    },
  };
}
