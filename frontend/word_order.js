// The words of a clause are put into another order by dragging them, or with Alt and an arrow key: part of the workbench.
import { near } from "./lib/dom.js";

/** @param {HTMLElement} word */
export const placeOf = (word) => ({ clause: word.dataset.clause ?? "", index: Number(word.dataset.index) });

/** @returns {any} Methods of the workbench. */
export function wordOrder() {
  /** @type {{ clause: string, index: number } | null} */
  let dragged = null; // the word that is being dragged, by its place

  return {
    wordDragged(event) {
      const word = near(event, "[data-clause][draggable]");
      if (!word) return;
      dragged = placeOf(word);
      event.dataTransfer.setData("text/veduta-word", word.textContent.trim());
      event.dataTransfer.effectAllowed = "move";
    },
    wordLetGo() {
      dragged = null;
      this.draggedAway();
    },
    wordKeys(event) {
      const word = near(event, "[data-clause][draggable]");
      const step = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
      if (!word || !step || !event.altKey) return;
      event.preventDefault();
      this.moveWord(placeOf(word), placeOf(word).index + step);
    },
    async moveWord({ clause, index }, to) {
      if (!this.wordAt({ clause, index: to }) || to === index) return;
      this.shut();
      if (await this.answer({ edit: "move", clause, index, to })) this.wordAt({ clause, index: to })?.focus();
    },
    wordAt({ clause, index }) {
      return this.$refs.sentence.querySelector(`[data-clause="${clause}"][data-index="${index}"]`);
    },
    draggedOverWord(event) {
      const over = near(event, "[data-clause]");
      if (!dragged || over?.dataset.clause !== dragged.clause) return;
      event.preventDefault();
      this.draggedAway();
      over.classList.add("drop-here");
    },
    /** Whether what was dropped is a word. */
    droppedOnWord(event) {
      if (!dragged) return false;
      const over = near(event, "[data-clause]");
      this.draggedAway();
      if (over?.dataset.clause === dragged.clause) this.moveWord(dragged, placeOf(over).index);
      dragged = null;
      return true;
    },
  };
}
