import assert from "node:assert/strict";
import { test } from "node:test";
import { arranged } from "../../frontend/lib/panels.js";

const room = { count: 12, columns: 0, across: 16, down: 28, beside: 0, least_width: 150, least_height: 96 };
const spec = { concat: Array.from({ length: 12 }, (_, i) => ({ title: `Panel ${i}` })) };
const value = (layout, name) => layout.spec.params.find((each) => each.name === name).value;

test("all panels that fit are shown, in places that leave few empty", () => {
  const layout = arranged(spec, room, 900, 500, 0);
  assert.deepEqual([layout.shown, layout.pages, layout.columns * layout.rows], [12, false, 12]);
  const [wide, high] = [value(layout, "panel_width"), value(layout, "panel_height")];
  assert.ok(wide >= 150 && high >= 96);
  assert.ok(layout.columns * wide + (layout.columns - 1) * 16 <= 900);
  assert.ok(layout.rows * high + (layout.rows - 1) * 28 <= 500);
  assert.ok(layout.spec.concat.every((panel) => panel.width === wide && panel.height === high));
});

test("the others stand on further pages, each once", () => {
  const seen = [];
  for (let first = 0; first < 12;) {
    const layout = arranged(spec, room, 390, 400, first);
    assert.equal(layout.pages, true);
    assert.equal(value(layout, "first"), first);
    seen.push(...layout.spec.concat.map((panel) => panel.title));
    first += layout.shown;
  }
  assert.deepEqual(
    seen,
    spec.concat.map((panel) => panel.title),
  );
});

test("a page begins where one does, whatever the size was before", () => {
  const layout = arranged(spec, room, 390, 400, 7);
  assert.equal(layout.first % (layout.columns * layout.rows), 0);
  assert.ok(layout.first <= 7 && 7 < layout.first + layout.shown);
});

test("rows and columns stay as the server says", () => {
  assert.equal(arranged(spec, { ...room, columns: 1 }, 900, 2000, 0).columns, 1);
  assert.equal(arranged(spec, { ...room, columns: 4 }, 900, 500, 0).columns, 4);
  const single = arranged(spec, { ...room, columns: 12 }, 900, 500, 0);
  assert.deepEqual([single.rows, single.pages], [1, true]);
});

test("what is too small for a panel still has one", () => {
  const layout = arranged(spec, room, 60, 40, 3);
  assert.deepEqual([layout.shown, layout.first], [1, 3]);
});
