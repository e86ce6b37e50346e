import assert from "node:assert/strict";
import { beforeEach, test } from "node:test";
import { holdRequests, openPage, settle } from "./dom.js";

const DRILLS = { bars: [{ to: { field: "route" }, into: ["North Reach"] }] };
const LONG = { controls: { region: { values: Array.from({ length: 200 }, (_, i) => `Port ${i}`) } } };
const LONGER = { controls: { region: { values: Array.from({ length: 201 }, (_, i) => `Port ${i}`) } } };
let page, requests;

/** The reader's page with a state, as Alpine would begin it; what is drawn is left out. */
async function openDashboard(state = {}, more = {}) {
  const start = JSON.stringify({ state, key: "", page: "", ...more });
  openPage(`<script type="application/json" id="start">${start}</script><div id="board"></div>`);
  requests = holdRequests();
  const { dashboard } = await import("../../frontend/dashboard.js");
  const root = document.createElement("div");
  root.dataset.base = "/dashboards/1/";
  page = Object.assign(dashboard(), { $root: root, $refs: { board: document.getElementById("board") } });
  for (const part of ["nameTables", "beginPresenting", "beginTalking", "load"]) page[part] = () => undefined;
  page.init();
}

const stateInAddress = () => JSON.parse(new URLSearchParams(location.search).get("v") ?? "{}");

beforeEach(() => openDashboard());

test("every part of a state stands in the address", async () => {
  const selections = [{ block: "bars", points: [["North Reach"]] }];
  const state = {
    controls: { region: { values: ["North Reach"] } },
    drills: DRILLS,
    sorts: { bars: ["-fare"] },
    selections,
  };
  for (const [name, value] of Object.entries(state)) await page.go({ [name]: value });
  assert.deepEqual(stateInAddress(), state);
});

test("a state without anything leaves the address bare", async () => {
  await page.go({ drills: DRILLS });
  await page.go({ drills: {} });
  assert.equal(location.search, "");
});

test("a state that a page was opened with is kept when something is added", async () => {
  await openDashboard({ drills: DRILLS });
  await page.go({ controls: { region: { values: ["North Reach"] } } });
  assert.deepEqual(stateInAddress().drills, DRILLS);
});

test("a long state has a key, of which the address consists", async () => {
  const going = page.go(LONG);
  await settle();
  assert.deepEqual(requests[0].body, { state: LONG });
  requests[0].answer({ key: "k1" });
  await going;
  assert.equal(location.search, "?k=k1");
  await page.go({ controls: {} });
  assert.equal(location.search, "", "the key is of the long state only");
});

test("the key of a state that is not the latest any more is not used", async () => {
  const first = page.go(LONG);
  await settle();
  const second = page.go(LONGER);
  await settle();
  requests[1].answer({ key: "k2" });
  await second;
  requests[0].answer({ key: "k1" });
  await first;
  assert.equal(location.search, "?k=k2");
});

test("going back brings the state that was there, and its key", async () => {
  const going = page.go(LONG);
  await settle();
  requests[0].answer({ key: "k1" });
  await going;
  const { state: entry } = history;
  await page.go({ controls: {} });
  dispatchEvent(Object.assign(new Event("popstate"), { state: entry }));
  assert.deepEqual(page.state.controls, LONG.controls);
  assert.equal(page.query(), "?k=k1");
});
