import assert from "node:assert/strict";
import { test } from "node:test";
import { arranged } from "../../frontend/lib/panels.js";

const room = {
  count: 12,
  columns: 0,
  grid: false,
  across: 16,
  down: 28,
  beside: 0,
  least_width: 150,
  least_height: 96,
};
const spec = { concat: Array.from({ length: 12 }, (_, i) => ({ title: `Panel ${i}` })) };
const value = (layout, name) => layout.spec.params.find((each) => each.name === name).value;

test("all panels that fit are shown, in places that leave few empty", () => {
  const layout = arranged(spec, room, 900, 500, 0);
  assert.deepEqual([layout.spec.concat.length, layout.later, layout.columns * layout.rows], [12, null, 12]);
  const [wide, high] = [value(layout, "panel_width"), value(layout, "panel_height")];
  assert.ok(wide >= 150 && high >= 96);
  assert.ok(layout.columns * wide + (layout.columns - 1) * 16 <= 900);
  assert.ok(layout.rows * high + (layout.rows - 1) * 28 <= 500);
  assert.ok(layout.spec.concat.every((panel) => panel.width === wide && panel.height === high));
});

test("the others stand on further pages, each once", () => {
  const seen = [];
  let before = null;
  for (let first = 0; first !== null;) {
    const layout = arranged(spec, room, 390, 400, first);
    assert.equal(layout.earlier, before);
    assert.deepEqual(
      layout.spec.concat.map((_, place) => value(layout, `place_${first + place}`)),
      layout.spec.concat.map((_, place) => place),
    );
    seen.push(...layout.spec.concat.map((panel) => panel.title));
    before = first;
    first = layout.later;
  }
  assert.ok(seen.length > 2);
  assert.deepEqual(
    seen,
    spec.concat.map((panel) => panel.title),
  );
});

test("a page begins where one does, whatever the size was before", () => {
  const layout = arranged(spec, room, 390, 400, 7);
  assert.equal(layout.first % (layout.columns * layout.rows), 0);
  assert.ok(layout.first <= 7 && 7 < layout.first + layout.spec.concat.length);
});

test("rows and columns stay as the server says", () => {
  assert.equal(arranged(spec, { ...room, columns: 1 }, 900, 2000, 0).columns, 1);
  assert.equal(arranged(spec, { ...room, columns: 4 }, 900, 500, 0).columns, 4);
  const single = arranged(spec, { ...room, columns: 12 }, 900, 500, 0);
  assert.deepEqual([single.rows, single.later !== null], [1, true]);
});

test("a grid that does not fit is turned over by rows and columns, each panel once", () => {
  const grid = { ...room, columns: 4, grid: true };
  const seen = [];
  for (let first = 0; first !== null;) {
    const layout = arranged(spec, grid, 390, 400, first);
    const numbers = layout.spec.concat.map((panel) => Number(panel.title.slice(6)));
    assert.equal(layout.spec.concat.length, layout.columns * layout.rows);
    const rows = new Set(numbers.map((number) => Math.floor(number / 4)));
    assert.deepEqual([rows.size, new Set(numbers.map((number) => number % 4)).size], [layout.rows, layout.columns]);
    seen.push(...numbers);
    first = layout.later;
  }
  assert.deepEqual(
    [...seen].sort((a, b) => a - b),
    [...Array(12).keys()],
  );
  assert.equal(arranged(spec, grid, 390, 400, 0).said, "Columns 1 to 2 of 4, rows 1 to 2 of 3");
  assert.equal(arranged(spec, grid, 900, 600, 0).later, null);
});

test("what is too small for a panel still has one", () => {
  const layout = arranged(spec, room, 60, 40, 3);
  assert.deepEqual([layout.spec.concat.length, layout.first], [1, 3]);
});
