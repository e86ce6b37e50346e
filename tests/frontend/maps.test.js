import assert from "node:assert/strict";
import { test } from "node:test";
import { held, madeZoomable, zoomed } from "../../frontend/lib/maps.js";

const size = { width: 400, height: 300 };
const whole = { zoom: 1, x: 0, y: 0 };

test("what is under the pointer stays there while a map is zoomed", () => {
  const at = { x: 100, y: 200 };
  const place = zoomed(whole, 4, at, size);
  const under = (p) => ({ x: (at.x - p.x) / p.zoom, y: (at.y - p.y) / p.zoom });
  assert.deepEqual(under(place), under(whole));
  assert.deepEqual(under(zoomed(place, 2, at, size)), under(whole));
});

test("a map is never smaller than its drawing and always covers it", () => {
  assert.deepEqual(zoomed({ zoom: 2, x: -50, y: -20 }, 0.1, { x: 9, y: 9 }, size), whole);
  assert.deepEqual(held({ zoom: 2, x: 70, y: -900 }, size), { zoom: 2, x: 0, y: -300 });
});

test("only a drawing with one map can be zoomed", () => {
  const compiled = { projections: [{ name: "projection", fit: {}, size: {} }] };
  assert.equal(madeZoomable(compiled), true);
  assert.equal(compiled.projections[0].size, undefined);
  assert.equal(madeZoomable({}), false);
  assert.equal(madeZoomable({ projections: [{ fit: {} }, { fit: {} }] }), false);
});
