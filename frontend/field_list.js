// Fields of the list go to the chart by a double click, Enter, dragging or their menu: part of the workbench.
import { all, near } from "./lib/dom.js";
import { filterOptions } from "./lib/popover.js";

/** @returns {any} Methods of the workbench. */
export function fieldList() {
  return {
    fieldChosen(event) {
      const row = near(event, "[data-field-id]");
      if (row) this.answer({ edit: "add_field", field: row.dataset.fieldId });
    },
    // Enter in the search box takes the first field it shows, and leaves the box for another one.
    firstFieldChosen(event) {
      const [row] = all(this.$refs.fields, "[data-field-id]").filter((each) => each.offsetParent);
      if (!row) return;
      this.answer({ edit: "add_field", field: row.dataset.fieldId });
      event.target.value = "";
      filterOptions(event.target);
    },
    // Where a field can go, for whoever does not drag it.
    atField(event) {
      const field = near(event, "[data-field-id]")?.dataset.fieldId;
      if (!field) return null;
      const to = (clause) => () => this.answer({ edit: "add_field", field, to: clause });
      return [
        { label: "Show it", run: to("show") },
        { label: "Group by it", run: to("by") },
        { label: "Split by it", run: to("split") },
        { label: "Panels by it", run: to("panels") },
        {
          label: "Only some of it …",
          run: () => this.openPopover({ clause: "only", index: this.definition.only.length, field }),
        },
      ];
    },
    fieldDragged(event) {
      const row = near(event, "[data-field-id]");
      if (row) event.dataTransfer.setData("text/veduta-field", row.dataset.fieldId);
    },
    draggedOver(event) {
      if (!event.dataTransfer.types.includes("text/veduta-field")) return;
      event.preventDefault();
      this.$refs.frame.classList.add("drop-here");
    },
    draggedOverSentence(event) {
      this.draggedOverWord(event);
      if (!event.dataTransfer.types.includes("text/veduta-field")) return;
      event.preventDefault();
      this.draggedAway();
      (near(event, "[data-clause]") ?? this.$refs.sentence).classList.add("drop-here");
    },
    draggedAway() {
      for (const place of this.$root.querySelectorAll(".drop-here")) place.classList.remove("drop-here");
    },
    fieldDropped(event, to = "") {
      this.draggedAway();
      const field = event.dataTransfer.getData("text/veduta-field");
      if (field) this.answer({ edit: "add_field", field, to });
    },
    // A field dropped on a clause goes there; on "only" it asks which values.
    droppedOnSentence(event) {
      if (this.droppedOnWord(event)) return;
      const clause = near(event, "[data-clause]")?.dataset.clause;
      const field = event.dataTransfer.getData("text/veduta-field");
      if (clause === "only" && field) {
        this.draggedAway();
        this.openPopover({ clause, index: this.definition.only.length, field });
      } else this.fieldDropped(event, ["show", "by", "split"].includes(clause) ? clause : "");
    },
  };
}
