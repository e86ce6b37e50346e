import assert from "node:assert/strict";
import test from "node:test";

import { EditQueue } from "../../frontend/lib/edit_queue.js";

/** Sends what waits until nothing does, to a server that refuses all that contain some edit. */
function sent(edits, cannot) {
  const queue = new EditQueue();
  edits.forEach((edit) => queue.push(edit));
  const made = [];
  const requests = [];
  while (queue.length) {
    const next = queue.next();
    requests.push(next.length);
    if (next.some((edit) => cannot.includes(edit))) queue.refused(next.length);
    else {
      made.push(...next);
      queue.made(next.length);
    }
  }
  return { made, requests, isOneByOne: queue.isOneByOne };
}

test("what waits is sent together", () => {
  assert.deepEqual(sent([1, 2, 3], []), { made: [1, 2, 3], requests: [3], isOneByOne: false });
});

test("one that cannot be made stops no other", () => {
  assert.deepEqual(sent([1, 2, 3], [2]), { made: [1, 3], requests: [3, 1, 1, 1], isOneByOne: false });
  assert.deepEqual(sent([1], [1]), { made: [], requests: [1], isOneByOne: false });
});

test("the last one can be taken back before it is made", () => {
  const queue = new EditQueue();
  queue.push(1);
  queue.push(2);
  queue.dropLast();
  assert.deepEqual(queue.next(), [1]);
  queue.clear();
  assert.equal(queue.length, 0);
});
