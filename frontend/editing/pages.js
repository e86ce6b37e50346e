// The pages of a dashboard in its editor: tabs, and what a page is.
import { made, near } from "../lib/dom.js";
import { newId } from "../lib/ids.js";
import { openDialog, toast } from "../lib/page.js";

/** @returns {any} Methods of the editor. */
export function pages() {
  return {
    pageId: new URLSearchParams(location.search).get("page") ?? "",
    pageShown: "",
    letters: "",

    showPages() {
      this.pageShown = this.page.id;
      this.letters = this.definition.letters;
      const tabs = this.definition.pages.map((page) => {
        const tab = made("button", { type: "button", textContent: page.name });
        tab.setAttribute("role", "tab");
        tab.setAttribute("aria-selected", String(page.id === this.page.id));
        tab.dataset.pageTab = page.id;
        tab.title = page.name;
        if (page.hidden) {
          tab.classList.add("italic");
          tab.title = "Readers come here from links only";
        }
        return tab;
      });
      const focused = this.$refs.pages.contains(document.activeElement);
      this.$refs.pages.replaceChildren(...tabs);
      if (focused) this.$refs.pages.querySelector("[aria-selected=true]").focus();
    },
    pageClicked(event) {
      const id = near(event, "[data-page-tab]")?.dataset.pageTab;
      if (id) this.goToPage(id);
    },
    goToPage(id) {
      this.pageId = id;
      this.chooseNone();
      const query = id === this.definition.pages[0].id ? "" : `?page=${id}`;
      history.replaceState(null, "", location.pathname + query);
      return this.fill();
    },
    pageKeys(event) {
      const step = { PageDown: 1, PageUp: -1 }[event.key];
      if (!step || !event.altKey) return false;
      const next = this.definition.pages[this.definition.pages.indexOf(this.page) + step];
      if (next) this.goToPage(next.id);
      event.preventDefault();
      return true;
    },
    async addPage() {
      const id = newId();
      if (!(await this.edit({ edit: "add_page", id, after: this.page.id }))) return;
      await this.goToPage(id);
      this.setPage();
    },
    offeredForPage(event) {
      const id = near(event, "[data-page-tab]")?.dataset.pageTab;
      if (!id) return null;
      const place = this.definition.pages.findIndex((page) => page.id === id);
      const to = (step) => () => this.edit({ edit: "move_page", page: id, to: place + step });
      const { hidden } = this.definition.pages[place];
      const hide = () => this.edit({ edit: "set_page", page: id, hidden: !hidden });
      return [
        { label: "Name and kind…", run: () => this.goToPage(id).then(() => this.setPage()) },
        { label: "Ground and distances…", run: () => this.goToPage(id).then(() => this.setGround()) },
        { label: hidden ? "Show it to readers" : "Hide it from readers", run: hide },
        ...(place ? [{ label: "Move to the left", run: to(-1) }] : []),
        ...(place < this.definition.pages.length - 1 ? [{ label: "Move to the right", run: to(1) }] : []),
        { label: "Duplicate", run: () => this.copyPage(id) },
        { label: "Begin with an arrangement…", run: () => this.goToPage(id).then(() => this.begin()) },
        { label: "Turn columns into rows", run: () => this.edit({ edit: "turn_page", page: id }) },
        { label: "Insert a column at the left", run: this.column(id, "left") },
        { label: "Insert a column at the right", run: this.column(id, "right") },
        { label: "Remove", run: () => this.removePage(id), danger: true },
      ].filter(({ label }) => !/^(Insert|Turn|Begin)/.test(label) || this.definition.pages[place].kind === "flowing");
    },
    async begin() {
      const start = await openDialog("begin", "Begin with an arrangement").closed;
      if (start) this.beginWith(start);
    },
    // In the page itself; in a dialog the button that closes it says which.
    startChosen(event) {
      const start = near(event, "[data-start], [data-start-like]");
      if (start && !near(event, "dialog")) this.beginWith(start.dataset.close);
    },
    async beginWith(start) {
      const prefix = newId();
      const blocks = start.startsWith(":") && this.like[Number(start.slice(1))];
      const change = blocks ? { edit: "paste_blocks", blocks } : { edit: "begin_with", start };
      await this.edit({ ...change, page: this.page.id, prefix });
    },
    column(page, side) {
      return () => this.edit({ edit: "add_column", id: newId(), page, side });
    },
    openPageMenu(event) {
      const tab = this.$refs.pages.querySelector("[aria-selected=true]");
      const { left: clientX, bottom: clientY } = event.currentTarget.getBoundingClientRect();
      tab.dispatchEvent(new MouseEvent("contextmenu", { bubbles: true, cancelable: true, clientX, clientY }));
    },
    async copyPage(page) {
      const id = newId();
      if (await this.edit({ edit: "copy_page", page, id })) this.goToPage(id);
    },
    async removePage(id) {
      const { name } = this.definition.pages.find((page) => page.id === id);
      if (!(await this.edit({ edit: "remove_page", page: id }))) return;
      toast(`The page “${name}” is removed.`, { label: "Undo", run: () => this.undo() });
    },
    async setPage() {
      const page = this.page;
      const { element, closed } = openDialog("page-settings", "This page");
      const form = element.querySelector("form");
      const fields = /** @type {Record<string, HTMLInputElement>} */ (/** @type {unknown} */ (form.elements));
      fields.name.value = page.name;
      fields.hidden.checked = page.hidden;
      fields.kind.value = page.kind;
      for (const name of ["width", "height", "step"]) fields[name].value = page[name];
      for (const name of ["grid", "snap"]) fields[name].checked = page[name];
      const sizes = /** @type {HTMLElement} */ (element.querySelector("[data-fixed]"));
      const show = () => {
        sizes.hidden = fields.kind.value !== "fixed";
      };
      show();
      form.addEventListener("change", (event) => {
        if (event.target === fields.format && fields.format.value)
          [fields.width.value, fields.height.value] = fields.format.value.split("x");
        show();
      });
      form.addEventListener("submit", (event) => {
        event.preventDefault();
        element.close("ok");
      });
      fields.name.select();
      if ((await closed) !== "ok") return;
      const values = new FormData(form);
      const number = (name) => Number(values.get(name)) || page[name];
      await this.edit({
        edit: "set_page",
        page: page.id,
        name: values.get("name"),
        hidden: values.has("hidden"),
        kind: values.get("kind"),
        width: number("width"),
        height: number("height"),
        step: number("step"),
        grid: values.has("grid"),
        snap: values.has("snap"),
      });
    },
  };
}
