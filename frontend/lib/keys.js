// Shortcuts, the same on every page and wherever the focus is.

const FIELD = "input:not([type=checkbox]):not([type=radio]), textarea";
/** Fields in which something was typed that has not been taken yet. */
const typed = new WeakSet();
document.addEventListener("input", ({ target }) => target && typed.add(target), true);
for (const name of ["change", "blur"])
  document.addEventListener(name, ({ target }) => target && typed.delete(target), true);

/** Have what is being typed taken, as when the field is left; the focus stays. */
function take() {
  const field = document.activeElement;
  if (!(field instanceof HTMLElement) || !field.matches(FIELD)) return;
  field.blur();
  field.focus();
}

/**
 * Ctrl+S, Ctrl+Z, Ctrl+Shift+Z and Ctrl+Y. While something is being typed, undoing is the field's own.
 * @param {KeyboardEvent} event
 * @param {{ save?: () => void, undo: () => void, redo: () => void }} can
 */
export function shortcuts(event, { save, undo, redo }) {
  if (!(event.ctrlKey || event.metaKey) || event.altKey) return;
  const key = event.key.toLowerCase();
  const typing = event.target instanceof Element && event.target.matches(FIELD) && typed.has(event.target);
  if (key === "s" && save) {
    take();
    save();
  } else if (key === "z" && !event.shiftKey && !typing) undo();
  else if ((key === "y" || (key === "z" && event.shiftKey)) && !typing) redo();
  else return;
  event.preventDefault();
}
