import assert from "node:assert/strict";
import { beforeEach, test } from "node:test";
import { holdRequests, openPage } from "./dom.js";

const STEPS = [
  { id: "s1", do: "trim", fields: ["c1"] },
  { id: "s2", do: "first", count: 5 },
];
const FORM = `<form><input type="hidden" name="id" value="s2"><input type="hidden" name="do" value="first">
  <input name="count" value="7" data-as="int"></form>`;
let page, sent;

beforeEach(async () => {
  openPage(`<script type="application/json" id="start">{"steps": [], "base": 0}</script><div id="form">${FORM}</div>`);
  holdRequests();
  const { shaping } = await import("../../frontend/shaping_screen.js");
  sent = [];
  page = Object.assign(shaping(), { $refs: { form: document.getElementById("form") } });
  page.history = { now: STEPS };
  page.change = (steps) => sent.push(steps);
});

test("a step is put off and on again, and the others stay", () => {
  page.act("off", "s2");
  assert.deepEqual(sent[0], [STEPS[0], { ...STEPS[1], off: true }]);
  page.history.now = sent[0];
  page.act("off", "s2");
  assert.equal(sent[1][1].off, false);
});

test("a step that is off stays so when it is edited", () => {
  page.history.now = [STEPS[0], { ...STEPS[1], off: true }];
  assert.deepEqual(page.formStep(), { id: "s2", do: "first", count: 7, off: true });
});

test("a step that is on stays so", () => {
  assert.deepEqual(page.formStep(), { id: "s2", do: "first", count: 7 });
});

test("steps are moved, but not beyond the ends", () => {
  page.act("up", "s2");
  assert.deepEqual(
    sent[0].map(({ id }) => id),
    ["s2", "s1"],
  );
  page.act("up", "s1");
  page.act("down", "s2");
  assert.equal(sent.length, 1);
});
