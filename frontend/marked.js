// Marks that are chosen in the workbench, one after another, by a range, a box or a line: what is done with them writes
// the sentence.
import { markElements, pointAt } from "./lib/draw.js";
import { same, standFor, toggled } from "./selecting.js";

/** @returns {any} Methods of the workbench. */
export function marked() {
  let points = [];

  return {
    markedCount: 0,
    markedWords: "",

    // One by itself is marked, or no longer if it was the only one.
    marksChosen(chosen, { add, many }) {
      if (!chosen[0].length) return undefined;
      const isLike = points.length && points[0].length === chosen[0].length;
      if (add && isLike) return this.mark(toggled(points, chosen));
      return this.mark(!many && points.length === 1 && same(points, chosen) ? [] : chosen);
    },
    openRowsOf(event) {
      const point = pointAt(event);
      if (point?.length) this.behind([point]);
    },
    mark(chosen) {
      points = chosen;
      this.markedCount = points.length;
      this.markedWords = points.length === 1 ? "1 mark" : `${points.length} marks`;
      this.showMarked();
    },
    showMarked() {
      for (const [element, point] of markElements(this.$refs.picture)) {
        element.classList.toggle("marked", standFor(points, point));
      }
    },
    // Those marked, if one of them is pointed at; else that one alone.
    pointsFor(point) {
      return standFor(points, point) ? points : [point];
    },
    onlyMarked() {
      this.editMarked({ edit: "only_marks", exclude: false });
    },
    leaveMarkedOut() {
      this.editMarked({ edit: "only_marks", exclude: true });
    },
    editMarked(edit) {
      return this.editMarks(points, edit);
    },
    async editMarks(chosen, edit) {
      if (await this.answer({ ...edit, points: chosen })) this.mark([]);
    },
    togetherMarked(event) {
      this.editMarked({ edit: "group_marks", name: event.target.elements.namedItem("name").value });
      event.target.reset();
    },
    behindMarked() {
      this.behind(points);
    },
    unmark() {
      this.mark([]);
    },
  };
}
