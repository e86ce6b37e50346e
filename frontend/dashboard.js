// A dashboard as it is read. The address holds the whole state: controls and selections.
import { offer } from "./lib/context.js";
import { all, made, near, sent } from "./lib/dom.js";
import { showWords } from "./lib/block.js";
import { clear, draw, listen, pointAt } from "./lib/draw.js";
import { getHtml, getJson, getLines, numberQuestions, post } from "./lib/http.js";
import { chosen, filledForm, isTyped } from "./lib/forms.js";
import { handleMoved } from "./lib/handles.js";
import { debounce, dialog, failed, toast } from "./lib/page.js";
import { showNumbers } from "./lib/numbers.js";
import { focusFirst, moveByArrows, placeUnder, shown } from "./lib/popover.js";
import { drilling } from "./drilling.js";
import { keeping } from "./keeping.js";
import { presenting } from "./presenting.js";
import { talking } from "./talking.js";
import { same, selecting, selectionOf } from "./selecting.js";
import { updateContent } from "./lib/update.js";
import { saidAt } from "./lib/ways.js";
import { showRows } from "./lib/rows.js";
import { askRowsWith } from "./lib/paging.js";
import { columnsAsked } from "./lib/sorting.js";

// A state of more characters than this stands in the address by the key under which the server keeps it.
const LONG = 1_500;

const updateControl = ({ control, html }) => {
  const block = document.getElementById(`block-${control}`);
  if (block) block.innerHTML = html;
};

/** What the menu of a block offers that can be had by a right click as well. */
const OF_BLOCKS = [
  "rows-of",
  "as-table",
  "several",
  "drill-menu",
  "comment-on",
  "copy-of",
  "narrowings-of",
  "explained",
]
  .map((name) => `.popover [data-${name}]`)
  .join(", ");

