// The dashboard editor: blocks on a grid, placed with the mouse or the keyboard.
import Alpine from "@alpinejs/csp";
import { GridStack } from "gridstack";
import { offer } from "./lib/context.js";
import { all, made, near, sent } from "./lib/dom.js";
import { draw, showNotes, showTexts } from "./lib/draw.js";
import { History } from "./lib/history.js";
import { shortcuts } from "./lib/keys.js";
import { getHtml, getJson, post } from "./lib/http.js";
import { chosen, filledForm, isTyped } from "./lib/forms.js";
import { debounce, dialog, failed, toast, whenReachable } from "./lib/page.js";
import { moveByArrows, placeUnder, shown } from "./lib/popover.js";
import { updateContent } from "./lib/update.js";

const newId = () => Array.from(crypto.getRandomValues(new Uint8Array(6)), (byte) => (byte % 36).toString(36)).join("");
const template = (id) => document.getElementById(id).innerHTML;

function editor() {
  const start = sent("start");
  const names = start.charts;
  let grid;
  let openControl = null;
  let sending = Promise.resolve(true);
  let editing = Promise.resolve(true);
  let waiting = 0; // edits that are not made yet

  return {
    status: "",
    canUndo: false,
    canRedo: false,
    isEmpty: false,
    popoverOpen: false,

    init() {
      offer((event) => {
        const item = near(event, ".grid-stack-item");
        if (!item) return null;
        const even = () => this.edit({ edit: "even_row", block: item.dataset.id });
        const tools = all(item, "[data-act]").map((tool) => ({ label: tool.textContent, run: () => tool.click() }));
        return [...tools, { label: "Make its row even", run: even }];
      });
      this.base = this.$root.dataset.base;
      this.history = new History(start.id, { definition: start.definition, name: start.name });
      this.revision = start.revision;
      this.status = start.published ? `version ${start.published} is published` : "not published yet";
      this.keep = debounce(() => this.flush(), 400);
      this.typed = debounce((/** @type {any} */ target) => this.showControl(openControl, target.value), 250);
      grid = GridStack.init(
        {
          column: 12,
          cellHeight: 56,
          margin: 0,
          handle: ".block-handle",
          animate: false,
          columnOpts: { breakpoints: [] },
        },
        this.$refs.grid,
      );
      grid.on("dragstop", (_event, { gridstackNode: { id, x, y } }) =>
        this.edit({ edit: "move_block", block: id, x, y }),
      );
      grid.on("resizestop", (_event, { gridstackNode: { id, w, h } }) =>
        this.edit({ edit: "size_block", block: id, w, h }),
      );
      document.addEventListener("veduta:theme", () => this.fill());
      document.addEventListener("click", (event) => {
        if (!near(event, ".popover, [data-control], dialog")) this.popoverOpen = false;
      });
      addEventListener("beforeunload", (event) => {
        if (this.unsent || waiting) event.preventDefault();
      });
      this.fill();
    },

    get definition() {
      return this.history.now.definition;
    },
    blockOf(id) {
      return this.definition.blocks.find((block) => block.id === id);
    },

    /**
     * Has the server make an edit, after those before it. Resolves to whether it could be made.
     * @param {Record<string, any>} change
     */
    edit(change) {
      return this.inTurn(() => this.make(change));
    },
    // Does something once the edits before it are made: what it changes, or sends, is what they have left.
    inTurn(act) {
      waiting += 1;
      editing = editing.then(act).finally(() => {
        waiting -= 1;
      });
      return editing;
    },
    async make(change) {
      try {
        const { definition } = await post(`${this.base}change/`, { definition: this.definition, change });
        this.take({ definition });
        return true;
      } catch (error) {
        failed(error);
        this.fill(); // what was dragged goes back
        return false;
      }
    },
    // Takes a new state of the dashboard: history, draft, screen.
    take(changes, redraw = true) {
      const state = { ...this.history.now, ...changes };
      if (this.history.push(state)) this.changed();
      if (redraw) this.fill();
    },
    changed() {
      this.unsent = true;
      this.status = "saving…";
      this.buttons();
      this.keep();
    },
    buttons() {
      this.canUndo = this.history.past.length > 0;
      this.canRedo = this.history.future.length > 0;
      this.isEmpty = this.definition.blocks.length === 0;
    },

    // Sends what is unsent now, after what is under way; block data and publishing wait for it.
    flush() {
      sending = sending.then(() => !this.unsent || this.send());
      return sending;
    },
    async send(overwrite = false) {
      const { definition, name } = this.history.now;
      this.unsent = false; // a change made while this is under way sets it again
      try {
        const answer = await post(`${this.base}draft/`, { definition, name, revision: this.revision, overwrite });
        this.revision = answer.revision;
        if (!this.unsent) this.status = `draft saved ${answer.at}`;
        return true;
      } catch (error) {
        this.unsent = true;
        if (error.status === 409) return this.settle(error.data);
        this.status = "draft not saved";
        if (error.status === 0) whenReachable(() => this.flush());
        failed(error);
        return false;
      }
    },
    async settle({ conflict, theirs }) {
      const choice = await dialog(conflict, { label: "Changed by somebody else meanwhile" }).closed;
      if (choice === "theirs") {
        this.revision = theirs.revision;
        this.unsent = false;
        this.history.push({ definition: theirs.definition, name: theirs.name });
        location.reload();
        return true;
      }
      if (choice === "both") {
        this.unsent = false;
        location.href = (await post(`${this.base}draft/copy/`, this.history.now)).address;
        return false;
      }
      return this.send(true);
    },

    // The grid.
    async fill() {
      this.$refs.name.value = this.history.now.name;
      this.buttons();
      const wanted = new Map(this.definition.blocks.map((block) => [block.id, block]));
      grid.batchUpdate();
      for (const element of grid.getGridItems()) if (!wanted.has(element.dataset.id)) grid.removeWidget(element);
      for (const block of wanted.values()) {
        const place = { x: block.x ?? 0, y: block.y ?? 0, w: block.w ?? 6, h: block.h ?? 4 };
        const there = this.element(block.id);
        if (there) grid.update(there, place);
        else {
          const element = document.createElement("div");
          element.className = "grid-stack-item";
          element.dataset.id = block.id;
          element.tabIndex = 0;
          element.innerHTML = '<div class="grid-stack-item-content board-block"></div>';
          this.$refs.grid.append(element);
          grid.makeWidget(element, { ...place, id: block.id });
        }
      }
      grid.batchUpdate(false);
      for (const block of wanted.values()) this.fillBlock(block);
      this.showControls();
    },
    element(id) {
      return this.$refs.grid.querySelector(`[data-id="${id}"]`);
    },
    async fillBlock(block) {
      const element = this.element(block.id);
      const body = element.firstElementChild;
      const { controls, colours, own_colours: own } = this.definition;
      const key = JSON.stringify([block.kind, block.text, block.chart, block.title, controls, colours, own]);
      element.setAttribute(
        "aria-label",
        `${block.kind}: ${block.title || block.text || names[block.chart] || ""}`.slice(0, 120),
      );
      if (body._key === key) return;
      body._key = key;
      const head = document.createElement("div");
      head.className = "block-handle flex items-start gap-2 cursor-move";
      const title = made("span", { className: "block-title grow" });
      const tools = document.createElement("span");
      tools.className = "shrink-0 flex gap-2 text-[12px]";
      const tool = (label, act) => {
        const button = made("button", {
          type: "button",
          className: "link",
          textContent: label,
        });
        button.dataset.act = act;
        tools.append(button);
      };
      tool("Edit", "edit");
      tool("Duplicate", "duplicate");
      tool("Remove", "remove");
      head.append(title, tools);
      const content = document.createElement("div");
      content.className = "picture relative mt-1";
      const note = made("div", { className: "note" });
      body.replaceChildren(head, made("p", { className: "chart-note", hidden: true }), content, note);
      if (block.kind === "heading") {
        title.className += " !text-[18px]";
        title.textContent = block.text || "Heading";
      } else if (block.kind === "text") {
        title.className += " muted !font-normal text-[11px]";
        title.textContent = "Text";
        content.className += " prose-text";
        content.innerHTML = (await post(this.$root.dataset.text, { text: block.text ?? "" })).html;
      } else {
        title.textContent = block.title || names[block.chart] || "Chart";
        await this.drawBlock(block, content, title, note);
      }
    },
    async drawBlock(block, content, title, note) {
      try {
        await this.flush();
        const data = await getJson(`${this.base}blocks/${block.id}/?draft=1`);
        showTexts(title, /** @type {HTMLElement} */ (content.previousElementSibling), data);
        await draw(content, data);
        const notes = [...data.notes];
        if (data.not_followed.length)
          notes.push(`Does not follow ${data.not_followed.join(", ")}: it has no such field.`);
        showNotes(note, notes, data.key);
      } catch (error) {
        content.replaceChildren(
          made("p", {
            className: "notice notice-problem",
            textContent: error.message,
          }),
        );
      }
    },
    // Blocks.
    async add(block) {
      const id = newId();
      if (!(await this.edit({ edit: "add_block", id, ...block }))) return null;
      const element = this.element(id);
      element.scrollIntoView({ block: "nearest" });
      element.focus();
      return id;
    },
    async chooseChart() {
      const { element, closed } = dialog(template("choose-chart"), { label: "Add a chart" });
      element.addEventListener("click", (event) => {
        const option = near(event, "[data-name]");
        if (option) names[option.dataset.close] = option.dataset.name;
      });
      const chart = await closed;
      if (chart) this.add({ kind: "chart", chart });
    },
    async addText() {
      const text = await this.askText("");
      if (text) this.add({ kind: "text", text });
    },
    async addHeading() {
      const id = await this.add({ kind: "heading", text: "Heading" });
      if (id) this.editHeading(id);
    },
    async askText(text) {
      const { element, closed } = dialog(template("edit-text"), { label: "Text" });
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
    gridClicked(event) {
      const button = near(event, "[data-act]");
      if (!button) return;
      const { id } = near(event, "[data-id]").dataset;
      if (button.dataset.act === "remove") this.remove(id);
      else if (button.dataset.act === "duplicate") this.duplicate(id);
      else this.open(id);
    },
    gridDoubleClicked(event) {
      const element = near(event, "[data-id]");
      if (element) this.open(element.dataset.id);
    },
    async open(id) {
      const block = this.blockOf(id);
      if (block.kind === "heading") this.editHeading(id);
      else if (block.kind === "text") {
        const text = await this.askText(block.text ?? "");
        if (text !== null) this.edit({ edit: "set_block", block: id, text });
      } else {
        await editing;
        await this.flush();
        const address = this.$root.dataset.chart.replace("00000000-0000-0000-0000-000000000000", block.chart);
        location.href = address;
      }
    },
    editHeading(id) {
      const title = this.element(id)?.querySelector(".block-title");
      if (!title) return;
      const box = made("input", {
        value: this.blockOf(id).text,
        className: "w-full font-bold",
        maxLength: 300,
      });
      box.setAttribute("aria-label", "Heading");
      title.replaceChildren(box);
      box.focus();
      box.select();
      const done = () => {
        const text = box.value.trim() || "Heading";
        this.element(id).firstElementChild._key = "";
        if (text === this.blockOf(id)?.text) this.fill();
        else this.edit({ edit: "set_block", block: id, text });
      };
      box.addEventListener("blur", done, { once: true });
      box.addEventListener("keydown", (event) => {
        event.stopPropagation();
        if (event.key === "Enter" || event.key === "Escape") box.blur();
      });
    },
    async remove(id) {
      if (!(await this.edit({ edit: "remove_blocks", blocks: [id] }))) return;
      toast("The block is removed.", { label: "Undo", run: () => this.undo() });
    },
    async duplicate(id) {
      const copy = newId();
      if (await this.edit({ edit: "duplicate_blocks", copies: { [id]: copy } })) this.element(copy).focus();
    },
    gridKeys(event) {
      const element = event.target;
      if (!element.matches?.(".grid-stack-item")) return;
      const { id } = element.dataset;
      const moves = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] };
      if (moves[event.key]) {
        event.preventDefault();
        const [right, down] = moves[event.key];
        this.edit({ edit: event.shiftKey ? "grow_block" : "step_block", block: id, right, down });
      } else if (event.key === "Delete" || event.key === "Backspace") {
        event.preventDefault();
        this.remove(id);
      } else if (event.key === "Enter") {
        event.preventDefault();
        this.open(id);
      } else if (event.key.toLowerCase() === "d" && (event.ctrlKey || event.metaKey)) {
        event.preventDefault();
        this.duplicate(id);
      }
    },

    // Controls.
    showControls() {
      const chips = this.definition.controls.map((control) => {
        const chip = made("span", { className: "chip" });
        const open = made("button", {
          type: "button",
          textContent: control.name,
          title: "What it is set to at first",
        });
        open.dataset.control = control.id;
        const away = made("button", { type: "button", textContent: "✕" });
        away.setAttribute("aria-label", `Remove the control ${control.name}`);
        away.dataset.away = control.id;
        chip.append(open, away);
        return chip;
      });
      const none = made("span", { className: "muted", textContent: "none yet" });
      this.$refs.controls.replaceChildren(...(chips.length ? chips : [none]));
    },
    async chooseControl() {
      const choice = await dialog(template("choose-control"), { label: "Add a control" }).closed;
      if (!choice) return;
      const [dataset, field] = choice.split(" ");
      try {
        const what = field.startsWith(":") ? { parameter: field.slice(1) } : { field };
        const control = await post(`${this.base}new-control/`, { dataset, ...what });
        await this.edit({ edit: "add_control", control });
      } catch (error) {
        failed(error);
      }
    },
    // Colours of values: a line for each; a field or value of several has · between them.
    async setColours() {
      const { colours, own_colours: own } = this.definition;
      const { element } = dialog(template("set-colours"), { label: "Colours of values" });
      const place = element.querySelector("[data-colours]");
      const inputs = (row) => /** @type {HTMLInputElement[]} */ (all(row, "input"));
      const add = (row = {}) => {
        place.insertAdjacentHTML("beforeend", template("colour-row"));
        for (const input of inputs(place.lastElementChild)) input.value = row[input.name] ?? "";
      };
      for (const { fields, colours: of } of colours ?? []) {
        for (const { values, colour } of of) {
          add({ fields: fields.join(" · "), values: values.map((value) => value ?? "(empty)").join(" · "), colour });
        }
      }
      add();
      inputs(place.lastElementChild)[0].focus();
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
          await this.edit({ edit: "set_colours", ...(await post(`${this.base}colours/`, set)) });
          element.close();
        } catch (error) {
          failed(error);
        }
      });
    },
    controlClicked(event) {
      const { control, away } = event.target.dataset;
      if (away) this.edit({ edit: "remove_control", control: away });
      else if (control) this.showControl(control, "", event.target);
    },
    async showControl(id, find = "", anchor = null) {
      openControl = id;
      try {
        await this.flush();
        const html = await getHtml(`${this.base}controls/${id}/?draft=1&find=${encodeURIComponent(find)}`);
        if (this.popoverOpen && !anchor) updateContent(this.$refs.popover, html);
        else {
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
      if ("find" in event.target.dataset) this.typed(event.target);
    },
    popoverKeys(event) {
      moveByArrows(event, this.$refs.popover);
    },

    // History, name, publishing.
    undo() {
      return this.inTurn(() => this.step(this.history.undo()));
    },
    redo() {
      return this.inTurn(() => this.step(this.history.redo()));
    },
    step(state) {
      if (!state) return;
      this.changed();
      this.fill();
    },
    keys(event) {
      if (event.key === "Escape") this.popoverOpen = false;
      shortcuts(event, { save: () => this.saveNow(), undo: () => this.undo(), redo: () => this.redo() });
    },
    async saveNow() {
      try {
        await editing;
        if (await this.flush()) toast("The draft is saved.", null, 2500);
      } catch (error) {
        failed(error);
      }
    },
    renamed() {
      this.take({ name: this.$refs.name.value.trim() }, false);
    },
    showVersions() {
      dialog(template("versions"), { label: "Versions" });
    },
    async publish() {
      try {
        await editing;
        if (!(await this.flush())) return;
        location.href = (await post(`${this.base}publish/`)).address;
      } catch (error) {
        failed(error);
      }
    },
  };
}

Alpine.data("editor", editor);
