// The chart workbench. The server applies edits and answers; this page keeps the definition, its history and its draft.
import { fieldList } from "./field_list.js";
import { watchColumnOrder } from "./lib/column_order.js";
import { offer } from "./lib/context.js";
import { all, made, near, sent } from "./lib/dom.js";
import { clear, draw, listen, pointAt } from "./lib/draw.js";
import { showNotes, showTexts } from "./lib/words.js";
import { History } from "./lib/history.js";
import { shortcuts } from "./lib/keys.js";
import { numberAsParameter } from "./lib/number_parameter.js";
import { getHtml, getJson, post, postForHtml } from "./lib/http.js";
import { EditQueue } from "./lib/edit_queue.js";
import { drawingParts } from "./drawing_parts.js";
import { formulaEditor } from "./formula.js";
import { keepFormula } from "./model.js";
import { openings } from "./openings.js";
import { saving } from "./saving.js";
import { placeOf, wordOrder } from "./word_order.js";
import { filledForm, formData } from "./lib/forms.js";
import { debounce, dialog, failed, noConnection, problemNotice, toast, whenReachable } from "./lib/page.js";
import { focusFirst, moveByArrows, placeUnder, shown } from "./lib/popover.js";
import { updateContent } from "./lib/update.js";
import { elementOf, fills, framed } from "./lib/parts.js";
import { watchOrder } from "./lib/series.js";
import { showRows } from "./lib/rows.js";
import { askRowsWith } from "./lib/paging.js";
import { columnsAsked } from "./lib/sorting.js";
import { giveTones } from "./lib/tones.js";
import { marked } from "./marked.js";
import { waysInto } from "./lib/ways.js";

