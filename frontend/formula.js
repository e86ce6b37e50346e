// What happens around a formula's box while it is typed: what is wrong and where, what could follow, its values.
import { made, near } from "./lib/dom.js";
import { post } from "./lib/http.js";
import { debounce } from "./lib/page.js";

// The server's answer where a box says itself where to ask.
const askNear = (caret, formula, box) => post(box.closest("[data-check]").dataset.check, { formula, caret });

// `ask(caret, text, box)` gives the server's answer; `settled()` is called when the formula may be taken over.
export function formulaEditor(ask = askNear, settled = () => {}) {
  let box = null;
  let said = null;
  let list = null;
  let turn = 0;
  let suggestions = [];
  let chosen = -1;
  let lastTidy = "";
  let taken = ""; // the formula as it was last taken over

  const check = debounce(async () => {
    if (!box?.isConnected) return;
    const mine = ++turn;
    const text = box.value;
    try {
      const answer = await ask(box.selectionStart, text, box);
      if (mine === turn && box.isConnected) show(answer, text);
    } catch {
      /* the next key tries again */
    }
  }, 140);

  function show(answer, text) {
    suggestions = document.activeElement === box ? answer.suggestions : [];
    chosen = -1;
    list.hidden = !suggestions.length;
    list.replaceChildren(
      ...suggestions.map((each, place) => {
        const item = document.createElement("button");
        item.type = "button";
        item.className = "suggestion";
        item.tabIndex = -1;
        item.setAttribute("role", "option");
        item.dataset.insert = String(place);
        item.append(
          made("span", {
            textContent: each.label,
            className: each.what === "function" ? "font-semibold" : "",
          }),
        );
        item.append(made("span", { textContent: each.about, className: "tail" }));
        item.addEventListener("mousedown", (event) => event.preventDefault());
        return item;
      }),
    );
    said.replaceChildren();
    lastTidy = answer.tidy ?? "";
    if (answer.problem) said.append(problem(answer.problem, text));
    else if (answer.sample) said.append(values(answer));
    if (answer.around) said.prepend(line(`${answer.around.signature}: ${answer.around.says}`, "muted"));
    if (!answer.problem && answer.sample && text !== taken) {
      taken = text;
      settled();
    }
  }

  function line(text, look) {
    return made("p", { textContent: text, className: look });
  }

  // The formula with the wrong part marked, then what is wrong and what to do.
  function problem({ message, hint, start, end }, text) {
    const part = document.createElement("div");
    part.dataset.problem = "";
    if (end > start && text.length < 400) {
      const where = document.createElement("p");
      where.className = "font-mono break-words";
      where.append(
        text.slice(0, start),
        made("mark", {
          textContent: text.slice(start, end),
          className: "formula-wrong",
        }),
        text.slice(end),
      );
      part.append(where);
    }
    part.append(line(message, "text-madder"), line(hint, ""));
    return part;
  }

  function values({ kind, headings, sample, empties, rows, tidy, level, counted = "", of = "rows", notes = [] }) {
    const part = document.createElement("div");
    const table = document.createElement("table");
    table.className = "table text-[12px] mt-1 !w-auto min-w-[260px]";
    const row = (cells, tag) => {
      const line_ = document.createElement("tr");
      line_.append(
        ...cells.map((text, place) =>
          made(tag, {
            textContent: text,
            className: `truncate max-w-[160px]${place === cells.length - 1 && /number/.test(kind) ? " number" : ""}`,
          }),
        ),
      );
      return line_;
    };
    table.append(row([...headings, "Result"], "th"), ...sample.map((cells) => row(cells, "td")));
    part.append(
      line(
        `It gives ${kind === "yes/no" ? "yes or no" : kind === "text" ? "text" : `a ${kind}`}${level ? `, one of ${level}` : ""}.`,
        "muted",
      ),
      table,
    );
    if (counted) part.append(line(`It looks at the rows of ${counted}.`, "muted mt-1"));
    if (empties)
      part.append(
        line(`Empty in ${empties.toLocaleString("en")} of ${rows.toLocaleString("en")} ${of}.`, "muted mt-1"),
      );
    part.append(...notes.map((note) => line(note, "muted mt-1")));
    if (tidy && tidy !== box.value.trim()) {
      const button = made("button", {
        type: "button",
        className: "link mt-1",
        textContent: "Write it evenly",
      });
      button.addEventListener("click", () => {
        box.value = lastTidy;
        check();
        box.focus();
      });
      part.append(button);
    }
    return part;
  }

  function take(place) {
    const { insert, start } = suggestions[place];
    const end = box.selectionStart;
    box.setRangeText(insert, start, end, "end");
    list.hidden = true;
    box.focus();
    check();
  }

  function choose(place) {
    chosen = (place + suggestions.length) % suggestions.length;
    [...list.children].forEach((item, i) => item.setAttribute("aria-selected", String(i === chosen)));
    list.children[chosen]?.scrollIntoView({ block: "nearest" });
  }

  function attachTo(area) {
    box = area;
    taken = box.value;
    const around = box.closest("[data-formula]");
    const own = around.querySelector("[data-suggestions]");
    list = own;
    said = around.querySelector("[data-formula-said]") ?? box.form.querySelector("[data-formula-said]");
    box.addEventListener("blur", () => {
      own.hidden = true; // the list may be another box's by then
    });
  }

  return {
    attach(form) {
      const found = form.querySelector("[data-formula-box]");
      if (found === box && found === document.activeElement) return; // it is being typed
      box = null;
      if (found) attachTo(found);
      if (box?.value.trim()) check();
    },
    typed(area = box) {
      if (area !== box) attachTo(area);
      check();
    },
    // Serves the boxes of a dialog, whichever is typed in.
    watch(element) {
      element.addEventListener("input", ({ target }) => target.matches("[data-formula-box]") && this.typed(target));
      element.addEventListener("keydown", (event) => this.keys(event) && event.stopImmediatePropagation());
      element.addEventListener("click", (event) => {
        const suggestion = near(event, "[data-insert]");
        if (suggestion) this.take(suggestion);
      });
    },
    // Puts a field or function where the caret stands.
    put(text) {
      box.setRangeText(text, box.selectionStart, box.selectionEnd, "end");
      box.focus();
      check();
    },
    take(item) {
      take(Number(item.dataset.insert));
    },
    // Whether a key was for the list of suggestions.
    keys(event) {
      if (event.target !== box || !list || list.hidden) return false;
      if (event.key === "ArrowDown") choose(chosen + 1);
      else if (event.key === "ArrowUp") choose(chosen - 1);
      else if (event.key === "Escape") list.hidden = true;
      else if (event.key === "Tab" || (event.key === "Enter" && chosen >= 0)) take(Math.max(0, chosen));
      else return false;
      event.preventDefault();
      return true;
    },
  };
}
