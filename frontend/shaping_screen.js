// The shaping screen and the exploring table. The server works the steps out; this page keeps their list and its history.
import { byId, made, near, sent } from "./lib/dom.js";
import { History } from "./lib/history.js";
import { shortcuts } from "./lib/keys.js";
import { getHtml, post, postForHtml } from "./lib/http.js";
import { formData } from "./lib/forms.js";
import { debounce, dialog, failed, toast } from "./lib/page.js";
import { focusFirst, moveByArrows, placeUnder, shown } from "./lib/popover.js";
import { updateContent } from "./lib/update.js";
import { formulaEditor } from "./formula.js";

const TEXT = ["text"];
const NUMBERS = ["whole", "decimal"];

/**
 * What can be done with a column or a cell: words, the new step, and whether it is finished as it is.
 * @typedef {[words: string, step: Record<string, any>, finished?: boolean]} Action
 * @param {{ id: string, name: string, kind: string }} column
 */
function columnActions({ id, name, kind }) {
  const quoted = /^[A-Za-z_]\w*$/.test(name) ? name : `"${name.replaceAll('"', '""')}"`;
  /** @type {Action[]} */
  const actions = [
    ["Sort, lowest first", { do: "sort", by: [{ field: id, descending: false }] }, true],
    ["Sort, highest first", { do: "sort", by: [{ field: id, descending: true }] }, true],
    ["Filter by it …", { do: "filter", filters: [{ field: id }] }],
    [
      "Group by it …",
      {
        do: "group",
        by: [{ field: id, grain: kind.startsWith("date") ? "month" : null }],
        measures: [{ field: "", aggregate: "count", name: "" }],
      },
    ],
    ["Rename …", { do: "rename", names: { [id]: name } }],
    ["Change type …", { do: "retype", fields: [id] }],
    ["Formula from it …", { do: "formula", name: `${name} …`, formula: quoted }],
    ["Duplicate", { do: "formula", name: `${name} (copy)`, formula: quoted }, true],
    ["Replace values …", { do: "replace", fields: [id] }],
    ["Fill empties …", { do: "fill", fields: [id] }],
  ];
  if (TEXT.includes(kind)) {
    actions.push(
      ["Map values …", { do: "map", field: id }],
      ["Trim blanks", { do: "trim", fields: [id] }, true],
      ["Change case …", { do: "case", fields: [id] }],
      ["Split …", { do: "split", field: id }],
    );
  }
  if (NUMBERS.includes(kind)) {
    actions.push(
      [
        "Difference from the row before …",
        { do: "formula", name: `Change of ${name.toLowerCase()}`, formula: `difference(${quoted})` },
      ],
      ["Put into bins …", { do: "bins", field: id, name: `${name} range` }],
    );
  }
  actions.push(["Leave it out", { do: "choose", how: "leave_out", fields: [id] }, true]);
  return actions;
}

