// A dashboard shown to others: over the whole screen, page after page by keys or by time, and brought up to date by
// itself. Blocks are copied as pictures, as rows or as links.
import { all, made, near } from "./lib/dom.js";
import { pictureOf } from "./lib/draw.js";
import { getJson } from "./lib/http.js";
import { failed, toast } from "./lib/page.js";

const SECOND = 1_000;
/** Where the seconds between two refreshes are kept. */
const KEPT = `veduta-refresh-${location.pathname}`;

/**
 * The cells of a table with tabs between them, a row a line.
 * @param {HTMLTableElement} table
 */
export function asText(table) {
  const cells = (/** @type {HTMLTableRowElement} */ row) => [...row.cells].map((cell) => cell.textContent?.trim());
  return [...table.rows]
    .filter((row) => !row.hidden)
    .map((row) => cells(row).join("\t"))
    .join("\n");
}

/**
 * Puts what is made of a block where it can be pasted from.
 * @param {() => Promise<Record<string, Blob>>} make
 * @param {string} said
 */
async function copied(make, said) {
  try {
    const parts = await make();
    if (!parts) return;
    await navigator.clipboard.write([new ClipboardItem(parts)]);
    toast(said);
  } catch (error) {
    failed(error instanceof DOMException ? new Error("The browser does not let Veduta copy here.") : error);
  }
}

/** @returns {any} Methods of the reader's page. */
export function presenting() {
  let refreshing = 0; // the interval

  return {
    beginPresenting() {
      document.body.classList.toggle("bare", new URLSearchParams(location.search).has("bare"));
      this.refreshEvery(Number(sessionStorage.getItem(KEPT) ?? 0));
    },
    presentClicked(event) {
      const option = near(event, "[data-refresh], [data-present]");
      if (!option) return;
      const { refresh, present } = option.dataset;
      if (refresh !== undefined) this.refreshEvery(Number(refresh), true);
      else this.present(Number(present));
    },
    // Quietly: what is there stays until the new is drawn.
    refreshEvery(seconds, isSaid = false) {
      clearInterval(refreshing);
      sessionStorage.setItem(KEPT, String(seconds));
      for (const option of all(this.$root, "[data-refresh]")) {
        option.setAttribute("aria-pressed", String(Number(option.dataset.refresh) === seconds));
      }
      if (seconds) refreshing = window.setInterval(() => document.hidden || this.load(true), seconds * SECOND);
      if (isSaid) toast(seconds ? "It is brought up to date by itself." : "It stays as it is.");
    },

    // Every page in a frame, of which two take turns, so that the next is drawn before it is seen.
    present(seconds) {
      const pages = all(this.$refs.pages ?? this.$root, "[data-page]").map((page) => page.dataset.page);
      const current = this.$refs.board.dataset.page;
      const order = pages.length ? pages : [current];
      const stage = made("dialog", { className: "stage" });
      stage.setAttribute("aria-label", "Presentation. Arrow keys turn pages, Escape ends it.");
      let at = Math.max(0, order.indexOf(current));
      let turning = 0;
      const ended = new AbortController();
      const address = () => location.pathname + this.query({ page: order[at], bare: 1 });
      const show = () => {
        const frame = made("iframe", { src: address(), title: "A page of the dashboard" });
        frame.addEventListener("load", () => {
          frame.contentWindow?.addEventListener("keydown", keys);
          frame.contentDocument?.addEventListener("veduta:drawn", () => shown(frame), { once: true });
        });
        stage.append(frame);
      };
      const shown = (/** @type {HTMLIFrameElement} */ frame) => {
        for (const other of all(stage, "iframe")) if (other !== frame) other.remove();
        frame.classList.add("shown");
        frame.contentWindow?.focus();
      };
      const turn = (/** @type {number} */ by) => {
        at = (at + by + order.length) % order.length;
        show();
      };
      const keys = (/** @type {KeyboardEvent} */ event) => {
        const steps = { ArrowRight: 1, PageDown: 1, " ": 1, ArrowLeft: -1, PageUp: -1 };
        const by = steps[/** @type {keyof typeof steps} */ (event.key)];
        if (event.key === "Escape") stage.close();
        else if (by && !near(event, "input, select, button, .reachable")) {
          event.preventDefault();
          turn(by);
        }
      };
      stage.addEventListener("keydown", keys);
      stage.addEventListener("close", () => {
        clearInterval(turning);
        ended.abort();
        stage.remove();
        if (document.fullscreenElement) document.exitFullscreen();
      });
      document.addEventListener("fullscreenchange", () => document.fullscreenElement || stage.close(), {
        signal: ended.signal,
      });
      document.body.append(stage);
      stage.showModal();
      stage.requestFullscreen?.().catch(() => {}); // where it may not, the window is filled
      show();
      if (seconds) turning = window.setInterval(() => turn(1), seconds * SECOND);
    },

    // Copies of a block.
    copyClicked(event) {
      const option = near(event, "[data-copy-of]");
      if (!option) return false;
      const block = document.getElementById(`block-${option.dataset.copyOf}`);
      const ways = [
        ["As a picture", () => this.copyPicture(block)],
        ["As rows", () => this.copyRows(block)],
        ["As a link", () => this.copyLink(`${location.pathname}${this.query()}#${block.id}`)],
      ];
      const isDrawn = Boolean(block.querySelector(".picture :is(svg, canvas)"));
      const buttons = ways.slice(isDrawn ? 0 : 1).map(([words, run]) => {
        const button = made("button", { type: "button", className: "option", textContent: String(words) });
        button.addEventListener("click", () => {
          this.shut();
          /** @type {() => void} */ (run)();
        });
        return button;
      });
      this.showPopover("<h2>Copy this block</h2>", block.querySelector(".block-title"));
      this.$refs.popover.append(...buttons);
      return true;
    },
    copyPicture(block) {
      return copied(async () => {
        const picture = await pictureOf(block.querySelector(".picture"));
        const bytes = Uint8Array.from(atob(picture), (letter) => letter.charCodeAt(0));
        return { "image/png": new Blob([bytes], { type: "image/png" }) };
      }, "The picture is copied.");
    },
    copyRows(block) {
      return copied(async () => {
        const { block: id } = block.dataset;
        const data = await getJson(`${this.base}blocks/${id}/${this.query({ table: 1 })}`);
        const place = made("div");
        place.innerHTML = data.table ?? data.html;
        const table = place.querySelector("table");
        if (!table) throw new Error("There are no rows in this block to copy.");
        return {
          "text/plain": new Blob([asText(table)], { type: "text/plain" }),
          "text/html": new Blob([table.outerHTML], { type: "text/html" }),
        };
      }, "The rows are copied.");
    },
  };
}
