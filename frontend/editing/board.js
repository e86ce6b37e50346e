// The board of the page that is being made: its blocks, each where the definition puts it.
import { near } from "../lib/dom.js";
import { showWords } from "../lib/block.js";
import { draw } from "../lib/draw.js";
import { getJson, post } from "../lib/http.js";
import { showNumbers } from "../lib/numbers.js";
import { failed, problemNotice } from "../lib/page.js";

const PLACE = ["x", "y", "w", "h", "locked", "group"];
const inReadingOrder = (blocks) => [...blocks].sort((one, other) => one.y - other.y || one.x - other.x);

// What of a block is asked for anew when it changes; where it stands is not.
function faceOf(block, controls) {
  const shown = Object.entries(block).filter(([name]) => !PLACE.includes(name));
  return JSON.stringify([shown, block.kind === "control" ? controls : null]);
}

// What of a page its ground and distances are made from.
const groundOf = ({ id, kind, ground, narrow, widest, gap, inner }) => [
  id,
  kind,
  ground,
  narrow.ground,
  widest,
  gap,
  inner,
];

/** @returns {any} Methods of the editor. */
export function board() {
  const faces = new Map(); // of each block as it stands on the board
  const drawn = new Map();
  const grounds = new CSSStyleSheet();
  document.adoptedStyleSheets.push(grounds);
  let grounded = ""; // the grounds that pages have on the screen
  let turn = 0;

  return {
    blockOf(id) {
      return this.page.blocks.find((block) => block.id === id);
    },
    element(id) {
      return this.$refs.board.querySelector(`[data-id="${id}"]`);
    },

    // Brings the board to the definition: faces that changed come from the server.
    async fill() {
      const mine = ++turn;
      this.showHead();
      const { controls } = this.definition;
      const stale = this.page.blocks.filter(
        (block) => faces.get(block.id) !== faceOf(block, controls) || !this.element(block.id),
      );
      const looks = JSON.stringify([this.definition.pages.map(groundOf), this.definition.filters]);
      if (stale.length || looks !== grounded) {
        const asked = { definition: this.definition, blocks: stale.map(({ id }) => id) };
        const { faces: html, grounds: rules, filters: said, datasets } = await post(`${this.base}faces/`, asked);
        if (mine !== turn) return; // the definition has changed meanwhile
        grounds.replaceSync(rules);
        grounded = looks;
        this.filterWords = said;
        this.datasets = datasets;
        this.showControls();
        for (const block of stale) {
          this.putFace(block.id, html[block.id]);
          faces.set(block.id, faceOf(block, controls));
          drawn.delete(block.id);
        }
      }
      this.arrange();
      this.showChosen();
      this.fillTelephone();
      this.fillPaper();
      for (const block of this.page.blocks) {
        if (block.kind === "chart") this.drawBlock(block);
        if (block.numbers.length) this.fillNumbers(block);
      }
    },
    putFace(id, html) {
      const holder = document.createElement("template");
      holder.innerHTML = html;
      const element = /** @type {HTMLElement} */ (holder.content.firstElementChild);
      const old = this.element(id);
      const focused = old?.contains(document.activeElement);
      // What a group holds is put into its new face by what follows.
      this.$refs.board.append(...(old?.querySelectorAll("[data-id]") ?? []));
      if (old) old.replaceWith(element);
      else this.$refs.board.append(element);
      if (focused) element.focus();
    },
    arrange() {
      const { kind, width, height, step, grid, blocks } = this.page;
      const boards = { "": this.$refs.board };
      const there = new Set(blocks.map(({ id }) => id));
      for (const element of this.$refs.board.querySelectorAll("[data-id]"))
        if (!there.has(element.dataset.id)) element.remove();
      const isFixed = kind === "fixed";
      this.$refs.board.classList.toggle("board-fixed", isFixed);
      this.$refs.board.classList.toggle("with-grid", isFixed && grid);
      Object.assign(
        this.$refs.board.style,
        isFixed ? { width: `${width}px`, height: `${height}px` } : { width: "", height: "" },
      );
      this.$refs.board.style.setProperty("--step", `${step}px`);
      const active = document.activeElement;
      for (const block of inReadingOrder(blocks).sort((one, other) => Number(!!one.group) - Number(!!other.group))) {
        const element = this.element(block.id);
        if (block.kind === "group") boards[block.id] = element.querySelector("[data-group]");
        this.put(element, block, isFixed ? blocks.indexOf(block) : null);
        boards[block.group].append(element);
      }
      if (active instanceof HTMLElement && active !== document.activeElement) active.focus({ preventScroll: true });
      this.showPeople();
    },
    put(element, { x, y, w, h, locked }, order) {
      element.classList.toggle("is-locked", locked);
      const flowing = { gridColumn: `${x + 1} / span ${w}`, gridRow: `${y + 1} / span ${h}` };
      const fixed = { left: `${x}px`, top: `${y}px`, width: `${w}px`, height: `${h}px`, zIndex: String(order + 1) };
      const none = { gridColumn: "", gridRow: "", left: "", top: "", width: "", height: "", zIndex: "" };
      Object.assign(element.style, none, order === null ? flowing : fixed);
    },

    async fillNumbers(block) {
      const wanted = JSON.stringify([block.text, block.numbers, this.definition.controls]);
      if (drawn.get(block.id) === wanted) return;
      drawn.set(block.id, wanted);
      try {
        await this.flush();
        showNumbers(this.element(block.id), (await getJson(`${this.base}blocks/${block.id}/numbers/`)).numbers);
      } catch (error) {
        failed(error);
      }
    },
    async drawBlock(block) {
      const { controls, filters, colours, own_colours: own, palettes, letters } = this.definition;
      const here = [block.chart, block.own, block.title, block.look];
      const wanted = JSON.stringify([...here, controls, filters, colours, own, palettes, letters]);
      if (drawn.get(block.id) === wanted) return;
      drawn.set(block.id, wanted);
      const element = this.element(block.id);
      const picture = element.querySelector(".picture");
      try {
        await this.flush();
        const data = await getJson(`${this.base}blocks/${block.id}/?draft=1`);
        showWords(element, data);
        await draw(picture, data);
      } catch (error) {
        picture.replaceChildren(problemNotice(error));
      }
    },
    fillAnew(id) {
      faces.delete(id);
      this.fill();
    },
    redraw() {
      drawn.clear();
      this.fill();
    },
    // The id of the block at which an event happened.
    idAt(event) {
      return near(event, "[data-id]")?.dataset.id;
    },
  };
}
