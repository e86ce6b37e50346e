import assert from "node:assert/strict";
import { mock, test } from "node:test";
import { chosen, formData } from "../../frontend/lib/forms.js";
import { debounce } from "../../frontend/lib/page.js";

const field = (name, value, { as, list = false, type = "text", checked = false, disabled = false } = {}) => ({
  name,
  value,
  type,
  checked,
  disabled,
  dataset: { ...(as ? { as } : {}), ...(list ? { list: "" } : {}) },
});
const form = (...elements) => ({ elements, dataset: {}, reportValidity: () => true });

test("names with dots become objects", () => {
  const data = formData(form(field("keep.of", "by"), field("keep.count", "3", { as: "int" }), field("name", "A")));
  assert.deepEqual(data, { keep: { of: "by", count: 3 }, name: "A" });
});

test("values are read as their box says", () => {
  const data = formData(
    form(
      field("int", "12px", { as: "int" }),
      field("none", "", { as: "int" }),
      field("number", "1.5e3", { as: "number" }),
      field("empty", "", { as: "number" }),
      field("date", "", { as: "date" }),
      { ...field("day", "15 Mar 2026", { as: "day" }), dataset: { as: "day", day: "2026-03-15" } },
      field("bool", "true", { as: "bool" }),
      field("json", '["a",null]', { as: "json" }),
    ),
  );
  const expected = {
    int: 12,
    none: null,
    number: 1500,
    empty: null,
    date: null,
    day: "2026-03-15",
    bool: true,
    json: ["a", null],
  };
  assert.deepEqual(data, expected);
});

test("ticked boxes are a list, a lone one is yes or no, of several choices one", () => {
  const data = formData(
    form(
      field("values", '"a"', { as: "json", list: true, type: "checkbox", checked: true }),
      field("values", "null", { as: "json", list: true, type: "checkbox", checked: true }),
      field("values", '"b"', { as: "json", list: true, type: "checkbox" }),
      field("exclude", "on", { type: "checkbox" }),
      field("way", "first", { type: "radio" }),
      field("way", "last", { type: "radio", checked: true }),
      field("", "no name"),
      field("off", "disabled", { disabled: true }),
    ),
  );
  assert.deepEqual(data, { values: ["a", null], exclude: false, way: "last" });
});

test("nothing ticked is an empty list, which is no narrowing", () => {
  const boxes = form(field("choice.values", '"a"', { as: "json", list: true, type: "checkbox" }));
  assert.deepEqual(formData(boxes), { choice: { values: [] } });
  assert.equal(chosen(boxes), null);
});

test("what a control is set to", () => {
  assert.deepEqual(chosen(form(field("choice.set", "2", { as: "number", list: true }))), { set: [2] });
  assert.equal(chosen(form(field("choice.set", "", { as: "number", list: true }))), null);
  const dates = form(field("choice.kind", "dates"), field("choice.start", "2026-01-01", { as: "date" }));
  assert.deepEqual(chosen(dates), { kind: "dates", start: "2026-01-01" });
  assert.equal(chosen({ ...dates, reportValidity: () => false }), undefined);
  const day = { kind: "dates", start: "2026-01-01", end: "2026-01-01" };
  assert.deepEqual(chosen({ ...dates, dataset: { oneDay: "" } }), day);
});

test("only what was asked last is done, once it is quiet", () => {
  mock.timers.enable({ apis: ["setTimeout"] });
  const done = [];
  const later = debounce((value) => done.push(value), 100);
  later(1);
  mock.timers.tick(99);
  later(2);
  mock.timers.tick(99);
  assert.deepEqual(done, []);
  mock.timers.tick(1);
  assert.deepEqual(done, [2]);
  mock.timers.reset();
});
