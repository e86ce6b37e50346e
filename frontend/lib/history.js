// Undo and redo over a session, kept in the browser tab so that a reload does not lose them.

/** So many states before and after the one now are brought to what others did. */
const STATES = 25;

/**
 * @template T
 * @typedef {{ words: string, settings: any[], was: T }} Left
 */

/**
 * A state without what the step to it leaves.
 * @template T
 * @param {T} state
 * @returns {T}
 */
function plain(state) {
  if (!(/** @type {any} */ (state)?.left)) return state;
  const rest = /** @type {any} */ ({ ...state });
  delete rest.left;
  return rest;
}

/**
 * A state that others have changed, with what the step to it leaves now as well.
 * @template T
 * @param {T} before
 * @param {{ words: string, settings: any[] } | null} left
 * @param {T} state
 * @returns {T}
 */
function leaving(before, left, state) {
  const earlier = /** @type {any} */ (before).left ?? [];
  if (!left && !earlier.length) return state;
  return /** @type {any} */ ({ ...state, left: [...earlier, ...(left ? [{ ...left, was: plain(before) }] : [])] });
}

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
    /**
     * What the last step left, as others had changed it since: in words, and the state as it was before.
     * @type {Left<T>[]}
     */
    this.left = [];
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
   * added. Those keep what the steps to them leave. It is asked again if a step is made meanwhile.
   * @template {{ states: T[], left: ({ words: string, settings: any[] } | null)[] }} A
   * @param {(states: T[], behind: number) => Promise<A>} ask
   */
  async rebase(ask) {
    for (;;) {
      const { now } = this;
      const behind = Math.min(this.past.length, STATES);
      const before = [now, ...this.past.slice(-STATES), ...this.future.slice(-STATES)];
      const answer = await ask(before.map(plain), behind);
      if (this.now !== now) continue;
      const states = answer.states.map((state, place) => leaving(before[place], answer.left[place], state));
      this.now = answer.states[0];
      this.past = states.slice(1, behind + 1);
      this.future = states.slice(behind + 1);
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
    this.now = plain(state);
    this.left = /** @type {any} */ (state).left ?? [];
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
