// A dashboard as it is read. The address holds the whole state: controls and selections.
import { draw, listen, showNotes } from "./lib/draw.js";
import { getHtml, getJson } from "./lib/http.js";
import { debounce, failed, formData, moveByArrows, placeUnder, replaceContent, toast } from "./lib/page.js";
import { showRows } from "./lib/rows.js";

const same = (a, b) => JSON.stringify(a) === JSON.stringify(b);

export function dashboard() {
  const start = JSON.parse(document.getElementById("start").textContent);
  const running = new Map(); // block -> the request under way
  const asTable = new Set();
  let opened = null;
  let acting = null;

  return {
    popoverOpen: false,
    actionsOpen: false,

    init() {
      this.base = this.$root.dataset.base;
      this.state = this.clean(start.state);
      this.typed = debounce((target) => this.openControl(opened, target.value), 250);
      for (const block of this.blocks()) {
        listen(block.querySelector(".picture"), (points, how) => this.chosen(block, points, how));
      }
      addEventListener("popstate", () => {
        this.state = this.clean(JSON.parse(new URLSearchParams(location.search).get("v") ?? "{}"));
        this.shut();
        this.load();
      });
      document.addEventListener("veduta:theme", () => this.blocks().forEach((block) => block._data && draw(block.querySelector(".picture"), block._data)));
      document.addEventListener("veduta:try-again", () => this.load());
      document.addEventListener("pointerdown", (event) => {
        if (!event.target.closest(".popover, [data-control], [data-selection], dialog")) this.shut();
      });
      this.load(false);
    },

    clean(state) { return { controls: state.controls ?? {}, selections: state.selections ?? [] }; },
    blocks() { return [...this.$refs.board.querySelectorAll("[data-block]")]; },

    query(more = {}) {
      const query = new URLSearchParams();
      const { controls, selections } = this.state;
      const state = {};
      if (Object.keys(controls).length) state.controls = controls;
      if (selections.length) state.selections = selections;
      if (Object.keys(state).length) query.set("v", JSON.stringify(state));
      if (start.version) query.set("version", start.version);
      for (const [name, value] of Object.entries(more)) query.set(name, value);
      const text = query.toString();
      return text ? `?${text}` : "";
    },

    // Changes the state, the address and everything that follows.
    go(changes) {
      this.state = { ...this.state, ...changes };
      history.pushState(null, "", location.pathname + this.query());
      this.load();
    },

    async load(trail = true) {
      const began = performance.now();
      const parts = this.blocks().map((block) => this.loadBlock(block));
      if (trail) parts.push(this.loadTrail());
      await Promise.all(parts);
      document.dispatchEvent(new CustomEvent("veduta:drawn", { detail: { took: performance.now() - began } }));
      this.$root.dataset.drawn = String(Number(this.$root.dataset.drawn ?? 0) + 1);
    },

    async loadTrail() {
      try {
        replaceContent(this.$refs.trail, await getHtml(`${this.base}trail/${this.query()}`));
      } catch (error) {
        failed(error);
      }
    },

    async loadBlock(block) {
      const id = block.dataset.block;
      running.get(id)?.abort();
      const request = new AbortController();
      running.set(id, request);
      const picture = block.querySelector(".picture");
      picture.classList.add("waiting");
      try {
        const more = asTable.has(id) ? { table: 1 } : {};
        const data = await getJson(`${this.base}blocks/${id}/${this.query(more)}`, { signal: request.signal });
        await this.showBlock(block, data);
      } catch (error) {
        if (error.name === "AbortError") return;
        this.problem(block, error);
      } finally {
        if (running.get(id) === request) {
          running.delete(id);
          picture.classList.remove("waiting");
        }
      }
    },

    async showBlock(block, data) {
      const picture = block.querySelector(".picture");
      block._data = data;
      block.classList.toggle("is-figure", data.kind === "figure");
      picture._lying = data.kind === "lying";
      const notes = [...data.notes];
      if (data.not_followed.length) notes.push(`Does not follow ${data.not_followed.join(", ")}: it has no such field.`);
      showNotes(block.querySelector(".note"), notes);
      if (data.empty) await draw(picture, { html: '<p class="muted">No rows here with these filters.</p>' });
      else if (asTable.has(block.dataset.block) && data.table) await draw(picture, { html: data.table });
      else await draw(picture, data);
      for (const cell of picture.querySelectorAll("tbody th[data-point]")) cell.tabIndex = 0;
    },

    problem(block, error) {
      const picture = block.querySelector(".picture");
      picture._view?.finalize();
      picture._view = null;
      const box = document.createElement("div");
      box.className = "notice notice-problem";
      box.setAttribute("role", "alert");
      box.textContent = error.message;
      const again = Object.assign(document.createElement("button"), { type: "button", className: "link ml-2", textContent: "Try again" });
      again.addEventListener("click", () => this.loadBlock(block));
      box.append(again);
      picture.replaceChildren(box);
    },

    // Selections.
    chosen(block, points, { add, at }) {
      const id = block.dataset.block;
      if (!points[0].length) return;
      let old = this.state.selections.find((selection) => selection.block === id);
      if (old && old.points[0].length !== points[0].length) old = undefined; // a range and marks do not mix
      let kept = points;
      if (old && add) {
        const there = points.every((point) => old.points.some((other) => same(point, other)));
        kept = there
          ? old.points.filter((point) => !points.some((other) => same(point, other)))
          : [...old.points, ...points.filter((point) => !old.points.some((other) => same(point, other)))];
      } else if (old && same(old.points, points)) kept = [];
      const others = this.state.selections.filter((selection) => selection.block !== id);
      const mode = old && add ? old.mode : "focus";
      this.go({ selections: kept.length ? [...others, { block: id, mode, points: kept }] : others });
      if (kept.length) this.offer(id, at);
      else this.shut();
    },

    offer(block, at) {
      acting = block;
      const selection = this.state.selections.find((item) => item.block === block);
      if (!selection) return;
      const other = selection.mode === "focus" ? ["leave_out", "Leave it out instead"] : ["focus", "Focus on it instead"];
      const rows = start.rows ? '<button type="button" class="btn btn-small btn-quiet" data-act="rows">Rows behind</button>' : "";
      this.$refs.actions.innerHTML = `<span class="flex gap-1"><button type="button" class="btn btn-small" data-act="${other[0]}">${other[1]}</button>${rows}<button type="button" class="btn btn-small btn-quiet" data-act="remove">Remove</button></span>`;
      this.popoverOpen = false;
      this.actionsOpen = true;
      this.$nextTick(() => {
        const box = this.$refs.actions;
        box.style.left = `${Math.max(8, Math.min(at.x - 40, innerWidth - box.offsetWidth - 12)) + scrollX}px`;
        box.style.top = `${Math.min(at.y + 14, innerHeight - box.offsetHeight - 8) + scrollY}px`;
      });
    },
    actionClicked(event) {
      const act = event.target.closest("[data-act]")?.dataset.act;
      if (!act) return;
      if (act === "rows") {
        this.behind(acting, this.state.selections.find((item) => item.block === acting)?.points);
        return;
      }
      const { selections } = this.state;
      this.shut();
      if (act === "remove") this.go({ selections: selections.filter((item) => item.block !== acting) });
      else this.go({ selections: selections.map((item) => (item.block === acting ? { ...item, mode: act } : item)) });
    },

    // The trail.
    trailClicked(event) {
      const button = event.target.closest("button");
      if (!button) return;
      const { control, selection, remove } = button.dataset;
      if ("clear" in button.dataset) {
        const controls = Object.fromEntries([...this.$refs.trail.querySelectorAll("[data-control]")].map((item) => [item.dataset.control, null]));
        this.go({ controls, selections: [] });
        this.shut();
      } else if (control) this.openControl(control, "", button);
      else if (remove !== undefined) {
        this.shut();
        this.go({ selections: this.state.selections.filter((_, i) => i !== Number(remove)) });
      } else if (selection !== undefined) {
        const box = button.getBoundingClientRect();
        this.offer(this.state.selections[Number(selection)].block, { x: box.left + 40, y: box.bottom - 6 });
      }
    },
    async openControl(control, find = "", button = null) {
      if (this.popoverOpen && opened === control && button) return this.shut();
      opened = control;
      this.actionsOpen = false;
      try {
        const html = await getHtml(`${this.base}controls/${control}/${this.query({ find })}`);
        if (this.popoverOpen && !button) replaceContent(this.$refs.popover, html);
        else {
          this.$refs.popover.innerHTML = html;
          this.popoverOpen = true;
          await this.$nextTick();
          placeUnder(this.$refs.popover, this.$refs.trail.querySelector(`[data-control="${control}"]`) ?? this.$refs.trail);
          this.$refs.popover.querySelector("input:not([type=hidden]), button")?.focus();
        }
      } catch (error) {
        failed(error);
      }
    },
    setControl(control, choice) {
      this.go({ controls: { ...this.state.controls, [control]: choice } });
    },
    popoverClicked(event) {
      const fill = event.target.closest("[data-fill]");
      const all = event.target.closest("[data-all]");
      if (fill) {
        const form = fill.closest("form");
        for (const [name, value] of Object.entries({ back: 0, ...JSON.parse(fill.dataset.fill) })) form.elements[`choice.${name}`].value = value;
        this.choose(form);
      } else if (all) {
        this.setControl(all.dataset.all, null);
        this.shut();
      }
    },
    popoverChanged(event) {
      const form = event.target.closest("form[data-choice]");
      if (form && !("find" in event.target.dataset)) this.choose(form);
    },
    choose(form) {
      if (!form.reportValidity()) return;
      const { choice } = formData(form);
      if (choice.kind === "dates" && choice.start && choice.end && choice.start > choice.end) {
        toast("The first day is after the last. Nothing was changed.");
        return;
      }
      this.setControl(form.dataset.choice, choice.values && !choice.values.length ? null : choice);
      this.openControl(form.dataset.choice, this.$refs.popover.querySelector("[data-find]")?.value ?? "");
    },
    popoverTyped(event) {
      if ("find" in event.target.dataset) this.typed(event.target);
    },
    popoverKeys(event) {
      if (event.key === "Enter" && event.target.matches("[data-find]")) event.preventDefault();
      moveByArrows(event, event.currentTarget);
    },
    escape() {
      if (this.popoverOpen) this.$refs.trail.querySelector(`[data-control="${opened}"]`)?.focus();
      this.shut();
    },
    shut() { this.popoverOpen = this.actionsOpen = false; },

    // Rows behind, and blocks as tables.
    boardClicked(event) {
      const rows = event.target.closest("[data-rows-of]");
      const table = event.target.closest("[data-as-table]");
      if (rows) this.behind(rows.dataset.rowsOf, null);
      if (table) {
        const id = table.dataset.asTable;
        if (!asTable.delete(id)) asTable.add(id);
        table.textContent = asTable.has(id) ? "Show as drawn" : "Show as a table";
        this.loadBlock(document.getElementById(`block-${id}`));
      }
    },
    behind(block, points) {
      this.shut();
      const more = points ? { points: JSON.stringify(points) } : {};
      showRows((page) => getHtml(`${this.base}blocks/${block}/rows/${this.query({ ...more, ...page })}`));
    },
  };
}

