// Several blocks are chosen, to be moved, sized, grouped or copied together; also into another dashboard or window.
import { all, made, near } from "../lib/dom.js";
import { newId } from "../lib/ids.js";
import { openDialog, toast } from "../lib/page.js";

const BLOCKS = "application/x-veduta-blocks+json";
const isTyping = (event) => near(event, "input, textarea, select, dialog, [contenteditable]");

/** @returns {any} Methods of the editor. */
export function choosing() {
  const chosen = new Set();
  /** @type {string[] | null} */
  let copying = null; // what the menu has copied

  return {
    chosenCount: 0,

    choose(id, more = false) {
      if (!more) chosen.clear();
      if (more && chosen.has(id)) chosen.delete(id);
      else chosen.add(id);
      this.showChosen();
    },
    chooseNone() {
      chosen.clear();
      this.showChosen();
    },
    // The chosen blocks of this page, or the one that has the keyboard.
    chosenOr(id) {
      if (id && !chosen.has(id)) return [id];
      return [...chosen];
    },
    showChosen() {
      for (const id of chosen) if (!this.blockOf(id)) chosen.delete(id);
      for (const element of all(this.$refs.board, "[data-id]"))
        element.classList.toggle("is-chosen", chosen.has(element.dataset.id));
      this.chosenCount = chosen.size;
    },
    boardClicked(event) {
      const id = this.idAt(event);
      if (!id) return this.chooseNone();
      const act = near(event, "[data-act]")?.dataset.act;
      if (act === "more") return this.openMenu(near(event, "[data-act]"));
      if (act === "here") return this.hereOnly(id);
      if (act) return this.open(id);
      if (near(event, "button, a, input")) return undefined;
      return this.choose(id, event.shiftKey || event.ctrlKey || event.metaKey);
    },
    openMenu(button) {
      const { left: clientX, bottom: clientY } = button.getBoundingClientRect();
      button.dispatchEvent(new MouseEvent("contextmenu", { bubbles: true, cancelable: true, clientX, clientY }));
    },
    boardDoubleClicked(event) {
      const id = this.idAt(event);
      if (id && !near(event, "button, a, input")) this.open(id);
    },

    // What can be done with the block at an event, and with what is chosen beside it.
    offered(event) {
      const id = this.idAt(event);
      if (!id) return null;
      const block = this.blockOf(id);
      const blocks = this.chosenOr(id);
      const flowing = this.page.kind === "flowing";
      const place = (side) => () => this.edit({ edit: "add_block", id: newId(), kind: "place", target: id, side });
      const order = (to) => () => this.edit({ edit: "order_blocks", blocks, to });
      if (block.locked) return [{ label: "Unlock", run: () => this.lock(blocks, false) }];
      return [
        { label: block.kind === "place" ? "Fill it" : "Edit", run: () => this.open(id) },
        ...(block.kind === "chart" ? [{ label: "Change it here only…", run: () => this.hereOnly(id) }] : []),
        { label: "How it looks…", run: () => this.dress(id) },
        ...(block.kind === "chart" ? [{ label: "What narrows it…", run: () => this.whatNarrows(id) }] : []),
        { label: "Duplicate", run: () => this.duplicate(blocks) },
        { label: "Copy", run: () => this.copy(blocks) },
        ...(blocks.length > 1 ? [{ label: `Group these ${blocks.length} blocks`, run: () => this.group(blocks) }] : []),
        ...(block.kind === "group" ? [{ label: "Ungroup", run: () => this.edit({ edit: "ungroup", group: id }) }] : []),
        ...(flowing
          ? [
              { label: "Make its row even", run: () => this.edit({ edit: "even_row", block: id }) },
              { label: "Insert a row above", run: place("row_above") },
              { label: "Insert a row below", run: place("row_below") },
              { label: "Insert a place beside it", run: place("right") },
            ]
          : [
              { label: "Bring to the front", run: order("front") },
              { label: "One step forward", run: order("forward") },
              { label: "One step back", run: order("backward") },
              { label: "Send to the back", run: order("back") },
            ]),
        ...(this.definition.pages.length > 1
          ? [{ label: "Move or copy to a page…", run: () => this.toPage(blocks) }]
          : []),
        { label: "Lock", run: () => this.lock(blocks, true) },
        { label: "Remove", run: () => this.remove(blocks), danger: true },
      ];
    },

    lock(blocks, locked) {
      return this.edit({ edit: "lock_blocks", blocks, locked });
    },
    async group(blocks) {
      const id = newId();
      if (!(await this.edit({ edit: "group_blocks", id, blocks }))) return;
      this.choose(id);
      this.element(id)?.focus();
    },
    groupChosen() {
      return this.group([...chosen]);
    },
    alignChosen(event) {
      const { edge } = event.currentTarget.dataset;
      return this.edit({ edit: "align_blocks", blocks: [...chosen], edge });
    },
    sizeChosen() {
      return this.edit({ edit: "same_size", blocks: [...chosen] });
    },
    duplicateChosen() {
      return this.duplicate([...chosen]);
    },
    removeChosen() {
      return this.remove([...chosen]);
    },
    async duplicate(blocks) {
      const prefix = newId();
      if (await this.edit({ edit: "duplicate_blocks", blocks, prefix })) this.arrived(prefix);
    },
    async remove(blocks) {
      if (!(await this.edit({ edit: "remove_blocks", blocks }))) return;
      const said = blocks.length === 1 ? "The block is removed." : `${blocks.length} blocks are removed.`;
      toast(said, { label: "Undo", run: () => this.undo() });
    },
    // Chooses what has come onto the page, and brings it into view.
    arrived(prefix) {
      const come = this.page.blocks.filter(({ id }) => id.startsWith(prefix) && id.length > prefix.length);
      chosen.clear();
      for (const { id, group } of come) if (!group) chosen.add(id);
      this.showChosen();
      const element = come.length && this.element(come[0].id);
      if (element) {
        element.scrollIntoView({ block: "nearest" });
        element.focus();
      }
    },
    async toPage(blocks) {
      const { element, closed } = openDialog("choose-page", "Move or copy to a page");
      const list = element.querySelector("[data-pages]");
      for (const page of this.definition.pages) {
        if (page.id === this.page.id) continue;
        const row = /** @type {HTMLElement} */ (
          document.importNode(element.querySelector("template").content, true).firstElementChild
        );
        row.querySelector("[data-name]").textContent = page.name;
        for (const button of all(row, "[data-close]")) button.dataset.close += ` ${page.id}`;
        list.append(row);
      }
      const [what, page] = (await closed).split(" ");
      if (what === "move") await this.edit({ edit: "move_to_page", blocks, page });
      else if (what === "copy") await this.edit({ edit: "copy_to_page", blocks, page, prefix: newId() });
    },

    // Browsers copy only while something is marked, even where a page says what is to be copied.
    copy(blocks) {
      const marked = made("span", { textContent: "blocks" });
      document.body.append(marked);
      getSelection().selectAllChildren(marked);
      copying = blocks;
      document.execCommand("copy");
      copying = null;
      marked.remove();
    },
    copied(event) {
      if (!copying && (isTyping(event) || String(getSelection()))) return;
      const blocks = copying ?? this.chosenOr(this.idAt(event));
      if (!blocks.length) return;
      const taken = this.page.blocks.filter(({ id, group }) => blocks.includes(id) || blocks.includes(group));
      event.preventDefault();
      event.clipboardData.setData(BLOCKS, JSON.stringify(taken));
      const names = blocks.map((id) => this.element(id)?.getAttribute("aria-label") ?? "");
      event.clipboardData.setData("text/plain", names.join("\n"));
      toast(blocks.length === 1 ? "The block is copied." : `${blocks.length} blocks are copied.`, null, 2500);
    },
    async pasted(event) {
      const data = isTyping(event) ? "" : event.clipboardData.getData(BLOCKS);
      if (!data) return;
      event.preventDefault();
      const prefix = newId();
      const change = { edit: "paste_blocks", page: this.page.id, blocks: JSON.parse(data), prefix };
      if (await this.edit(change)) this.arrived(prefix);
    },

    boardKeys(event) {
      const element = event.target;
      if (!element.matches?.("[data-id]")) return;
      const { id } = element.dataset;
      const blocks = this.chosenOr(id);
      const moves = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] };
      const withControl = event.ctrlKey || event.metaKey;
      const acts = {
        Delete: () => this.remove(blocks),
        Backspace: () => this.remove(blocks),
        Enter: () => this.open(id),
        " ": () => this.choose(id, true),
      };
      if (moves[event.key]) {
        const [right, down] = moves[event.key];
        if (event.shiftKey) this.edit({ edit: "grow_block", block: id, right, down });
        else this.edit({ edit: "step_blocks", blocks, right, down });
      } else if (acts[event.key] && !withControl) acts[event.key]();
      else if (withControl && event.key.toLowerCase() === "d") this.duplicate(blocks);
      else if (withControl && event.key.toLowerCase() === "g" && blocks.length > 1) this.group(blocks);
      else return;
      event.preventDefault();
    },
  };
}
