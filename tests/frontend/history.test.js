import assert from "node:assert/strict";
import { beforeEach, test } from "node:test";
import { History } from "../../frontend/lib/history.js";

const kept = new Map();
globalThis.sessionStorage = {
  getItem: (key) => kept.get(key) ?? null,
  setItem: (key, value) => kept.set(key, value),
};
beforeEach(() => kept.clear());

test("undo and redo go back and forth, and a new state forgets what was undone", () => {
  const history = new History("a", 1);
  assert.equal(history.push(2), true);
  assert.equal(history.push(3), true);
  assert.equal(history.undo(), 2);
  assert.equal(history.undo(), 1);
  assert.equal(history.undo(), null);
  assert.equal(history.redo(), 2);
  history.push(4);
  assert.equal(history.redo(), null);
  assert.deepEqual([history.past, history.now, history.future], [[1, 2], 4, []]);
});

test("the same state again is no change", () => {
  const history = new History("a", { x: [1] });
  assert.equal(history.push({ x: [1] }), false);
  assert.equal(history.past.length, 0);
});

test("a reload finds the history again, but not that of another state", () => {
  new History("a", 1).push(2);
  assert.deepEqual(new History("a", 2).past, [1]);
  assert.deepEqual(new History("a", 5).past, []);
  assert.deepEqual(new History("b", 2).past, []);
});

test("what was kept and cannot be read starts anew; a full store costs nothing else", () => {
  kept.set("veduta-history-a", "{");
  const history = new History("a", 1);
  sessionStorage.setItem = () => {
    throw new Error("full");
  };
  assert.equal(history.push(2), true);
  assert.equal(history.undo(), 1);
  sessionStorage.setItem = (key, value) => kept.set(key, value);
});

test("states are brought to what others did, and what a step to one leaves is told when it is taken", async () => {
  const history = new History("a", { x: 1 });
  history.push({ x: 2 });
  history.push({ x: 3 });
  history.undo();
  assert.deepEqual(history.left, []);
  const asked = [];
  const left = { words: "y is theirs", settings: ["y"] };
  await history.rebase(async (states, behind) => {
    asked.push(states, behind);
    return { states: states.map((state) => ({ ...state, y: 1 })), left: [null, left, null] };
  });
  assert.deepEqual(asked, [[{ x: 2 }, { x: 1 }, { x: 3 }], 1]);
  await history.rebase(async (states) => {
    assert.deepEqual(
      states,
      [2, 1, 3].map((x) => ({ x, y: 1 })),
    );
    return { states: states.map((state) => ({ ...state, y: 2 })), left: [null, null, null] };
  });
  assert.deepEqual(history.undo(), { x: 1, y: 2 });
  assert.deepEqual(history.left, [{ ...left, was: { x: 1 } }]);
  assert.deepEqual(history.redo(), { x: 2, y: 2 });
  assert.deepEqual(history.left, []);
  assert.deepEqual(new History("a", { x: 2, y: 2 }).past, [{ x: 1, y: 2 }], "told once");
});

test("two hundred steps back are kept", () => {
  const history = new History("a", 0);
  for (let i = 1; i <= 300; i += 1) history.push(i);
  assert.equal(history.past.length, 200);
  assert.equal(history.past[0], 100);
});
