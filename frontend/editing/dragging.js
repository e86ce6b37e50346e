// Blocks are dragged to where a line and words say they would go, and sized at their edges.
import { made, near } from "../lib/dom.js";
import { COLUMNS, ROW } from "./grid.js";

const FULL = 12; // px from the upper or lower edge of a block within which a drop is over the full width
const SHY = 5; // px before a press becomes a drag
const NEAR = 48; // px from the edge of the window within which it scrolls
const NOT_HANDLES = "button, a, input, textarea, select, summary, .picture, .table, [data-edge]";
const SIDES = {
  left: (name) => `Beside ${name}, at its left: each has half of its place`,
  right: (name) => `Beside ${name}, at its right: each has half of its place`,
  above: (name) => `Above ${name}, as wide as it`,
  below: (name) => `Below ${name}, as wide as it`,
  row_above: (name) => `In a row of its own above ${name}, over the full width`,
  row_below: (name) => `In a row of its own below ${name}, over the full width`,
};

/** Which side of a block a point is nearest to. */
function sideAt(rect, x, y) {
  if (y - rect.top < FULL) return "row_above";
  if (rect.bottom - y < FULL) return "row_below";
  const far = {
    left: (x - rect.left) / rect.width,
    right: (rect.right - x) / rect.width,
    above: (y - rect.top) / rect.height,
    below: (rect.bottom - y) / rect.height,
  };
  return Object.keys(far).reduce((best, side) => (far[side] < far[best] ? side : best));
}

/** The line at a side of a block, over the whole board for a row of its own. */
function lineAt(rect, board, side) {
  if (side === "left" || side === "right") return new DOMRect(rect[side] - 2, rect.top, 4, rect.height);
  const y = side.endsWith("above") ? rect.top : rect.bottom;
  return side.startsWith("row")
    ? new DOMRect(board.left, y - 2, board.width, 4)
    : new DOMRect(rect.left, y - 2, rect.width, 4);
}

const nameOf = (element) => `“${element.getAttribute("aria-label") || "this block"}”`;

/**
 * @param {HTMLElement} board
 * @param {{
 *   page: () => any, block: (id: string) => any, taken: (id: string) => string[], edit: (change: any) => void,
 * }} editor `taken` gives the blocks that are dragged with one
 */
