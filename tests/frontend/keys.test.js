import assert from "node:assert/strict";
import test from "node:test";

/** What a page would have: a field that says what happens to it, and listeners of the document. */
class Field {
  constructor(isText = true) {
    this.isText = isText;
    this.done = [];
  }
  matches() {
    return this.isText;
  }
  blur() {
    this.done.push("left");
    heard.change({ target: this });
  }
  focus() {
    this.done.push("entered");
  }
}
const heard = {};
Object.assign(globalThis, {
  Element: Field,
  HTMLElement: Field,
  document: {
    addEventListener: (name, listen) => {
      heard[name] = listen;
    },
    activeElement: null,
  },
});
const { shortcuts } = await import("../../frontend/lib/keys.js");

function pressed(key, { shift = false, ctrl = true, target = new Field(false), save = true } = {}) {
  const done = [];
  const does = (what) => () => done.push(what);
  const event = { key, ctrlKey: ctrl, shiftKey: shift, target, preventDefault: does("taken") };
  shortcuts(event, { undo: does("undo"), redo: does("redo"), ...(save ? { save: does("save") } : {}) });
  return done;
}

test("undo and redo", () => {
  assert.deepEqual(pressed("z"), ["undo", "taken"]);
  assert.deepEqual(pressed("Z", { shift: true }), ["redo", "taken"]);
  assert.deepEqual(pressed("y"), ["redo", "taken"]);
  assert.deepEqual(pressed("z", { ctrl: false }), []);
  assert.deepEqual(pressed("x"), []);
});

test("undo is the field's own only while something is typed there", () => {
  const target = new Field();
  assert.deepEqual(pressed("z", { target }), ["undo", "taken"]);
  heard.input({ target });
  assert.deepEqual(pressed("z", { target }), []);
  heard.change({ target });
  assert.deepEqual(pressed("z", { target }), ["undo", "taken"]);
});

test("saving takes what is being typed first, and the focus stays", () => {
  const target = new Field();
  globalThis.document.activeElement = target;
  assert.deepEqual(pressed("s", { target }), ["save", "taken"]);
  assert.deepEqual(target.done, ["left", "entered"]);
  assert.deepEqual(pressed("s", { target, save: false }), []);
});
