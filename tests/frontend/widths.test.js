import assert from "node:assert/strict";
import { test } from "node:test";
import { openPage } from "./dom.js";

const TABLE = `<div id="rows"><table data-widths><thead><tr><th>Route</th><th>Fare ↑</th></tr></thead></table></div>`;

/** A table whose headings are 120 and 60 pixels wide. */
async function openTable() {
  const window = openPage(TABLE);
  const { setWidth } = await import("../../frontend/lib/widths.js");
  const table = window.document.querySelector("table");
  const headings = [...table.querySelectorAll("th")];
  headings.forEach((heading, i) => Object.defineProperty(heading, "offsetWidth", { value: [120, 60][i] }));
  const widths = () => [...table.querySelectorAll("col")].map((column) => column.style.width);
  const set = (index, width) => setWidth({ table, heading: headings[index], index }, width);
  return { table, set, widths, kept: () => JSON.parse(window.localStorage.getItem(window.localStorage.key(0))) };
}

test("a column is as wide as it is set, and the others stay as they are", async () => {
  const { table, set, widths, kept } = await openTable();
  set(1, 150.4);
  assert.deepEqual(widths(), ["120px", "150px"]);
  assert.equal(table.style.width, "270px");
  assert.deepEqual(kept(), { Fare: 150 });
});

test("no column becomes too narrow to be dragged again", async () => {
  const { set, widths, kept } = await openTable();
  for (const width of [40, 39, 3, 0, -70]) {
    set(0, width);
    assert.deepEqual(widths(), ["40px", "60px"], `${width}`);
    assert.deepEqual(kept(), { Route: 40 });
  }
});
