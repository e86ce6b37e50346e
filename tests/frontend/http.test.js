import assert from "node:assert/strict";
import { beforeEach, test } from "node:test";
import { cookie, getJson, getLines, jsonLines, numberQuestions, post } from "../../frontend/lib/http.js";

let events;
let asked;
globalThis.CustomEvent ??= class extends Event {};
const page = new EventTarget();
/** @type {string} What somebody does when they are told that they are signed out. */
let then = "veduta:stays-out";
globalThis.document = {
  cookie: "theme=dark; csrftoken=abc",
  addEventListener: page.addEventListener.bind(page),
  dispatchEvent(event) {
    events.push(event.type);
    queueMicrotask(() => page.dispatchEvent(new Event(then)));
  },
};
beforeEach(() => {
  events = [];
  asked = null;
});

function answers(body, { status = 200, type = "application/json" } = {}) {
  globalThis.fetch = async (address, options) => {
    asked = { address, ...options };
    return new Response(body, { status, headers: { "Content-Type": type } });
  };
}

test("a cookie by its name", () => {
  assert.equal(cookie("csrftoken"), "abc");
  assert.equal(cookie("csrf"), "");
});

test("data is sent as JSON with the token", async () => {
  answers('{"done": true}');
  assert.deepEqual(await post("/save/", { a: [1] }), { done: true });
  assert.equal(asked.method, "POST");
  assert.equal(asked.body, '{"a":[1]}');
  assert.equal(asked.headers["X-CSRFToken"], "abc");
});

test("a refusal says what is wrong and what to do", async () => {
  answers('{"message": "Too many rows.", "hint": "Filter them.", "where": "c1"}', { status: 400 });
  await assert.rejects(getJson("/x/"), { message: "Too many rows. Filter them.", status: 400 });
});

test("a page of an error that is no JSON is said in plain words", async () => {
  answers("<h1>Bad gateway</h1>", { status: 502, type: "text/html" });
  await assert.rejects(getJson("/x/"), { message: "That did not work. Try again.", status: 502 });
});

test("an ended session asks to sign in again", async () => {
  for (const status of [401, 403]) {
    answers("{}", { status });
    await assert.rejects(getJson("/x/"), { status: 401 });
  }
  assert.deepEqual(events, ["veduta:signed-out", "veduta:signed-out"]);
});

test("once somebody has signed in again it is sent again, with the new token", async () => {
  then = "veduta:try-again";
  let times = 0;
  globalThis.fetch = async (address, options) => {
    times += 1;
    asked = options;
    if (times === 1) globalThis.document.cookie = "csrftoken=new";
    const status = times === 1 ? 401 : 200;
    return new Response('{"done": true}', { status, headers: { "Content-Type": "application/json" } });
  };
  assert.deepEqual(await post("/save/", { a: 1 }), { done: true });
  assert.equal(times, 2);
  assert.equal(asked.body, '{"a":1}');
  assert.equal(asked.headers["X-CSRFToken"], "new");
  globalThis.document.cookie = "theme=dark; csrftoken=abc";
  then = "veduta:stays-out";
});

test("what is not allowed does not ask to sign in", async () => {
  answers('{"message": "Only stewards change this."}', { status: 403 });
  await assert.rejects(getJson("/x/"), { message: "Only stewards change this.", status: 403 });
  assert.deepEqual(events, []);
});

test("no connection, and a request that was called off", async () => {
  globalThis.fetch = async () => {
    throw new TypeError("failed to fetch");
  };
  await assert.rejects(getJson("/x/"), { status: 0 });
  globalThis.fetch = async () => {
    throw Object.assign(new Error("off"), { name: "AbortError" });
  };
  await assert.rejects(getJson("/x/"), { name: "AbortError" });
});

test("lines come as soon as they are whole, wherever the pieces are cut", async () => {
  const text = '{"a":1}\n{"b":"ü\\n"}\n';
  for (let size = 1; size <= text.length; size += 1) {
    const pieces = text.match(new RegExp(`[^]{1,${size}}`, "gu"));
    const found = [];
    for await (const line of jsonLines(ReadableStream.from(pieces))) found.push(line);
    assert.deepEqual(found, [{ a: 1 }, { b: "ü\n" }]);
  }
});

test("an answer of lines", async () => {
  answers('{"trail":""}\n{"id":"b1"}\n');
  const found = [];
  for await (const line of getLines("/blocks/")) found.push(line);
  assert.deepEqual(found, [{ trail: "" }, { id: "b1" }]);
});

test("of several questions only the last one's answer counts", () => {
  const begin = numberQuestions();
  const first = begin();
  assert.equal(first(), true);
  const second = begin();
  assert.deepEqual([first(), second()], [false, true]);
  assert.equal(numberQuestions()()(), true); // another place counts its own
  assert.equal(second(), true);
});