export function shaping() {
  const start = sent("start");
  // The question on its way, or null. What begins a change says `while (busy) await busy;` first, and so builds on the
  // steps of the answer. Of two that wait, the first to go on makes the other wait again: a function of its own for
  // this line would let both go on at once.
  let busy = null;
  let waiting = null;
  let turn = 0;
  let opener = null;
  let formsClosed = 0;

  return {
    canUndo: false,
    canRedo: false,
    drafted: start.drafted,
    popoverOpen: false,
    editing: false,
    status: start.explore ? "as a table; nothing here changes the dataset" : "",
    at: "",
    all: false,
    page: 1,
    column: "",

    init() {
      this.history = new History(start.id, start.steps);
      this.revision = start.revision;
      this.formula = formulaEditor(
        (caret, text) => this.checkFormula(caret, text),
        () => this.formChanged(),
      );
      this.typed = debounce(() => this.sendForm(), 450);
      document.addEventListener("click", (event) => {
        if (this.popoverOpen && !near(event, ".popover, [data-column], td[data-field], [aria-haspopup]")) this.shut();
      });
      this.look();
    },

    get steps() {
      return this.history.now;
    },
    get empty() {
      return !this.historySize;
    },
    historySize: start.steps.length,

    set(steps) {
      if (!this.history.push(steps)) return;
      this.page = 1;
    },

    // Asks for the rows behind the step being looked at; `form` is what stands in the form of the step being edited,
    // and `steps` are the steps as they shall be. One request at a time, and of those that wait only the last is sent.
    look(form = null, steps = null) {
      // To look again, without a change, must not push a change out of the queue.
      if (form || steps || !waiting) {
        const opening = Boolean(form) && this.fresh && !this.editing;
        const edited = { editing: form, place: this.place, fresh: this.fresh, opening };
        waiting = { edited, steps, formsClosed };
      }
      if (!busy)
        busy = this.send().finally(() => {
          busy = null;
        });
      return busy;
    },
    async send() {
      this.$refs.table.classList.add("waiting");
      while (waiting) {
        const { edited, steps, formsClosed: closedWhenAsked } = waiting;
        waiting = null;
        try {
          const data = await post(this.$root.dataset.look, {
            steps: steps ?? this.steps,
            at: this.at,
            all: this.all,
            page: this.page,
            column: this.column,
            base: this.revision,
            explore: start.explore,
            ...edited,
          });
          if (data.revision !== undefined) this.revision = data.revision;
          if (data.step) this.at = data.step.id;
          this.set(data.steps);
          // An answer that comes after its form was closed does not open it again.
          await this.show(data, closedWhenAsked === formsClosed);
        } catch (error) {
          failed(error);
        }
      }
      this.$refs.table.classList.remove("waiting");
    },

    async show(data, withForm) {
      this.canUndo = this.history.past.length > 0;
      this.canRedo = this.history.future.length > 0;
      this.historySize = this.steps.length;
      if (!start.explore) {
        this.drafted = this.revision !== start.revision || start.drafted;
        this.status = this.drafted ? "changes are kept as a draft, not in force yet" : "in force";
      }
      updateContent(this.$refs.list, data.list);
      updateContent(this.$refs.table, data.table);
      if (withForm && data.form) await this.showForm(data.form);
      this.$root.dataset.turn = String(++turn);
    },

    // The form of a step.
    async showForm(html) {
      const opening = !this.editing;
      this.editing = true;
      updateContent(this.$refs.form, html);
      this.formula.attach(this.$refs.form);
      if (opening) {
        await shown(this.$refs.form);
        this.$refs.form.scrollIntoView({ block: "nearest" });
        this.$refs.form.querySelector("textarea, input:not([type=hidden]):not([data-filters]), select")?.focus();
      }
    },
    formStep() {
      const data = formData(this.$refs.form.querySelector("form"));
      for (const row of Object.values(data.measures ?? {})) {
        // The last row, with which one is added, has no "on" until something is picked in it.
        if (row.on === false) row.on = row.field !== "-";
        if (row.field === "-") row.field = "";
      }
      const old = this.steps.find((step) => step.id === data.id);
      return old?.off ? { ...data, off: true } : data;
    },
    sendForm() {
      if (this.editing) this.look(this.formStep());
    },
    formChanged(event) {
      if (event?.target.matches("[data-filters]")) return;
      if (event?.target.matches("[data-list]") && event.target.checked) this.moveToChosen(event.target);
      this.sendForm();
    },
    // A column just ticked goes behind those chosen before it, so that their order is that of choosing.
    moveToChosen(box) {
      const list = document.getElementById(`list-${box.name}`);
      const row = box.closest("[data-words]");
      const chosen = [...(list?.querySelectorAll("input:checked") ?? [])]
        .filter((other) => other !== box)
        .map((other) => other.closest("[data-words]"));
      if (!list || !row) return;
      if (chosen.length) chosen.at(-1).after(row);
      else list.prepend(row);
      box.focus(); // what is moved loses the keyboard
    },
    formTyped(event) {
      if (event.target.matches("[data-formula-box]")) this.formula.typed(event.target);
      else if (
        event.target.matches("input[type=number], input:not([type]), textarea") &&
        !event.target.matches("[data-filters]")
      )
        this.typed();
    },
    formKeys(event) {
      if (this.formula.keys(event)) return;
      if (event.key !== "Escape") return;
      this.sendForm(); // what was typed a moment ago
      this.closeForm();
    },
    async formClicked(event) {
      const { target } = event;
      const form = this.$refs.form.querySelector("form");
      if (target.closest("[data-cancel]")) return this.giveUp();
      if (target.closest("[data-reference-open]"))
        return dialog(await getHtml(this.$root.dataset.reference), { wide: true, label: "What formulas can do" });
      const key = target.closest("[data-key]");
      if (key) {
        const { own, other } = JSON.parse(key.dataset.key);
        form.elements["keys.0.own"].value = own;
        form.elements["keys.0.other"].value = other;
        this.sendForm();
      }
      const unset = target.closest("[data-unset]");
      if (unset) {
        form.elements[unset.dataset.unset].value = "";
        this.sendForm();
      }
      const rise = target.closest("[data-rise]");
      if (rise) {
        const row = rise.closest("[data-words]");
        row.previousElementSibling?.before(row);
        rise.focus();
        this.sendForm();
      }
      if (target.closest("[data-guesses]")) {
        for (const box of form.querySelectorAll("[data-guess]")) if (!box.value) box.value = box.dataset.guess;
        this.sendForm();
      }
      const taken = target.closest("[data-insert]");
      if (taken) this.formula.take(taken);
      return undefined;
    },
    closeForm() {
      this.closeFormQuietly();
      this.fresh = false;
      document.getElementById(`edit-${this.at}`)?.focus();
    },
    async giveUp() {
      const { id } = this.formStep();
      this.closeForm();
      while (busy) await busy;
      if (this.steps.some((step) => step.id === id)) this.change(this.steps.filter((step) => step.id !== id));
      else this.look();
    },

    // A new step behind the one being looked at.
    async newStep(step, finished = false) {
      this.shut();
      this.closeFormQuietly();
      while (busy) await busy;
      const number = 1 + Math.max(0, ...this.steps.map(({ id }) => Number(id.slice(1))));
      const here = this.at === "start" ? 0 : this.steps.findIndex(({ id }) => id === this.at) + 1;
      this.place = this.at ? here : this.steps.length;
      this.fresh = true;
      const fresh = { id: `s${number}`, ...step };
      if (finished) {
        const steps = [...this.steps];
        steps.splice(this.place, 0, fresh);
        this.at = fresh.id;
        this.change(steps);
        return;
      }
      this.look(fresh);
    },
    closeFormQuietly() {
      formsClosed += 1;
      this.editing = false;
      this.$refs.form.innerHTML = "";
    },
    change(steps) {
      if (this.at && this.at !== "start" && !steps.some(({ id }) => id === this.at)) this.at = "";
      this.look(null, steps);
    },
    async edit(id) {
      this.closeFormQuietly();
      while (busy) await busy;
      this.at = id;
      this.fresh = false;
      this.place = this.steps.findIndex((step) => step.id === id);
      this.look(this.steps[this.place]);
    },

    listClicked(event) {
      const button = near(event, "button");
      if (!button) return undefined;
      if (button.dataset.failed) return this.listFailures(button.dataset.failed);
      if (button.dataset.at) return this.choose(button.dataset.at);
      return this.act(button.dataset.do, button.dataset.id);
    },
    // The rows behind a step; chosen again, its form.
    async choose(id) {
      this.closeFormQuietly();
      while (busy) await busy;
      if (id === this.at && id !== "start") return this.edit(id);
      this.at = id;
      this.page = 1;
      return this.look();
    },
    async act(what, id) {
      while (busy) await busy;
      const steps = [...this.steps];
      const place = steps.findIndex((step) => step.id === id);
      if (what === "edit") return this.edit(id);
      if (what === "delete") {
        steps.splice(place, 1);
        this.closeFormQuietly();
        toast("The step is deleted.", { label: "Undo", run: () => this.undo() });
        this.at = steps[place - 1]?.id ?? (steps.length ? "start" : "");
      } else if (what === "off") steps[place] = { ...steps[place], off: !steps[place].off };
      else {
        const other = place + (what === "up" ? -1 : 1);
        if (other < 0 || other >= steps.length) return undefined;
        [steps[place], steps[other]] = [steps[other], steps[place]];
      }
      return this.change(steps);
    },
    listKeys(event) {
      const id = near(event, "[data-step]")?.dataset.step;
      if (event.altKey && id && ["ArrowUp", "ArrowDown"].includes(event.key)) {
        event.preventDefault();
        this.act(event.key === "ArrowUp" ? "up" : "down", id);
      } else if (event.key === "Delete" && id) this.act("delete", id);
      else moveByArrows(event, this.$refs.list);
    },
    async listFailures(id) {
      try {
        dialog(
          await postForHtml(this.$root.dataset.failures, {
            steps: this.steps,
            at: id,
            all: this.all,
            explore: start.explore,
          }),
          { label: "Values that did not convert" },
        );
      } catch (error) {
        failed(error);
      }
    },

    // The table: headings, cells, pages.
    async tableClicked(event) {
      const { target } = event;
      const page = target.closest("[data-page]");
      const all = target.closest("[data-all]");
      const heading = target.closest("[data-column]");
      const cell = target.closest("td[data-field]");
      const unfold = target.closest("[data-unfold]");
      if (page) {
        while (busy) await busy; // an answer with another step begins at the first page
        this.page = Number(page.dataset.page);
        return this.look();
      }
      if (all) {
        while (busy) await busy;
        this.all = all.dataset.all === "1";
        this.page = 1;
        return this.look();
      }
      if (unfold) return this.unfold(unfold);
      if (heading) {
        const { column: id, name, kind } = heading.dataset;
        this.column = id;
        await this.look();
        const actions = columnActions({ id, name, kind });
        return this.offer(document.getElementById(`column-${id}`), name, actions);
      }
      if (cell) return this.offerForCell(cell);
      return undefined;
    },
    offerForCell(cell) {
      const { field } = cell.dataset;
      const value = JSON.parse(cell.dataset.value);
      const words = cell.textContent.trim();
      const dated =
        /^\d{4}-\d\d-\d\d/.test(String(value)) && typeof value === "string" && this.kindOf(field).startsWith("date");
      const filter = {
        kind: "list",
        field,
        values: [dated ? value.slice(0, 10) : value],
        exclude: false,
        ...(dated && { grain: "day" }),
      };
      /** @type {Action[]} */
      const actions = [
        [
          value === null ? "Keep only rows where it is empty" : "Keep only this value",
          { do: "filter", filters: [filter] },
          true,
        ],
        [
          value === null ? "Leave out rows where it is empty" : "Leave out this value",
          { do: "filter", filters: [{ ...filter, exclude: true }] },
          true,
        ],
        [
          "Replace this value …",
          { do: "replace", fields: [field], find: value === null ? "" : String(value), how: "whole" },
        ],
      ];
      if (NUMBERS.includes(this.kindOf(field)) && value !== null) {
        actions.splice(
          2,
          0,
          ["Keep this and more", { do: "filter", filters: [{ kind: "range", field, low: value }] }, true],
          ["Keep this and less", { do: "filter", filters: [{ kind: "range", field, high: value }] }, true],
        );
      }
      return this.offer(cell, words, actions);
    },
    kindOf(field) {
      return document.getElementById(`column-${field}`)?.dataset.kind ?? "";
    },
    async unfold(button) {
      const row = button.closest("tr");
      if (row.nextElementSibling?.matches("[data-folded]")) {
        row.nextElementSibling.remove();
        button.setAttribute("aria-expanded", "false");
        button.textContent = "▸";
        return;
      }
      try {
        const values = JSON.parse(document.getElementById("group-keys").textContent)[Number(button.dataset.unfold)];
        const at = this.at || this.steps.at(-1).id;
        const html = await postForHtml(this.$root.dataset.rows, {
          steps: this.steps,
          at,
          values,
          all: this.all,
          explore: start.explore,
        });
        const inner = document.createElement("tr");
        inner.dataset.folded = "";
        inner.innerHTML = html;
        row.after(inner);
        button.setAttribute("aria-expanded", "true");
        button.textContent = "▾";
      } catch (error) {
        failed(error);
      }
    },
    // Arrow keys go from cell to cell; Enter opens what can be done.
    tableKeys(event) {
      const cell = near(event, "td[data-field]");
      if (!cell) return;
      const row = cell.parentElement;
      const place = [...row.children].indexOf(cell);
      const next = {
        ArrowRight: cell.nextElementSibling,
        ArrowLeft: cell.previousElementSibling,
        ArrowDown: row.nextElementSibling?.children[place],
        ArrowUp: row.previousElementSibling?.children[place],
      }[event.key];
      if (next) {
        event.preventDefault();
        next.focus();
      } else if (event.key === "Enter" || event.key === " ") {
        event.preventDefault();
        this.offerForCell(cell);
      }
    },

    // Popovers: what can be done with a column or a cell, and the menu of steps.
    async offer(anchor, title, actions) {
      if (!anchor) return;
      const list = document.createElement("div");
      list.append(made("h2", { textContent: title, className: "truncate" }));
      for (const [words, step, finished] of actions) {
        const button = made("button", {
          type: "button",
          className: "option",
          textContent: words,
        });
        button.dataset.new = JSON.stringify(step);
        if (finished) button.dataset.finished = "";
        list.append(button);
      }
      await this.open(anchor, list);
    },
    async openMenu(event) {
      await this.open(
        event.currentTarget,
        /** @type {HTMLTemplateElement} */ (byId("step-menu")).content.cloneNode(true),
      );
    },
    async open(anchor, content) {
      this.$refs.popover.replaceChildren(content);
      this.popoverOpen = true;
      opener = anchor.id || anchor;
      await shown(this.$refs.popover);
      placeUnder(this.$refs.popover, anchor);
      focusFirst(this.$refs.popover);
    },
    shut() {
      if (!this.popoverOpen) return;
      this.popoverOpen = false;
      const back = typeof opener === "string" ? document.getElementById(opener) : opener;
      back?.focus?.();
    },
    popoverClicked(event) {
      const button = near(event, "[data-new]");
      if (button) this.newStep(JSON.parse(button.dataset.new), "finished" in button.dataset);
    },
    popoverKeys(event) {
      if (event.key === "Enter" && event.target.matches("[data-filters]")) {
        event.preventDefault();
        this.$refs.popover.querySelector("[data-new]:not([hidden])")?.click();
      } else moveByArrows(event, this.$refs.popover);
    },

    async checkFormula(caret, text) {
      const step = this.formStep();
      return post(this.$root.dataset.check, {
        steps: this.steps,
        id: step.id,
        place: this.place,
        formula: text,
        caret,
        explore: start.explore,
      });
    },

    async undo() {
      while (busy) await busy;
      this.travel(this.history.undo());
    },
    async redo() {
      while (busy) await busy;
      this.travel(this.history.redo());
    },
    travel(steps) {
      if (!steps) return;
      if (this.at && this.at !== "start" && !steps.some(({ id }) => id === this.at)) this.at = "";
      this.closeFormQuietly();
      this.look();
    },
    keys(event) {
      shortcuts(event, { save: () => this.saveNow(), undo: () => this.undo(), redo: () => this.redo() });
    },
    saveNow() {
      if (start.explore) this.askName();
      else if (this.drafted) this.apply();
    },
    async apply() {
      while (busy) await busy;
      try {
        location.href = (await post(this.$root.dataset.apply)).address;
      } catch (error) {
        failed(error);
      }
    },
    async askName() {
      while (busy) await busy;
      if (this.empty) return;
      const { element, closed } = dialog(document.getElementById("name-form").innerHTML, {
        label: "Make a dataset of this",
      });
      element.querySelector("input").select();
      const name = () => element.querySelector("input").value;
      let wanted = "";
      element.addEventListener("submit", () => {
        wanted = name();
      });
      await closed;
      if (!wanted) return;
      try {
        location.href = (await post(this.$root.dataset.derive, { steps: this.steps, name: wanted })).address;
      } catch (error) {
        failed(error);
      }
    },
  };
}
