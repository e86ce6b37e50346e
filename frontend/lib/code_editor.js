// An editor of JSON, which stands in a shadow tree so that its styles need no permission of the page.
import { autocompletion, closeBrackets, closeBracketsKeymap, completionKeymap } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { json } from "@codemirror/lang-json";
import {
  HighlightStyle,
  bracketMatching,
  foldGutter,
  foldKeymap,
  indentOnInput,
  syntaxHighlighting,
} from "@codemirror/language";
import { lintGutter, setDiagnostics } from "@codemirror/lint";
import { EditorState, Transaction } from "@codemirror/state";
import { EditorView, drawSelection, keymap, lineNumbers } from "@codemirror/view";
import { tags } from "@lezer/highlight";

/**
 * @typedef {{ message: string, line: number, span: { start: number, end: number } }} Problem
 * @typedef {{ problem: Problem | null, from: number, to: number,
 *   completions: { label: string, insert: string, about: string }[] }} Checked
 */

const look = EditorView.theme({
  "&": { height: "320px", border: "1px solid var(--color-rule)", backgroundColor: "var(--color-surface)" },
  "&.cm-focused": { outline: "2px solid var(--color-lagoon)" },
  ".cm-scroller": { fontFamily: "ui-monospace, monospace", fontSize: "12.5px", lineHeight: "1.55" },
  ".cm-content": { color: "var(--color-ink)", caretColor: "var(--color-ink)" },
  ".cm-cursor": { borderLeftColor: "var(--color-ink)" },
  ".cm-gutters": { backgroundColor: "var(--color-surface)", color: "var(--color-muted)", border: "none" },
  ".cm-selectionBackground, &.cm-focused .cm-selectionBackground": {
    backgroundColor: "var(--color-lagoon-tint) !important",
  },
  ".cm-tooltip": {
    backgroundColor: "var(--color-surface)",
    color: "var(--color-ink)",
    border: "1px solid var(--color-ink)",
  },
  ".cm-tooltip-autocomplete ul li[aria-selected]": {
    backgroundColor: "var(--color-lagoon)",
    color: "var(--color-on-lagoon)",
  },
  ".cm-completionInfo": { maxWidth: "280px", font: "12px Archivo, sans-serif" },
});
const colours = HighlightStyle.define([
  { tag: tags.propertyName, color: "var(--color-lagoon)" },
  { tag: tags.string, color: "var(--color-ink)" },
  { tag: [tags.number, tags.bool, tags.null], color: "var(--color-madder)" },
]);

/**
 * @param {HTMLElement} host
 * @param {{ label: string, ask: (text: string, caret: number) => Promise<Checked>, changed: () => void }} how
 */
export function codeEditor(host, { label, ask, changed }) {
  // What is typed here is nobody's shortcut.
  host.addEventListener("keydown", (event) => {
    if (!event.ctrlKey && !event.metaKey) event.stopPropagation();
  });
  const root = host.shadowRoot ?? host.attachShadow({ mode: "open" });

  /** @param {import("@codemirror/autocomplete").CompletionContext} context */
  async function complete(context) {
    const before = context.state.sliceDoc(Math.max(0, context.pos - 1), context.pos);
    if (!context.explicit && !/[\w"]/.test(before)) return null;
    const found = await ask(context.state.doc.toString(), context.pos).catch(() => null);
    if (!found?.completions.length) return null;
    return {
      from: found.from,
      to: Math.max(found.to, context.pos),
      filter: false,
      options: found.completions.map(({ label: name, insert, about }) => ({
        label: name,
        apply: insert,
        info: about || undefined,
      })),
    };
  }
  const view = new EditorView({
    parent: root,
    root,
    state: EditorState.create({
      extensions: [
        lineNumbers(),
        EditorView.lineWrapping,
        foldGutter(),
        history(),
        drawSelection(),
        indentOnInput(),
        bracketMatching(),
        closeBrackets(),
        autocompletion({ override: [complete] }),
        lintGutter(),
        json(),
        look,
        syntaxHighlighting(colours),
        keymap.of([
          ...closeBracketsKeymap,
          ...defaultKeymap,
          ...historyKeymap,
          ...foldKeymap,
          ...completionKeymap,
          indentWithTab,
        ]),
        // Plain text only: browsers would give what is typed styles of its own.
        EditorView.contentAttributes.of({ "aria-label": label, contenteditable: "plaintext-only", tabindex: "0" }),
        EditorView.updateListener.of((update) => {
          if (update.docChanged && !update.transactions.some((each) => each.annotation(Transaction.remote))) changed();
        }),
      ],
    }),
  });
  const text = () => view.state.doc.toString();

  return {
    text,
    /** @param {string} shown */
    show(shown) {
      if (shown === text()) return;
      view.dispatch({
        changes: { from: 0, to: view.state.doc.length, insert: shown },
        annotations: Transaction.remote.of(true),
      });
    },
    /** @param {string} words */
    insert(words) {
      view.dispatch(view.state.replaceSelection(words));
      view.focus();
    },
    /** Marks what is wrong, if anything is, and says so. */
    async check() {
      const { problem } = await ask(text(), view.state.selection.main.head);
      const most = view.state.doc.length;
      const marks = problem
        ? [
            {
              from: Math.min(problem.span.start, most),
              to: Math.min(Math.max(problem.span.end, problem.span.start + 1), most),
              severity: /** @type {"error"} */ ("error"),
              message: problem.message,
            },
          ]
        : [];
      view.dispatch(setDiagnostics(view.state, marks));
      return problem;
    },
    destroy: () => view.destroy(),
  };
}
