// Edits that are not made yet. Those that wait are sent together; of some that cannot be made together, each is then
// sent by itself, so that one that cannot be made stops no other.
export class EditQueue {
  constructor() {
    /** @type {any[]} */
    this.edits = [];
    this.isOneByOne = false;
  }
  get length() {
    return this.edits.length;
  }
  /** @param {any} edit */
  push(edit) {
    this.edits.push(edit);
  }
  dropLast() {
    this.edits.pop();
  }
  clear() {
    this.edits = [];
    this.isOneByOne = false;
  }
  /** Those to be sent next. */
  next() {
    return this.edits.slice(0, this.isOneByOne ? 1 : undefined);
  }
  /** @param {number} count How many of them, from the first on. */
  made(count) {
    this.edits = this.edits.slice(count);
    this.isOneByOne &&= this.edits.length > 0;
  }
  /**
   * Some could not be made together. Returns whether it was a single one, which is given up.
   * @param {number} count
   */
  refused(count) {
    if (count === 1) this.made(1);
    else this.isOneByOne = true;
    return count === 1;
  }
}