export function dashboard() {
  const start = sent("start");
  let running = null; // the request under way
  let toldOfVersion = false;
  const asTable = new Set(JSON.parse(sessionStorage.getItem(`veduta-tables-${location.pathname}`) ?? "[]"));
  let opened = null;
  const beginQuestion = numberQuestions();
  let kept = { text: "", key: "" }; // a long state, and its key
  let pending = null; // controls as they are set, but not applied yet

  return {
    ...drilling(),
    ...selecting(),
    ...keeping(),
    ...presenting(),
    ...talking(),
    popoverOpen: false,
    waiting: false, // whether changes of controls wait to be applied
    waitingWords: "",

    init() {
      this.base = this.$root.dataset.base;
      this.state = this.clean(start.state);
      this.beginKeeping();
      if (start.key) kept = { text: this.stateText(), key: start.key };
      this.typed = debounce((/** @type {any} */ target) => this.openControl(opened, target.value), 250);
      this.nameTables();
      offer((event) => this.atMark(event) ?? this.atBlock(event));
      for (const block of this.blocks()) {
        listen(block.querySelector(".picture"), (points, how) => this.chosen(block, points, how));
      }
      history.replaceState({ text: this.stateText(), key: start.key }, "");
      addEventListener("popstate", ({ state: entry }) => {
        this.state = this.clean(JSON.parse(entry?.text || "{}"));
        if (entry?.key) kept = entry;
        this.shut();
        this.nameView();
        this.load();
      });
      document.addEventListener("veduta:theme", () =>
        this.blocks().forEach((block) => block._data && draw(block.querySelector(".picture"), block._data)),
      );
      document.addEventListener("pointerdown", (event) => {
        if (!near(event, ".popover, [data-control], dialog")) this.shut();
      });
      this.load();
      this.scale();
      this.beginPresenting();
      this.beginTalking();
    },

    // A page of a fixed size is scaled to the window, but not made larger.
    scale() {
      const { board } = this.$refs;
      const width = Number(board.dataset.fixedWidth);
      if (!width) return;
      const fit = () => {
        const isNarrow = matchMedia("(max-width: 48rem)").matches;
        board.style.zoom = isNarrow ? "" : String(Math.min(1, board.parentElement.clientWidth / (width + 40)));
      };
      new ResizeObserver(fit).observe(board.parentElement);
      fit();
    },

    clean(state) {
      const { controls = {}, selections = [], drills = {}, sorts = {} } = state;
      return { controls, selections, drills, sorts };
    },
    blocks() {
      return [...this.$refs.board.querySelectorAll("[data-block]")];
    },

    // The state as JSON; empty for none.
    stateText(of = this.state) {
      const { controls, selections, drills, sorts } = of;
      const state = {};
      if (Object.keys(controls).length) state.controls = controls;
      if (Object.keys(drills).length) state.drills = drills;
      if (Object.keys(sorts).length) state.sorts = sorts;
      if (selections.length) state.selections = selections;
      return Object.keys(state).length ? JSON.stringify(state) : "";
    },

    query(more = {}, of = this.state) {
      const query = new URLSearchParams();
      const text = this.stateText(of);
      const view = this.keptKey(of);
      if (view) query.set("kept", view);
      else if (text && text === kept.text) query.set("k", kept.key);
      else if (text) query.set("v", text);
      if (start.page) query.set("page", start.page);
      if (start.draft) query.set("draft", "1");
      if (start.version) query.set("version", start.version);
      for (const [name, value] of Object.entries(more)) query.set(name, value);
      return query.size ? `?${query}` : "";
    },

    // Changes the state, the address and everything that follows, or the `only` block that does.
    async go(changes, only = "") {
      if (changes.controls) {
        pending = null;
        this.waiting = false;
      }
      this.state = { ...this.state, ...changes };
      this.nameView();
      const text = this.stateText();
      if (text.length > LONG && text !== kept.text) {
        try {
          const { key } = await post(`${this.base}views/`, { state: JSON.parse(text) });
          if (text !== this.stateText()) return; // it has changed meanwhile
          kept = { text, key };
        } catch (error) {
          return failed(error);
        }
      }
      history.pushState({ text, key: text === kept.text ? kept.key : "" }, "", location.pathname + this.query());
      this.load(false, only);
    },

    // All blocks, or the only one that changes, come in one answer, a line each, as they are worked out. A newer request
    // ends an older one, and asks for what that would have brought.
    async load(isQuiet = false, only = "") {
      const one = running?.only === only || !running ? only : "";
      running?.request.abort();
      const request = new AbortController();
      const times = { began: performance.now(), requests: 0, drawing: 0 };
      const asked = one ? [document.getElementById(`block-${one}`)] : this.blocks();
      const mine = (running = { request, only: one });
      if (!isQuiet) asked.forEach((block) => block.querySelector(".picture").classList.add("waiting"));
      try {
        await this.takeLines(this.query(one ? { only: one } : {}), request.signal, times);
        const isWaiting = (block) => block?.querySelector(".waiting");
        if (asked.some(isWaiting)) throw new Error("The answer broke off. Load the page again.");
      } catch (error) {
        if (error.name === "AbortError") return;
        asked.filter((block) => block.querySelector(".waiting")).forEach((block) => this.problem(block, error));
      }
      if (running === mine) running = null;
      document.dispatchEvent(
        new CustomEvent("veduta:drawn", { detail: { took: performance.now() - times.began, ...times } }),
      );
      this.$root.dataset.drawn = String(Number(this.$root.dataset.drawn ?? 0) + 1);
    },
    async takeLines(query, signal, times) {
      for await (const line of getLines(`${this.base}blocks/${query}`, { signal })) {
        const came = performance.now();
        times.requests = came - times.began;
        await this.takeLine(line);
        times.drawing += performance.now() - came;
      }
    },
    async takeLine(line) {
      if (line.broken) throw new Error(line.broken);
      if (line.trail !== undefined) this.showTrail(line.trail);
      else if (line.since) this.showSince(line.since);
      else if (line.text) showNumbers(document.getElementById(`block-${line.text}`), line.numbers);
      else if (line.control) updateControl(line);
      else await this.showLine(document.getElementById(`block-${line.block}`), line);
    },
    showSince(html) {
      if (!this.$refs.since) return;
      this.$refs.since.innerHTML = html;
      this.$refs.since.hidden = false;
    },
    shutSince() {
      this.$refs.since.remove();
    },
    // What waits to be applied stays as it is set.
    showTrail(html) {
      if (pending) this.wait(pending);
      else updateContent(this.$refs.trail, html);
    },
    async showLine(block, { data, problem }) {
      if (!block) return this.publishedAnew();
      if (asTable.has(block.dataset.block)) return this.loadBlock(block);
      if (problem) this.problem(block, new Error(problem));
      else await this.showBlock(block, data);
    },
    // The page was made of an earlier version than its blocks are.
    publishedAnew() {
      if (toldOfVersion) return;
      toldOfVersion = true;
      const again = { label: "Load it again", run: () => location.reload() };
      toast("This dashboard was published anew meanwhile.", again, 0);
    },
    async loadBlock(block) {
      const id = block.dataset.block;
      try {
        await this.showBlock(
          block,
          await getJson(`${this.base}blocks/${id}/${this.query(asTable.has(id) ? { table: 1 } : {})}`),
        );
      } catch (error) {
        this.problem(block, error);
      }
    },

    async showBlock(block, data) {
      const picture = block.querySelector(".picture");
      picture.classList.remove("waiting");
      const query = (first) => this.query({ rows_from: first });
      askRowsWith(
        picture,
        async (first) => (await getJson(`${this.base}blocks/${block.dataset.block}/${query(first)}`)).html,
      );
      block._data = data;
      showWords(block, data);
      if (asTable.has(block.dataset.block) && data.table) await draw(picture, { html: data.table });
      else await draw(picture, data);
      this.showDrill(block, data.drill);
    },

    problem(block, error) {
      const picture = block.querySelector(".picture");
      picture.classList.remove("waiting");
      clear(picture);
      const box = document.createElement("div");
      box.className = "notice notice-problem";
      box.setAttribute("role", "alert");
      box.textContent = error.message;
      const again = made("button", {
        type: "button",
        className: "link ml-2",
        textContent: "Try again",
      });
      again.addEventListener("click", () => this.loadBlock(block));
      box.append(again);
      picture.replaceChildren(box);
    },

    // What a click on marks does: it selects them, unless the block leads somewhere else with them.
    chosen(block, points, how) {
      if (!points[0].length) return undefined;
      const { click, to, block: id } = block.dataset;
      if (how.from) return this.select(block, points, how);
      const others = this.state.selections.filter((selection) => selection.block !== id || selection.dashboard);
      const selected = selectionOf(block, points);
      const acts = {
        drill: () => this.drillInto(block, points[0]) ?? this.select(block, points, how),
        page: () => this.goToPage(to, { selections: [...others, { ...selected, mode: "focus" }] }),
        dashboard: () => this.goToDashboard(to, selected),
        rows: () => start.rows && this.behind(id, { points: JSON.stringify(points) }),
        address: () => this.showAddress(id, points[0]),
        nothing: () => undefined,
      };
      return click ? acts[click]() : this.select(block, points, how);
    },
    async goToDashboard(target, selected) {
      try {
        location.href = (await post(`${this.base}onward/${target}/${this.query()}`, { selection: selected })).address;
      } catch (error) {
        failed(error);
      }
    },
    // An address of the web is shown before it opens.
    async showAddress(block, point) {
      try {
        const query = this.query({ points: JSON.stringify([point]) });
        dialog(await getHtml(`${this.base}blocks/${block}/address/${query}`), { label: "A web address" });
      } catch (error) {
        failed(error);
      }
    },
    async star(event) {
      const button = event.currentTarget;
      try {
        const { starred } = await post(`${this.base}star/`);
        button.textContent = starred ? "Starred" : "Star";
        button.setAttribute("aria-pressed", String(starred));
      } catch (error) {
        failed(error);
      }
    },

    // Pages: each is come to with what narrows this one.
    pageClicked(event) {
      const page = near(event, "[data-page]");
      if (!page || event.ctrlKey || event.metaKey || event.shiftKey) return;
      event.preventDefault();
      this.goToPage(page.dataset.page);
    },
    goToPage(page, changes = {}) {
      this.state = { ...this.state, ...changes };
      location.href = location.pathname + this.query({ page });
    },
    pageKeys(event) {
      const step = { PageDown: 1, PageUp: -1 }[event.key];
      if (!step || !event.altKey || !this.$refs.pages) return;
      event.preventDefault();
      const pages = all(this.$refs.pages, "[data-page]");
      const next = pages[pages.findIndex((page) => page.hasAttribute("aria-current")) + step];
      if (next) this.goToPage(next.dataset.page);
    },

    // The trail.
    trailClicked(event) {
      const button = near(event, "button");
      if (!button) return;
      const { back, control, setControl, undrill } = button.dataset;
      if (back) {
        const names = [...this.$refs.trail.querySelectorAll("[data-control]")].map((item) => item.dataset.control);
        const controls = back === "all" ? Object.fromEntries(names.map((name) => [name, null])) : {};
        this.go(back === "all" ? { controls, selections: [], drills: {} } : this.clean({}));
        this.shut();
      } else if (undrill) this.drillTo(undrill, []);
      else if (setControl) this.setControl(setControl, JSON.parse(button.dataset.choice));
      else if (control) this.openControl(control, "", button);
      else this.selectionClicked(button);
    },
    async openControl(control, find = "", button = null) {
      if (this.popoverOpen && opened === control && button) return this.shut();
      opened = control;
      const isLast = beginQuestion();
      try {
        const html = await getHtml(`${this.base}controls/${control}/${this.query({ find }, this.asSet())}`);
        if (!isLast()) return;
        if (!button) {
          if (this.popoverOpen) updateContent(this.$refs.popover, html); // what was closed meanwhile stays so
        } else {
          this.$refs.popover.innerHTML = html;
          this.popoverOpen = true;
          await shown(this.$refs.popover);
          placeUnder(this.$refs.popover, button);
          focusFirst(this.$refs.popover);
        }
      } catch (error) {
        failed(error);
      }
    },
    setControl(control, choice) {
      const controls = { ...this.asSet().controls, [control]: choice };
      if (start.applies) this.wait(controls);
      else this.go({ controls });
    },
    // The state with what waits to be applied.
    asSet() {
      return pending ? { ...this.state, controls: pending } : this.state;
    },
    async wait(controls) {
      pending = controls;
      const before = this.state.controls;
      const isOther = (id) => !same(controls[id], before[id]);
      const count = Object.keys({ ...controls, ...before }).filter(isOther).length;
      if (!count) pending = null;
      this.waiting = count > 0;
      this.waitingWords = `${count} ${count === 1 ? "change waits" : "changes wait"}`;
      try {
        const { trail, controls: faces } = await getJson(`${this.base}trail/${this.query({}, this.asSet())}`);
        updateContent(this.$refs.trail, trail);
        for (const [block, html] of Object.entries(faces)) updateControl({ control: block, html });
      } catch (error) {
        failed(error);
      }
    },
    applyWaiting() {
      if (!pending) return;
      this.shut();
      this.go({ controls: pending });
    },
    discardWaiting() {
      this.shut();
      this.wait(this.state.controls);
    },
    popoverClicked(event) {
      const button = near(event, "button");
      if (this.drillChosen(event) || this.viewClicked(event) || (button && this.selectionClicked(button))) return;
      const fill = near(event, "[data-fill]");
      const none = near(event, "[data-all]");
      const set = near(event, "[data-set-control]");
      if (fill) this.choose(filledForm(fill, "choice"));
      else if (set) {
        this.setControl(set.dataset.setControl, JSON.parse(set.dataset.choice));
        this.shut();
      } else if (none) {
        this.setControl(none.dataset.all, null);
        this.shut();
      }
    },
    popoverChanged(event) {
      if (event.type === "submit" && this.togetherSent(event)) return;
      if ("keepView" in event.target.dataset) {
        this.keepView(event.target);
        return;
      }
      const form = near(event, "form[data-choice]");
      if (!form || "find" in event.target.dataset) return;
      this.choose(form, isTyped(event.target));
    },
    choose(form, typed = false) {
      const choice = chosen(form);
      if (choice === undefined) return;
      this.setControl(form.dataset.choice, choice);
      if (!typed) this.openControl(form.dataset.choice, this.$refs.popover.querySelector("[data-find]")?.value ?? "");
    },
    popoverTyped(event) {
      handleMoved(event);
      if ("find" in event.target.dataset) this.typed(event.target);
    },
    popoverKeys(event) {
      if (event.key === "Enter" && event.target.matches("[data-find]")) event.preventDefault();
      if (event.key === "Enter" && event.target.matches("[data-filters]"))
        all(event.currentTarget, "[data-words]")
          .find((option) => !option.hidden)
          ?.click();
      moveByArrows(event, event.currentTarget);
    },
    escape() {
      if (this.popoverOpen) this.$refs.trail.querySelector(`[data-control="${opened}"]`)?.focus();
      this.shut();
    },
    shut() {
      this.popoverOpen = false;
    },

    // Rows behind, and blocks as tables.
    boardClicked(event) {
      if (this.drillClicked(event) || this.severalClicked(event)) return undefined;
      if (this.totalClicked(event) || this.copyClicked(event)) return undefined;
      const comment = near(event, "[data-comment-on]");
      if (comment) return this.commentOn(document.getElementById(`block-${comment.dataset.commentOn}`));
      const control = near(event, "[data-control]");
      if (control) return this.openControl(control.dataset.control, "", control);
      const beside = near(event, "[data-set-control]");
      if (beside) return this.setControl(beside.dataset.setControl, JSON.parse(beside.dataset.choice));
      const number = near(event, "button[data-number]");
      if (number) this.behind(number.closest(".board-block").id.slice("block-".length), number.dataset);
      const narrowed = near(event, "[data-narrowings-of]");
      if (narrowed) this.whatNarrows(narrowed.dataset.narrowingsOf);
      const explained = near(event, "[data-explained]");
      if (explained) this.explain(explained.dataset.explained);
      const rows = near(event, "[data-rows-of]");
      const table = near(event, "[data-as-table]");
      const column = columnsAsked(event);
      if (column) this.go({ sorts: { ...this.state.sorts, [near(event, "[data-block]").dataset.block]: column } });
      if (rows) this.behind(rows.dataset.rowsOf, {});
      if (table) {
        const id = table.dataset.asTable;
        if (!asTable.delete(id)) asTable.add(id);
        sessionStorage.setItem(`veduta-tables-${location.pathname}`, JSON.stringify([...asTable]));
        this.nameTables();
        this.loadBlock(document.getElementById(`block-${id}`));
      }
    },
    // What the menu of a block offers, and before it what can be done with a mark or a cell.
    atBlock(event, but = "") {
      const options = all(near(event, "[data-block]") ?? this.$refs.popover, OF_BLOCKS);
      const wanted = options.filter((option) => !but || !option.matches(but));
      return wanted.map((option) => ({ label: option.textContent.trim(), run: () => option.click() }));
    },
    atMark(event) {
      const block = near(event, "[data-block]");
      const point = block && pointAt(event);
      if (!point?.length) return null;
      const others = this.state.selections.filter((selection) => selection.block !== block.dataset.block);
      const select = (mode) => this.go({ selections: [...others, { ...selectionOf(block, [point]), mode }] });
      return [
        { label: "Focus on this", run: () => select("focus") },
        { label: "Leave this out", run: () => select("leave_out") },
        { label: "Set this off", run: () => select("highlight") },
        ...this.waysFrom(block, point, event),
        { label: "Comment on this", run: () => this.commentOn(block, point, saidAt(event)) },
        ...this.atBlock(event, "[data-drill-menu], [data-several], [data-copy-of], [data-comment-on]"),
      ];
    },
    async explain(block) {
      try {
        const html = await getHtml(`${this.base}blocks/${block}/explained/${this.query()}`);
        dialog(html, { wide: true, label: "How this is worked out" });
      } catch (error) {
        failed(error);
      }
    },
    async whatNarrows(block) {
      try {
        dialog(await getHtml(`${this.base}blocks/${block}/narrowings/${this.query()}`), { label: "What narrows this" });
      } catch (error) {
        failed(error);
      }
    },
    nameTables() {
      for (const button of all(this.$refs.board, "[data-as-table]"))
        button.textContent = asTable.has(button.dataset.asTable) ? "Show as drawn" : "Show as a table";
    },
    behind(block, more) {
      this.shut();
      showRows((page) => getHtml(`${this.base}blocks/${block}/rows/${this.query({ ...more, ...page })}`));
    },
  };
}
