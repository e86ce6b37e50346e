import assert from "node:assert/strict";
import { test } from "node:test";
import { mentionBegun } from "../../frontend/talking.js";

test("a mention begins behind an @ that begins a word", () => {
  assert.deepEqual(mentionBegun("Hello @Run", 10), { typed: "Run", from: 7 });
  assert.deepEqual(mentionBegun("@", 1), { typed: "", from: 1 });
  assert.equal(mentionBegun("runa@tern", 9), null);
  assert.equal(mentionBegun("no mention", 5), null);
});

test("names of two words are typed on", () => {
  assert.deepEqual(mentionBegun("see @Runa Fen", 13), { typed: "Runa Fen", from: 5 });
  assert.equal(mentionBegun("see @Runa Fennick and", 21), null);
});