export function workbench() {
  const start = sent("start");
  let asked = 0;
  const page = crypto.randomUUID?.() ?? String(Math.random()); // with turn, lets the server stop what a newer question replaces
  let at = null; // what the open popover is about: { clause, index, field, way, find }
  let opener = null;
  let lastAnswer = null;
  let working = null; // the newest question, until it is answered
  let edited = false;
  let writtenLast = null; // the text of the popover that had the keyboard
  const waiting = new EditQueue();

  return {
    ...wordOrder(),
    ...openings(() => edited),
    ...fieldList(),
    ...saving(() => working),
    ...marked(),
    ...drawingParts(() => lastAnswer?.chart.parts ?? []),
    status: "",
    why: "",
    counted: "",
    canUndo: false,
    canRedo: false,
    popoverOpen: false,
    inGrammar: true,
    hasParts: false,
    isOwn: false,
    fieldsOpen: innerWidth > 760,
    rowsOpen: true,

    init() {
      this.base = this.$root.dataset.base;
      this.asTemplate = this.$root.dataset.template; // in a menu, $root is the menu
      this.here = start.here; // where it is kept, if it is changed in one block only
      this.history = new History(`${start.id}${start.block ?? ""}`, { definition: start.definition });
      this.revision = start.revision;
      this.saved = start.saved && !start.draft;
      this.status = this.here ? "here only" : start.draft ? "draft, not saved yet" : start.saved ? "saved" : "new";
      this.keepDraft = debounce(() => this.draft(), 700);
      this.formula = formulaEditor(
        (caret, formula) =>
          post(this.$root.dataset.check, {
            definition: this.definition,
            formula,
            caret,
            grain: this.$refs.popover.querySelector("[data-grain]")?.value ?? "",
          }),
        () => {},
      );
      this.typed = debounce((/** @type {any} */ target) => this.refreshPopover({ find: target.value }), 250);
      watchOrder(this.$refs.picture, {
        movable: (name) => this.isSeries(name) && !this.definition.look?.legend?.order,
        moved: (names) => this.orderSeries(names),
      });
      this.watchParts();
      askRowsWith(this.$refs.picture, async (first) => {
        const wanted = { definition: this.definition, rows_from: first };
        return (await post(`${this.base}answer/`, wanted)).chart.html;
      });
      this.$refs.popover.addEventListener("focusin", ({ target }) => {
        if (target.matches("[data-takes]")) writtenLast = target;
      });
      listen(this.$refs.picture, (points, how) => how.from || this.marksChosen(points, how));
      document.addEventListener("veduta:theme", () => lastAnswer && draw(this.$refs.picture, lastAnswer.chart));
      document.addEventListener("click", (event) => {
        if (this.popoverOpen && !near(event, ".popover, .clause, .missing, [x-ref=parts], [x-ref=conditions], dialog"))
          this.shut();
      });
      // What a popover stands at may have been drawn anew for another width.
      const placeAgain = () => this.popoverOpen && this.placePopover();
      addEventListener("resize", debounce(placeAgain, 250));
      addEventListener("beforeunload", (event) => {
        if (this.unsent || waiting.length) event.preventDefault();
      });
      listen(this.$refs.rows, (points, how) => points[0].length && !how.from && this.behind(points));
      this.$root.addEventListener("click", (event) => {
        const column = columnsAsked(event);
        if (column) this.answer({ edit: "sort_by_column", column });
        const total = near(event, "[data-total]");
        if (total) this.behind(JSON.parse(total.dataset.total).length ? [JSON.parse(total.dataset.total)] : null);
      });
      watchColumnOrder(this.$root, ({ clause, index }, to) => this.answer({ edit: "move", clause, index, to }));
      offer((event) => this.atField(event));
      offer((event) => {
        const point = near(event, "[x-ref=picture], [x-ref=rows]") && pointAt(event);
        if (!point?.length) return null;
        const points = this.pointsFor(point);
        const these = points.length > 1 ? `these ${points.length}` : "this";
        const only = (exclude) => () => this.editMarks(points, { edit: "only_marks", exclude });
        return [
          { label: `Show only ${these}`, run: only(false) },
          { label: `Leave ${these} out`, run: only(true) },
          ...waysInto(lastAnswer?.ways ?? [], point, event, (step) => this.answer({ edit: "drill", step })),
          { label: "Break down by …", run: () => this.openLeads(point) },
          { label: `Rows behind ${these}`, run: () => this.behind(points) },
        ];
      });
      if (!this.here) this.beginTogether();
      this.answer().then(() => start.opens && !this.canUndo && this.begin());
    },

    get definition() {
      return this.history.now.definition;
    },
    get foldWords() {
      return this.rowsOpen ? "" : "folded";
    },

    // Asks the server for an answer, after an edit if there is one.
    answer(edit = null) {
      working = this.ask(edit);
      return working;
    },
    async ask(edit) {
      const turn = ++asked;
      if (edit) waiting.push(edit);
      const edits = waiting.next();
      this.$refs.picture.classList.add("waiting");
      try {
        const data = await post(`${this.base}answer/`, { definition: this.definition, edits, page, turn });
        if (turn !== asked || data.stopped) return false;
        waiting.made(edits.length);
        if (edits.length) {
          edited = true;
          this.$refs.openings.hidden = true;
          if (this.history.push({ definition: data.definition })) this.changed();
        }
        await this.show(data);
        return waiting.length ? this.ask(null) : true;
      } catch (error) {
        return turn === asked && this.refused(error, edits.length);
      } finally {
        if (turn === asked) this.$refs.picture.classList.remove("waiting");
        this.buttons();
      }
    },

    // What cannot be made is given up; without a connection all waits until there is one.
    refused(error, count) {
      if (error.status === 0) {
        this.status = noConnection(waiting.length);
        whenReachable(() => this.answer());
        return false;
      }
      if (!count) this.problem(error);
      else if (waiting.refused(count)) failed(error);
      return waiting.length ? this.ask(null) : false;
    },

    begin() {
      if (document.activeElement === document.body) this.$refs.sentence.querySelector("[data-clause]")?.focus();
      this.offerOpenings();
    },
    async show(data) {
      lastAnswer = data;
      this.inGrammar = Boolean(data.chart.spec);
      this.hasParts = Boolean(data.chart.parts?.length);
      this.isOwn = data.chart.kind === "own";
      this.why =
        data.chart.title === data.chart.sentence ? "" : data.why ? `Drawn as chosen by Veduta: ${data.why}` : "";
      this.counted = data.counted;
      updateContent(this.$refs.sentence, data.sentence);
      if (document.activeElement !== this.$refs.title) this.showTitle();
      this.$refs.title.placeholder = data.chart.title;
      showTexts(null, this.$refs.note, data.chart);
      updateContent(this.$refs.rows, data.rows);
      this.$refs.below.hidden = !data.rows; // a table shows them itself
      showNotes(this.$refs.notes, data.chart.notes, data.chart.key);
      for (const row of this.$refs.fields.querySelectorAll("[data-field-id]")) {
        row.classList.toggle("used", data.used.includes(row.dataset.fieldId));
      }
      await draw(this.$refs.picture, data.chart);
      this.showMarked();
      document.title = `${data.chart.title} · Veduta`;
      this.markOpen();
    },

    problem(error) {
      clear(this.$refs.picture);
      this.$refs.picture.replaceChildren(problemNotice(error));
    },

    // History; drafts and saving are in a file of their own.
    changed() {
      this.saved = false;
      this.unsent = true;
      this.status = this.here ? "not kept yet" : "saving the draft…";
      this.keepDraft();
      this.buttons();
    },
    // What is not made yet goes first.
    undo() {
      if (!waiting.length) return this.step(this.history.undo());
      waiting.dropLast();
      return this.answer();
    },
    redo() {
      this.step(this.history.redo());
    },
    step(state) {
      waiting.clear();
      if (!state) return;
      this.shut();
      this.changed();
      this.tellOfLeft();
      window.dispatchEvent(new CustomEvent("veduta:undone"));
      this.answer();
    },
    buttons() {
      this.canUndo = this.history.past.length > 0 || waiting.length > 0;
      this.canRedo = this.history.future.length > 0;
    },
    keys(event) {
      if (event.key === "Escape" && this.popoverOpen) this.shut(true);
      else if (event.key === "Escape" && this.markedCount) this.unmark();
      const isTyping = near(event, "input, select, textarea, dialog, [contenteditable]");
      if (event.key === "p" && !isTyping && !event.ctrlKey && !event.metaKey && !event.altKey) {
        event.preventDefault();
        this.listParts();
      }
      shortcuts(event, { save: () => this.save(), undo: () => this.undo(), redo: () => this.redo() });
    },
    // The title as it is written while the keyboard is in it, else with its values.
    writeTitle() {
      this.$refs.title.value = lastAnswer?.title ?? "";
    },
    showTitle() {
      this.$refs.title.value = lastAnswer?.title ? lastAnswer.chart.title : "";
    },
    titleLeft() {
      if (this.$refs.title.value === lastAnswer?.title) this.showTitle();
    },
    titleDone() {
      this.$refs.title.blur();
    },
    titled() {
      this.answer({ edit: "set_title", title: this.$refs.title.value });
    },

    isSeries(name) {
      return Boolean(lastAnswer?.chart.series?.some(([each]) => each === name));
    },
    /** @param {string[]} names Of series, in their new order. */
    orderSeries(names) {
      const values = new Map(lastAnswer.chart.series);
      return this.answer({ edit: "order_series", values: names.map((name) => values.get(name) ?? null) });
    },
    foldFields() {
      this.fieldsOpen = !this.fieldsOpen;
    },
    foldRows() {
      this.rowsOpen = !this.rowsOpen;
    },

    // Clauses and their popovers.
    clauseClicked(event) {
      const button = near(event, "[data-clause]");
      if (!button) return;
      const next = placeOf(button);
      if (this.popoverOpen && at?.clause === next.clause && at?.index === next.index) return this.shut(true);
      this.openPopover(next);
    },
    async openPopover(what) {
      at = what;
      opener = { clause: what.clause, index: what.index, field: what.field };
      try {
        const html = await postForHtml(`${this.base}clause/`, { definition: this.definition, ...at });
        if (at !== what) return; // closed, or another one opened meanwhile
        this.$refs.popover.innerHTML = html;
        giveTones(this.$refs.popover);
        this.$refs.popover.classList.toggle("popover-wide", what.clause === "formula");
        this.popoverOpen = true;
        this.markOpen();
        await shown(this.$refs.popover);
        this.placePopover();
        focusFirst(this.$refs.popover);
        this.formula.attach(this.$refs.popover);
      } catch (error) {
        failed(error);
      }
    },
    async refreshPopover(changes = {}) {
      if (!this.popoverOpen || !at) return;
      const what = { ...at, ...changes };
      at = what;
      try {
        const html = await postForHtml(`${this.base}clause/`, { definition: this.definition, ...at });
        if (at !== what) return;
        updateContent(this.$refs.popover, html);
        this.placePopover();
      } catch (error) {
        failed(error);
      }
    },
    listConditions() {
      this.openPopover({ clause: "conditions", index: 0 });
    },
    async listParts() {
      if (!this.parts().length) return;
      opener = { clause: "parts", index: 0 };
      at = null;
      const heading = made("h2", { textContent: "Parts of the drawing" });
      const options = this.parts().map((part) => this.partOption(part));
      this.$refs.popover.replaceChildren(heading, ...options);
      this.popoverOpen = true;
      await shown(this.$refs.popover);
      this.placePopover();
      options[0].focus();
    },
    async openLeads(point) {
      try {
        const html = await postForHtml(`${this.base}leads/`, { definition: this.definition, point });
        opener = { clause: "by", index: 0 };
        at = null;
        this.$refs.popover.innerHTML = html;
        this.popoverOpen = true;
        await shown(this.$refs.popover);
        this.placePopover();
        focusFirst(this.$refs.popover);
      } catch (error) {
        failed(error);
      }
    },
    placePopover() {
      const anchor = this.openerElement() ?? this.$refs.sentence;
      const { width, height } = anchor.getBoundingClientRect();
      const beside = height > 2 * width ? "right-start" : "bottom-start";
      placeUnder(this.$refs.popover, anchor, beside);
    },
    // Where the keyboard goes back to: what is drawn of a part cannot have it, so the list of parts does.
    stopBehind() {
      const element = this.openerElement();
      return element instanceof HTMLElement ? element : element && this.$refs.parts;
    },
    openerElement() {
      if (!opener) return null;
      if (opener.clause === "parts") return this.$refs.parts;
      if (["conditions", "condition"].includes(opener.clause)) return this.$refs.conditions;
      if (opener.clause === "look") {
        const part = this.parts().find(({ name }) => name === opener.field);
        const element = part && elementOf(this.$refs.picture, part);
        return element && !fills(element, this.$refs.picture) ? element : this.$refs.parts;
      }
      const place = `[data-clause="${opener.clause}"]`;
      return (
        this.$refs.sentence.querySelector(`${place}[data-index="${opener.index}"]`) ??
        this.$refs.sentence.querySelector(place)
      );
    },
    markOpen() {
      for (const button of this.$refs.sentence.querySelectorAll("[data-clause]")) {
        button.setAttribute("aria-expanded", String(this.popoverOpen && button === this.openerElement()));
      }
    },
    shut(back = false) {
      if (!this.popoverOpen) return;
      framed(this.$refs.picture, null);
      this.popoverOpen = false;
      if (back === true) this.stopBehind()?.focus();
      at = null;
      this.markOpen();
    },
    async popoverClicked(event) {
      if (near(event, "[data-insert]")) return this.formula.take(near(event, "[data-insert]"));
      if (near(event, "[data-reference-open]"))
        return dialog(await getHtml(this.$root.dataset.reference), { wide: true, label: "What formulas can do" });
      if (near(event, "[data-keep-formula]")) return this.keepInModel(near(event, "form"));
      if (near(event, "[data-put]")) return this.putIntoText(near(event, "[data-put]").dataset.put);
      const lead = near(event, "[data-step]");
      if (lead) {
        this.shut();
        return this.answer({ edit: "drill", step: JSON.parse(lead.dataset.step) });
      }
      const button = near(event, "[data-edit], [data-open], [data-fill], [data-move], [data-number-parameter]");
      if (!button || button.matches(":disabled")) return;
      event.preventDefault();
      const { open, at: index, field, way } = button.dataset;
      if (button.dataset.numberParameter) await this.letReadersSet(button);
      else if (open) await this.openPopover({ clause: open, index: Number(index), field, way });
      else if (button.dataset.edit) await this.editBy(button);
      else if (button.dataset.fill) await this.sendForm(filledForm(button, "filter"));
      else if (button.dataset.move) await this.moveOwn(button);
    },
    async editBy(button) {
      if (!(await this.answer(JSON.parse(button.dataset.edit)))) return;
      const { then, at: index } = button.dataset;
      if ("shut" in button.dataset) this.shut(true);
      else if (then) await this.openPopover({ clause: then, index: Number(index) });
      else await this.refreshPopover();
    },
    async letReadersSet(button) {
      try {
        const { revision, form } = await numberAsParameter(button);
        this.$root.dataset.revision = revision;
        await this.sendForm(form);
      } catch (error) {
        failed(error);
      }
    },
    // Puts a value into the text that had the keyboard last, where it was.
    putIntoText(value) {
      const [first] = all(this.$refs.popover, "[data-takes]");
      const text = writtenLast?.isConnected ? writtenLast : first;
      const isAfterWord = /[\p{L}\p{N},.;:]$/u.test(text.value.slice(0, text.selectionStart));
      text.setRangeText(isAfterWord ? ` ${value}` : value, text.selectionStart, text.selectionEnd, "end");
      text.focus();
      text.dispatchEvent(new Event("change", { bubbles: true }));
    },
    async moveOwn(button) {
      const item = button.closest("[data-value]");
      const other = button.dataset.move === "1" ? item.nextElementSibling : item.previousElementSibling;
      if (!other) return;
      if (button.dataset.move === "1") other.after(item);
      else other.before(item);
      const values = [...item.parentElement.children].map((li) => JSON.parse(li.dataset.value));
      if (await this.answer({ edit: "set_sort", sort: { by: "own", values } })) await this.refreshPopover();
    },
    popoverChanged(event) {
      const form = near(event, "form[data-edit-form]");
      if ("grain" in event.target.dataset) return this.formula.typed();
      if (!form || "find" in event.target.dataset) return;
      if (!("waits" in form.dataset)) this.sendForm(form); // until its button is pressed
    },
    popoverSubmitted(event) {
      const form = near(event, "form[data-edit-form]");
      if (form) this.sendForm(form);
    },
    async sendForm(form) {
      if (!form.reportValidity()) return;
      let data = formData(form);
      if (form.dataset.wrap) data = { index: data.index, [form.dataset.wrap]: data.format };
      if (form.dataset.editForm === "set_value") {
        data = {
          parameter: data.parameter,
          values: data.none ? null : data.values.filter((value) => value !== null && value !== ""),
        };
      }
      const shuts = form.dataset.editForm === "set_formula";
      if (await this.answer({ edit: form.dataset.editForm, ...data })) {
        if (shuts) this.shut(true);
        else await this.refreshPopover();
      }
    },
    // Keeps the formula that is being written in the model, and shows it from there.
    async keepInModel(form) {
      const { formula, name, index } = formData(form);
      if (!name) {
        toast("Give it a name first: everybody will see it by that.");
        form.elements.name.focus();
        return;
      }
      await keepFormula(
        this.$root.dataset.keep,
        { text: formula, name, revision: Number(this.$root.dataset.revision) },
        async (answer) => {
          this.$root.dataset.revision = answer.revision;
          if (await this.answer({ edit: "set_measure", index, field: answer.id })) this.shut(true);
          toast(`“${name}” is kept in the model.`);
        },
      );
    },
    async explain() {
      try {
        dialog(await postForHtml(`${this.base}explain/`, { definition: this.definition }), {
          wide: true,
          label: "How this is worked out",
        });
      } catch (error) {
        failed(error);
      }
    },
    popoverTyped(event) {
      if ("find" in event.target.dataset) this.typed(event.target);
      if (event.target.matches("[data-formula-box]")) this.formula.typed(event.target);
    },
    popoverKeys(event) {
      if (this.formula.keys(event)) return;
      if (event.key === "Enter" && event.target.matches("[data-find]")) event.preventDefault();
      if (event.key === "Enter" && event.target.matches("[data-filters]")) {
        event.preventDefault();
        [...this.$refs.popover.querySelectorAll("[data-words]")].find((option) => !option.hidden)?.click();
      }
      moveByArrows(event, this.$refs.popover);
    },

    // Checking numbers.
    behind(points) {
      showRows((rows) => postForHtml(`${this.base}rows/`, { definition: this.definition, points, ...rows }));
    },
    rowsBehindAll() {
      this.behind(null);
    },
    sendDefinition(event) {
      event.target.elements.definition.value = JSON.stringify(this.definition);
    },

    async drawLike() {
      try {
        const chooser = dialog(await getHtml(this.$root.dataset.likes), { label: "Draw it like another" });
        chooser.element.addEventListener("keydown", (event) => {
          if (event.key !== "Enter" || !near(event, "[data-filters]")) return;
          event.preventDefault();
          all(chooser.element, "[data-words]")
            .find((option) => !option.hidden)
            ?.click();
        });
        const address = await chooser.closed;
        const boxes = /** @type {HTMLInputElement[]} */ (all(chooser.element, "[data-like-part]:checked"));
        const parts = boxes.map(({ value }) => value);
        if (!address || !parts.length) return;
        const { template } = await getJson(address);
        await this.answer({ edit: "draw_like", template, parts });
      } catch (error) {
        failed(error);
      }
    },
    // What is on the screen makes the template, so the draft is kept first.
    async saveAsTemplate() {
      await working;
      await this.draft();
      if (!this.unsent) location.href = this.asTemplate;
    },

    async place() {
      if (!(await this.save())) return;
      let dashboard = start.dashboard;
      try {
        if (!dashboard) {
          const choice = await dialog(await getHtml(this.$root.dataset.choices), { label: "Place on a dashboard" })
            .closed;
          if (!choice) return;
          dashboard = choice;
          if (choice === "new") dashboard = (await post(this.$root.dataset.newDashboard, {})).id;
        }
        const address = this.$root.dataset.place.replace("00000000-0000-0000-0000-000000000000", dashboard);
        location.href = (await post(address, { chart: start.id, place: start.place })).address;
      } catch (error) {
        failed(error);
      }
    },
  };
}
