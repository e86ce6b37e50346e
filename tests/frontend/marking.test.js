import assert from "node:assert/strict";
import { test } from "node:test";
import { isWithin, pointsIn } from "../../frontend/lib/marking.js";

const square = [
  { x: 0, y: 0 },
  { x: 10, y: 0 },
  { x: 10, y: 10 },
  { x: 0, y: 10 },
];
const marks = [
  { x: 1, y: 1, point: ["Jan", "North"] },
  { x: 1, y: 9, point: ["Jan", "South"] },
  { x: 5, y: 5, point: ["Feb", "North"] },
  { x: 20, y: 5, point: ["Mar", "North"] },
];

test("a place is within a closed line or outside it", () => {
  assert.ok(isWithin({ x: 5, y: 5 }, square));
  assert.ok(!isWithin({ x: 15, y: 5 }, square));
  assert.ok(!isWithin({ x: 5, y: -1 }, square));
});

test("what lies in a bay of the line is outside", () => {
  const bay = [...square.slice(0, 2), { x: 5, y: 8 }, ...square.slice(2)];
  assert.ok(!isWithin({ x: 8, y: 5 }, bay));
  assert.ok(isWithin({ x: 2, y: 5 }, bay));
});

test("a range along the axis takes in every series", () => {
  const line = [
    { x: 0, y: 4 },
    { x: 6, y: 6 },
  ];
  assert.deepEqual(pointsIn(marks, line, "range", "x"), [["Jan"], ["Feb"]]);
  assert.deepEqual(pointsIn(marks, line, "range", "y"), [["Feb"], ["Mar"]]);
});

test("a box and a line drawn round marks take in the marks themselves", () => {
  const box = [
    { x: 6, y: 6 },
    { x: 0, y: 0 },
  ];
  assert.deepEqual(pointsIn(marks, box, "box", ""), [
    ["Jan", "North"],
    ["Feb", "North"],
  ]);
  assert.deepEqual(pointsIn(marks, square, "lasso", "x").length, 3);
  assert.deepEqual(pointsIn([{ x: 1, y: 1, point: /** @type {any} */ (undefined) }], box, "box", ""), []);
});
