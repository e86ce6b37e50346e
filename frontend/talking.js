// Comments of a dashboard, in a panel beside it: threads about it, a block or a mark, and mentions of people.
import { all, made, near, sent } from "./lib/dom.js";
import { markElements } from "./lib/draw.js";
import { getHtml, post } from "./lib/http.js";
import { failed, postAndOfferUndo, toast } from "./lib/page.js";
import { selectionOf, standFor } from "./selecting.js";

/**
 * What is being typed behind the last @ before a place in a text; null for none.
 * @param {string} text
 * @param {number} at
 */
export function mentionBegun(text, at) {
  const found = /(^|\s)@([\p{L}\p{N}’'.-]*( [\p{L}\p{N}’'.-]*)?)$/u.exec(text.slice(0, at));
  return found ? { typed: found[2], from: at - found[2].length } : null;
}

/** @returns {any} Methods of the reader's page. */
export function talking() {
  let panel = null; // the open panel
  let about = {}; // the block, and perhaps the mark, that a new comment is about
  let aboutWords = "";

  return {
    beginTalking() {
      document.addEventListener("veduta:drawn", () => this.showAtMarks());
      if (new URLSearchParams(location.search).has("comments")) this.openComments();
    },
    async openComments() {
      if (panel) return this.closeComments();
      about = {};
      await this.showComments();
      panel?.querySelector("textarea")?.focus();
    },
    closeComments() {
      panel?.remove();
      panel = null;
      this.showAtMarks();
    },
    async commentOn(block, point = null, words = "") {
      about = { block: block.dataset.block };
      if (point) about.mark = selectionOf(block, [point]);
      aboutWords = [block.getAttribute("aria-label"), words].filter(Boolean).join(": ");
      await this.showComments();
      panel?.querySelector("textarea")?.focus();
    },
    async showComments() {
      try {
        const html = await getHtml(`${this.base}comments/${this.query()}`);
        if (!panel) {
          panel = made("aside", { className: "comments-panel" });
          panel.setAttribute("aria-label", "Comments");
          panel.addEventListener("click", (event) => this.commentClicked(event));
          panel.addEventListener("submit", (event) => this.commentSent(event));
          panel.addEventListener("input", (event) => this.mentioning(event.target));
          panel.addEventListener("keydown", (event) => this.commentKeys(event));
          for (const kind of ["pointerover", "focusin"]) {
            panel.addEventListener(kind, (event) => this.showAtMarks(near(event, "[data-points]")));
          }
          panel.addEventListener("pointerleave", () => this.showAtMarks());
          this.$root.append(panel);
        }
        panel.innerHTML = html;
        this.showAbout();
        this.showAtMarks();
        this.countComments();
      } catch (error) {
        failed(error);
      }
    },
    countComments() {
      const open = all(panel, "[data-thread]").filter((thread) => !thread.closest("details")).length;
      this.$refs.commentCount.textContent = String(open);
      this.$refs.commentCount.hidden = !open;
    },
    // Rings round the marks that open threads are about, and a strong one round those of the thread pointed at.
    showAtMarks(pointedAt = null) {
      for (const mark of all(this.$refs.board, ".commented")) mark.classList.remove("commented", "marked");
      const threads = panel ? all(panel, "[data-points]").filter((thread) => !thread.closest("details")) : [];
      for (const thread of threads) {
        const [picture] = all(document, `#block-${thread.dataset.blockOf} .picture`);
        const points = JSON.parse(thread.dataset.points);
        for (const [mark, point] of picture ? markElements(picture) : []) {
          if (!standFor(points, point)) continue;
          mark.classList.add("commented", ...(thread === pointedAt ? ["marked"] : []));
        }
      }
    },
    showAbout() {
      const place = panel.querySelector("[data-about]");
      place.hidden = panel.querySelector("[data-not-about]").hidden = !about.block;
      place.textContent = about.block ? `About ${aboutWords}` : "";
    },
    commentClicked(event) {
      const button = near(event, "button");
      if (!button) return;
      const comment = near(event, "[data-comment]")?.dataset.comment;
      const thread = near(event, "[data-thread]")?.dataset.thread;
      const { mention, resolve } = button.dataset;
      if ("close" in button.dataset) this.closeComments();
      else if ("notAbout" in button.dataset) {
        about = {};
        this.showAbout();
      } else if (mention) this.mention(button);
      else if (resolve !== undefined) this.changeComment(thread, { resolved: Boolean(resolve) });
      else if ("editComment" in button.dataset) this.editComment(button.closest("[data-comment]"));
      else if ("deleteComment" in button.dataset)
        postAndOfferUndo(`${this.base}comments/${comment}/delete/`, () => this.showComments());
    },
    async commentSent(event) {
      event.preventDefault();
      const form = /** @type {HTMLFormElement} */ (event.target);
      const text = /** @type {HTMLTextAreaElement} */ (form.elements.namedItem("text")).value;
      const { say, edits } = form.dataset;
      if (edits) return this.changeComment(edits, { text });
      const view = { state: this.state, page: sent("start").page };
      try {
        await post(`${this.base}comments/say/`, say ? { text, thread: say } : { text, ...about, ...view });
        about = {};
        await this.showComments();
      } catch (error) {
        failed(error);
      }
    },
    async changeComment(comment, changes) {
      try {
        const { message } = await post(`${this.base}comments/${comment}/change/`, changes);
        toast(message);
        await this.showComments();
      } catch (error) {
        failed(error);
      }
    },
    editComment(comment) {
      const text = comment.querySelector(".comment-text");
      const form = made("form", { className: "comment-form" });
      form.dataset.edits = comment.dataset.comment;
      const box = made("textarea", { name: "text", className: "w-full", maxLength: 4000, required: true });
      box.setAttribute("aria-label", "The comment");
      box.dataset.mentions = "";
      box.value = text.textContent;
      const list = made("div", { className: "mention-list", hidden: true });
      form.append(box, list, made("button", { type: "submit", className: "btn btn-small", textContent: "Keep" }));
      text.replaceWith(form);
      box.focus();
    },
    commentKeys(event) {
      const list = event.target.parentElement?.querySelector(".mention-list:not([hidden])");
      if (list && event.target.matches("[data-mentions]") && this.mentionKeys(event, list)) return;
      if (event.key === "Escape") {
        event.stopPropagation();
        this.closeComments();
      } else if (event.key === "Enter" && (event.ctrlKey || event.metaKey)) {
        event.stopPropagation();
        event.target.closest("form")?.requestSubmit();
      }
    },
    // While people are offered: Enter or Tab take the first, an arrow goes on to the others, Escape puts them away.
    mentionKeys(event, list) {
      const [first] = all(list, "[data-mention]");
      if (event.key === "Escape") list.hidden = true;
      else if (event.key === "ArrowDown") first.focus();
      else if (["Enter", "Tab"].includes(event.key) && !event.shiftKey && !event.ctrlKey && !event.metaKey)
        this.mention(first);
      else return false;
      event.preventDefault();
      event.stopPropagation();
      return true;
    },

    // Mentions: people whose names begin with what is typed behind an @.
    mentioning(box) {
      if (!("mentions" in box.dataset)) return;
      const begun = mentionBegun(box.value, box.selectionStart);
      const people = /** @type {string[]} */ (sent("mentionable"));
      const found = begun ? people.filter((name) => name.toLowerCase().startsWith(begun.typed.toLowerCase())) : [];
      const list = box.parentElement.querySelector(".mention-list");
      list.hidden = !found.length;
      list.replaceChildren(
        ...found.slice(0, 8).map((name) => {
          const option = made("button", { type: "button", className: "option", textContent: name });
          option.dataset.mention = name;
          return option;
        }),
      );
    },
    mention(option) {
      const box = option.closest("form").querySelector("textarea");
      const begun = mentionBegun(box.value, box.selectionStart);
      if (!begun) return;
      box.setRangeText(`${option.dataset.mention} `, begun.from, box.selectionStart, "end");
      option.parentElement.hidden = true;
      box.focus();
    },
  };
}