export function watchDragging(board, editor) {
  const line = made("div", { className: "drop-line", hidden: true });
  const words = made("div", { className: "drop-words", hidden: true });
  words.setAttribute("role", "status");
  document.body.append(line, words);

  const say = (text, x, y) => {
    words.hidden = !text;
    words.textContent = text;
    Object.assign(words.style, { left: `${Math.min(x + 14, innerWidth - 300)}px`, top: `${y + 16}px` });
  };
  const outline = (rect) => {
    line.hidden = !rect;
    if (!rect) return;
    const { left, top, width, height } = rect;
    Object.assign(line.style, {
      left: `${left}px`,
      top: `${top}px`,
      width: `${width}px`,
      height: `${height}px`,
    });
  };

  // Follows the pointer until it is let go, or Escape calls it off.
  function follow(event, { begin, move, drop, off }) {
    const from = { x: event.clientX, y: event.clientY };
    let begun = false;
    let frame = 0;
    const done = (dropped) => {
      cancelAnimationFrame(frame);
      removeEventListener("pointermove", moved);
      removeEventListener("pointerup", released);
      removeEventListener("pointercancel", called);
      removeEventListener("keydown", pressed, true);
      outline(null);
      say("", 0, 0);
      if (!begun) return;
      off();
      if (dropped) drop();
    };
    const moved = (now) => {
      const [dx, dy] = [now.clientX - from.x, now.clientY - from.y];
      if (!begun && Math.hypot(dx, dy) < SHY) return;
      if (!begun) begin();
      begun = true;
      cancelAnimationFrame(frame);
      frame = requestAnimationFrame(() => {
        if (now.clientY < NEAR) scrollBy(0, -16);
        else if (now.clientY > innerHeight - NEAR) scrollBy(0, 16);
        move(now.clientX, now.clientY, dx, dy);
      });
    };
    const released = () => done(true);
    const called = () => done(false);
    const pressed = (key) => {
      if (key.key !== "Escape") return;
      key.stopPropagation();
      done(false);
    };
    addEventListener("pointermove", moved);
    addEventListener("pointerup", released);
    addEventListener("pointercancel", called);
    addEventListener("keydown", pressed, true);
  }

  /** What a drop at a point would do: an edit, the line that shows it and the words that say it. */
  function dropAt(x, y, blocks) {
    const over = document.elementFromPoint(x, y);
    const tab = /** @type {HTMLElement | null} */ (over?.closest("[data-page-tab]"));
    if (tab) {
      const change = { edit: "move_to_page", blocks, page: tab.dataset.pageTab };
      return { change, rect: tab.getBoundingClientRect(), said: `To the page “${tab.textContent.trim()}”` };
    }
    const target = /** @type {HTMLElement | null} */ (over?.closest("[data-id]"));
    if (target && !target.closest(".dragged")) {
      const rect = target.getBoundingClientRect();
      const side = sideAt(rect, x, y);
      const change = { edit: "put_blocks", blocks, target: target.dataset.id, side };
      return {
        change,
        rect: lineAt(rect, target.parentElement.getBoundingClientRect(), side),
        said: SIDES[side](nameOf(target)),
      };
    }
    if (!over?.closest("[data-board]")) return null;
    const at = board.getBoundingClientRect();
    const { w, h } = editor.block(blocks[0]);
    const column = Math.min(Math.max(Math.floor(((x - at.left) / at.width) * COLUMNS), 0), COLUMNS - w);
    const row = Math.max(Math.floor((y - at.top) / ROW), 0);
    return {
      change: { edit: "move_blocks", blocks, x: column, y: row },
      rect: new DOMRect(at.left + (column * at.width) / COLUMNS, at.top + row * ROW, (w * at.width) / COLUMNS, h * ROW),
      said: `Here, from column ${column + 1}`,
    };
  }

  function dragOnGrid(event, blocks, elements) {
    let found = null;
    follow(event, {
      begin: () => elements.forEach((element) => element.classList.add("dragged")),
      off: () => elements.forEach((element) => element.classList.remove("dragged")),
      move(x, y) {
        found = dropAt(x, y, blocks);
        outline(found?.rect);
        say(found?.said ?? "", x, y);
      },
      drop: () => found && editor.edit(found.change),
    });
  }

  function dragFreely(event, blocks, elements) {
    const { x, y } = editor.block(blocks[0]);
    const { snap, step } = editor.page();
    const snapped = (px) => (snap ? Math.round(px / step) * step : px);
    let to = { x, y };
    let onTab = null;
    follow(event, {
      begin: () => elements.forEach((element) => element.classList.add("dragged")),
      off() {
        for (const element of elements) {
          element.classList.remove("dragged");
          element.style.translate = "";
        }
      },
      move(pointX, pointY, dx, dy) {
        onTab = document.elementFromPoint(pointX, pointY)?.closest("[data-page-tab]");
        to = { x: snapped(x + dx), y: snapped(y + dy) };
        for (const element of elements) element.style.translate = `${to.x - x}px ${to.y - y}px`;
        say(onTab ? `To the page “${onTab.textContent.trim()}”` : `${to.x} · ${to.y}`, pointX, pointY);
      },
      drop() {
        if (onTab) editor.edit({ edit: "move_to_page", blocks, page: onTab.dataset.pageTab });
        else editor.edit({ edit: "move_blocks", blocks, ...to });
      },
    });
  }

  /** How far an edge was dragged, in columns and rows or on a fixed page in px. */
  function steps(element, dx, dy) {
    if (editor.page().kind === "fixed") return { across: Math.round(dx), down: Math.round(dy) };
    const column = element.parentElement.getBoundingClientRect().width / COLUMNS;
    return { across: Math.round(dx / column), down: Math.round(dy / ROW), column };
  }

  function drawEdge(event, edge, element) {
    const { id } = element.dataset;
    const { w, h } = editor.block(id);
    const isFixed = editor.page().kind === "fixed";
    let change = null;
    follow(event, {
      begin: () => element.classList.add("sized"),
      off: () => element.classList.remove("sized"),
      move(x, y, dx, dy) {
        const rect = element.getBoundingClientRect();
        const { across, down, column = 1 } = steps(element, edge === "below" ? 0 : dx, edge === "right" ? 0 : dy);
        const row = isFixed ? 1 : ROW;
        const [width, height] = [rect.width + across * column, rect.height + down * row];
        if (edge === "corner" || isFixed) {
          change = { edit: "size_block", block: id, w: Math.max(w + across, 1), h: Math.max(h + down, 1) };
          outline(new DOMRect(rect.left, rect.top, Math.max(width, 8), Math.max(height, 8)));
          say(`${Math.max(w + across, 1)} × ${Math.max(h + down, 1)}`, x, y);
        } else {
          change = { edit: "move_line", block: id, edge, by: edge === "right" ? across : down };
          outline(lineAt(new DOMRect(rect.left, rect.top, width, height), rect, edge === "right" ? "right" : "below"));
          say(edge === "right" ? `${w + across} of ${COLUMNS} columns` : `${h + down} rows`, x, y);
        }
      },
      drop: () => change && editor.edit(change),
    });
  }

  board.addEventListener("pointerdown", (event) => {
    if (event.button !== 0) return;
    const element = near(event, "[data-id]");
    if (!element || element.classList.contains("is-locked")) return;
    const edge = near(event, "[data-edge]")?.dataset.edge;
    if (edge) {
      event.preventDefault();
      return drawEdge(event, edge, element);
    }
    if (near(event, NOT_HANDLES)) return;
    const blocks = editor.taken(element.dataset.id);
    const elements = blocks.map((id) => board.querySelector(`[data-id="${id}"]`));
    if (editor.page().kind === "fixed") dragFreely(event, blocks, elements);
    else dragOnGrid(event, blocks, elements);
  });
}
