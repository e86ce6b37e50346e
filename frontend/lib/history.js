// Undo and redo over a session, kept in the browser tab so that a reload does not lose them.

export class History {
  constructor(key, start) {
    this.key = `veduta-history-${key}`;
    this.past = [];
    this.future = [];
    this.now = start;
    try {
      const kept = JSON.parse(sessionStorage.getItem(this.key));
      if (kept && JSON.stringify(kept.now) === JSON.stringify(start)) Object.assign(this, kept);
    } catch { /* an unreadable history starts anew */ }
  }

  push(state) {
    if (JSON.stringify(state) === JSON.stringify(this.now)) return false;
    this.past = [...this.past.slice(-199), this.now];
    this.future = [];
    this.now = state;
    this.keep();
    return true;
  }

  undo() {
    if (!this.past.length) return null;
    this.future.push(this.now);
    this.now = this.past.pop();
    this.keep();
    return this.now;
  }

  redo() {
    if (!this.future.length) return null;
    this.past.push(this.now);
    this.now = this.future.pop();
    this.keep();
    return this.now;
  }

  keep() {
    try {
      const { past, future, now } = this;
      sessionStorage.setItem(this.key, JSON.stringify({ past, future, now }));
    } catch { /* a full store only costs the history after a reload */ }
  }
}

// Ctrl+Z, Ctrl+Shift+Z and Ctrl+Y outside of text boxes.
export function undoKeys(event, undo, redo) {
  if (!(event.ctrlKey || event.metaKey) || event.target.closest("input:not([type=checkbox]), textarea")) return;
  const key = event.key.toLowerCase();
  if (key === "z" && !event.shiftKey) undo();
  else if (key === "y" || (key === "z" && event.shiftKey)) redo();
  else return;
  event.preventDefault();
}
