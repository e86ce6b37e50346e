// Undo and redo over a session, kept in the browser tab so that a reload does not lose them.

/** So many states before and after the one now are brought to what others did. */
const STATES = 25;

/** @template T */
export class History {
  /**
   * @param {string} key under which the tab keeps it
   * @param {T} start
   */
  constructor(key, start) {
    this.key = `veduta-history-${key}`;
    /** @type {T[]} */
    this.past = [];
    /** @type {T[]} */
    this.future = [];
    this.now = start;
    try {
      const kept = JSON.parse(sessionStorage.getItem(this.key) ?? "null");
      if (kept && JSON.stringify(kept.now) === JSON.stringify(start)) Object.assign(this, kept);
    } catch {
      /* an unreadable history starts anew */
    }
  }

  /**
   * Takes a new state; false if it is the one that is there.
   * @param {T} state
   */
  push(state) {
    if (JSON.stringify(state) === JSON.stringify(this.now)) return false;
    this.past = [...this.past.slice(-199), this.now];
    this.future = [];
    this.now = state;
    this.keep();
    return true;
  }

  /**
   * Brings the state now, and some before and after it, to what others did: each is another one then, and no step is
   * added. It is asked again if a step is made meanwhile.
   * @template {{ states: T[] }} A
   * @param {(states: T[]) => Promise<A>} ask
   */
  async rebase(ask) {
    for (;;) {
      const { now } = this;
      const answer = await ask([now, ...this.past.slice(-STATES), ...this.future.slice(-STATES)]);
      if (this.now !== now) continue;
      const behind = Math.min(this.past.length, STATES) + 1;
      this.now = answer.states[0];
      this.past = answer.states.slice(1, behind);
      this.future = answer.states.slice(behind);
      this.keep();
      return answer;
    }
  }

  undo() {
    return this.go(this.past, this.future);
  }

  redo() {
    return this.go(this.future, this.past);
  }

  /**
   * @param {T[]} from
   * @param {T[]} to
   */
  go(from, to) {
    const state = from.pop();
    if (state === undefined) return null;
    to.push(this.now);
    this.now = state;
    this.keep();
    return this.now;
  }

  keep() {
    try {
      const { past, future, now } = this;
      sessionStorage.setItem(this.key, JSON.stringify({ past, future, now }));
    } catch {
      /* a full store only costs the history after a reload */
    }
  }
}
