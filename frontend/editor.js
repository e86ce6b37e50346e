// The dashboard editor. The server makes every edit; this sends them, keeps their history and shows what comes back.
import Alpine from "@alpinejs/csp";
import { board } from "./editing/board.js";
import { choosing } from "./editing/choosing.js";
import { controls } from "./editing/controls.js";
import { watchDragging } from "./editing/dragging.js";
import { dressing } from "./editing/dressing.js";
import { filling } from "./editing/filling.js";
import { here } from "./editing/here.js";
import { narrowing } from "./editing/narrowing.js";
import { pages } from "./editing/pages.js";
import { paper } from "./editing/paper.js";
import { publishing } from "./editing/publishing.js";
import { telephone } from "./editing/telephone.js";
import { texts } from "./editing/texts.js";
import { together } from "./editing/together.js";
import { offer } from "./lib/context.js";
import { near, sent } from "./lib/dom.js";
import { History } from "./lib/history.js";
import { post } from "./lib/http.js";
import { newId } from "./lib/ids.js";
import { shortcuts } from "./lib/keys.js";
import { debounce, failed, loadOptions, noConnection, openDialog, toast, whenReachable } from "./lib/page.js";

function editor() {
  const start = sent("start");
  let sending = Promise.resolve(true);
  let editing = Promise.resolve(true);
  let waiting = 0; // edits that are not made yet
  let isOffline = false; // the first of them could not be sent

  return {
    ...board(),
    ...choosing(),
    ...controls(),
    ...dressing(),
    ...filling(),
    ...here(),
    ...narrowing(),
    ...pages(),
    ...paper(),
    ...publishing(),
    ...telephone(),
    ...texts(),
    ...together(),
    status: "",
    said: "", // where a block is that was moved
    canUndo: false,
    canRedo: false,
    isEmpty: false,
    popoverOpen: false,

    init() {
      offer((event) => this.offered(event));
      offer((event) => this.offeredForPage(event));
      this.base = this.$root.dataset.base;
      this.history = new History(start.id, { definition: start.definition, name: start.name });
      this.revision = start.revision;
      this.synced = { definition: start.definition, name: start.name };
      this.like = start.like;
      this.status = start.published ? `version ${start.published} is published` : "not published yet";
      this.keep = debounce(() => this.flush(), 400);
      this.typed = debounce((/** @type {any} */ target) => this.showControl(this.openControl, target.value), 250);
      watchDragging(this.$refs.board, {
        page: () => this.page,
        block: (id) => this.blockOf(id),
        taken: (id) => this.chosenOr(id),
        edit: (change) => this.edit(change),
      });
      document.addEventListener("veduta:theme", () => this.redraw());
      document.addEventListener("click", (event) => {
        if (!near(event, ".popover, [data-control], dialog")) this.popoverOpen = false;
      });
      document.addEventListener("copy", (event) => this.copied(event));
      document.addEventListener("paste", (event) => this.pasted(event));
      addEventListener("beforeunload", (event) => {
        if (this.unsent || waiting) event.preventDefault();
      });
      this.fill();
      this.beginTogether();
      if (location.hash === "#log") this.showLog();
    },

    get definition() {
      return this.history.now.definition;
    },
    get page() {
      return this.definition.pages.find((page) => page.id === this.pageId) ?? this.definition.pages[0];
    },

    /**
     * Has the server make an edit, after those before it. Resolves to whether it could be made.
     * @param {Record<string, any>} change
     * @param {(problem: any) => void} [refused]
     */
    edit(change, refused = failed) {
      return this.inTurn(() => this.make(change, refused));
    },
    // Does something once the edits before it are made: what it changes, or sends, is what they have left.
    inTurn(act) {
      waiting += 1;
      if (isOffline) this.showWaiting();
      editing = editing.then(act).finally(() => {
        waiting -= 1;
      });
      return editing;
    },
    async make(change, refused) {
      try {
        const from = this.definition;
        const { definition, said } = await post(`${this.base}change/`, { definition: from, change });
        // What others did came meanwhile: the edit is made once more, of what there is now.
        if (this.definition !== from) return this.make(change, refused);
        isOffline = false;
        await this.take({ definition });
        this.said = said;
        return true;
      } catch (error) {
        if (error.status === 0) return this.makeLater(change, refused);
        isOffline = false;
        refused(error);
        this.fill(); // what was dragged goes back
        return false;
      }
    },
    // Nothing reaches the server: an edit waits until something does, and those after it behind it.
    makeLater(change, refused) {
      isOffline = true;
      this.showWaiting();
      return new Promise((resolve) => {
        whenReachable(() => resolve(this.make(change, refused)));
      });
    },
    showWaiting() {
      this.status = noConnection(waiting);
    },
    // Takes a new state of the dashboard: history, draft, screen.
    take(changes, redraw = true) {
      const state = { ...this.history.now, ...changes };
      if (this.history.push(state)) this.changed();
      return redraw ? this.fill() : undefined;
    },
    changed() {
      this.unsent = true;
      this.status = "saving…";
      this.buttons();
      this.keep();
    },
    showHead() {
      this.$refs.name.value = this.history.now.name;
      this.buttons();
      this.showPages();
      this.showControls();
    },
    buttons() {
      this.canUndo = this.history.past.length > 0;
      this.canRedo = this.history.future.length > 0;
      this.isEmpty = this.page.blocks.length === 0;
    },

    // Sends what is unsent now, after what is under way; block data and publishing wait for it.
    flush() {
      sending = sending.then(() => !this.unsent || this.send());
      return sending;
    },
    async send() {
      const state = this.history.now;
      this.unsent = false; // a change made while this is under way sets it again
      try {
        const answer = await post(`${this.base}draft/`, { ...state, revision: this.revision });
        this.synced = state;
        this.saved(answer);
        return true;
      } catch (error) {
        if (error.status === 409) return this.bringTogether();
        this.unsent = true;
        this.status = "draft not saved";
        if (error.status === 0) whenReachable(() => this.flush());
        failed(error);
        return false;
      }
    },
    // What others have saved is taken in, after what is being sent.
    changedElsewhere(revision) {
      sending = sending.then(() => revision <= this.revision || this.bringTogether());
    },
    saved({ revision, at }) {
      this.revision = revision;
      if (!this.unsent) this.status = `draft saved ${at}`;
    },

    // Blocks.
    async add(block) {
      const id = newId();
      if (!(await this.edit({ edit: "add_block", id, page: this.page.id, ...block }))) return null;
      const element = this.element(id);
      element?.scrollIntoView({ block: "nearest" });
      element?.focus();
      return id;
    },
    addOf(event) {
      const { kind } = event.currentTarget.dataset;
      return this.add({ kind });
    },
    /** Asks for a chart; the form beside makes a new one, for an empty place if it is given. */
    async askChart(place = "") {
      const { element, closed } = openDialog("choose-chart", "A chart");
      loadOptions(element, `${this.base}edit/charts/`);
      const into = /** @type {HTMLInputElement} */ (element.querySelector("[name=place]"));
      if (into) into.value = place;
      return closed;
    },
    async chooseChart() {
      const chart = await this.askChart();
      if (chart) this.add({ kind: "chart", chart });
    },
    async addText() {
      const said = await this.askText();
      if (said) this.add({ kind: "text", ...said });
    },
    async addHeading() {
      const id = await this.add({ kind: "heading", text: "Heading" });
      if (id) this.editTitle(id);
    },
    async open(id) {
      const block = this.blockOf(id);
      const acts = {
        heading: () => this.editTitle(id),
        group: () => this.editTitle(id),
        text: () => this.editText(block),
        chart: () => this.openChart(block),
        image: () => this.choosePicture(block),
        control: () => this.chooseControlOf(block),
        place: () => this.fillPlace(block),
        divider: () => this.dress(id),
        gap: () => this.dress(id),
      };
      return acts[block.kind]?.();
    },
    async openChart({ chart, id }) {
      await editing;
      await this.flush();
      const address = this.$root.dataset.chart.replace("00000000-0000-0000-0000-000000000000", chart);
      location.href = `${address}?${new URLSearchParams({ dashboard: start.id, block: id })}`;
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
      this.tellOfLeft();
      this.fill();
    },
    keys(event) {
      if (event.key === "Escape") this.popoverOpen = false;
      if (this.pageKeys(event)) return;
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
      openDialog("versions", "Versions");
    },
    // Resolves once all edits are made.
    made() {
      return editing;
    },
  };
}

Alpine.data("editor", editor);
