// Bringing in files and the dataset page.
import { all, byId, fieldAt, near } from "./lib/dom.js";
import { cookie, getHtml, getJson, numberQuestions, post, postForHtml } from "./lib/http.js";
import { formData } from "./lib/forms.js";
import { debounce, dialog, failed, problemNotice, toast } from "./lib/page.js";
import { moveByArrows } from "./lib/popover.js";
import { updateContent } from "./lib/update.js";

function megabytes(bytes) {
  return `${(bytes / 1024 / 1024).toLocaleString("en", { maximumFractionDigits: 1 })} MB`;
}

// How far something is, on a progress bar.
function showShare(bar, share) {
  bar.style.width = `${100 * share}%`;
  bar.parentElement.setAttribute("aria-valuenow", String(Math.round(100 * share)));
}

export function uploader() {
  return {
    over: false,
    busy: false,
    problem: "",
    said: "",
    sending: null,
    choose() {
      this.$refs.file.click();
    },
    enter(event) {
      if (!event.dataTransfer.types.includes("Files")) return;
      event.preventDefault();
      this.over = true;
    },
    // Between two elements of the page the pointer leaves one for another; outside there is none.
    leave(event) {
      this.over = Boolean(event.relatedTarget);
    },
    drop(event) {
      if (!event.dataTransfer.files.length) return;
      event.preventDefault();
      this.over = false;
      this.send(event.dataTransfer.files);
    },
    // Cells or files pasted anywhere on the page but into a field.
    pasted(event) {
      if (near(event, "input, textarea, dialog")) return;
      const { files } = event.clipboardData;
      const cells = event.clipboardData.getData("text/plain");
      if (files.length) this.send(files);
      else if (cells.trim()) this.sendCells(cells);
      else return;
      event.preventDefault();
    },
    chosen() {
      this.send(this.$refs.file.files);
    },
    stop() {
      this.sending?.abort();
    },
    async send(files) {
      const chosen = [...files];
      if (!chosen.length || this.busy) return;
      this.problem = "";
      const most = Number(this.$root.dataset.most);
      const size = chosen.reduce((sum, file) => sum + file.size, 0);
      if (size > most)
        return this.fail(
          `${chosen.length > 1 ? "Together the files are" : "The file is"} larger than ${megabytes(most)}. Split it, or ask a steward to raise the limit.`,
        );
      const empty = chosen.find((file) => !file.size);
      if (empty)
        return this.fail(
          `${chosen.length > 1 ? `“${empty.name}”` : "The file"} is empty. Choose a file with a header line and at least one row.`,
        );
      this.busy = true;
      try {
        let answer = await this.sendOne(
          chosen[0],
          this.$root.dataset.address,
          chosen.length > 1 ? `1 of ${chosen.length}: ` : "",
        );
        for (const [place, file] of chosen.slice(1).entries()) {
          answer = await this.sendOne(
            file,
            `${this.$root.dataset.address}?with=${answer.upload}`,
            `${place + 2} of ${chosen.length}: `,
          );
        }
        location.href = answer.address;
      } catch (error) {
        if (error.message) this.fail(error.message);
      }
      return undefined;
    },
    sendOne(file, address, before) {
      return new Promise((resolve, reject) => {
        const sending = (this.sending = new XMLHttpRequest());
        sending.open("POST", address);
        sending.setRequestHeader("X-CSRFToken", cookie("csrftoken"));
        sending.setRequestHeader("X-Veduta", "1");
        sending.setRequestHeader("X-File-Name", encodeURIComponent(file.name));
        sending.setRequestHeader("Content-Type", "application/octet-stream");
        sending.upload.onprogress = ({ loaded, total }) => {
          if (this.$refs.bar) showShare(this.$refs.bar, loaded / total); // small files have none
          this.said =
            before + (loaded < total ? `${megabytes(loaded)} of ${megabytes(total)}` : "Looking at what is in it…");
        };
        sending.onload = () => {
          const data = JSON.parse(sending.responseText || "{}");
          if (sending.status === 200) resolve(data);
          else if (sending.status === 401) {
            document.dispatchEvent(new CustomEvent("veduta:signed-out"));
            reject(new Error(""));
          } else
            reject(
              new Error([data.message, data.hint].filter(Boolean).join(" ") || "The upload did not work. Try again."),
            );
        };
        sending.onerror = () =>
          reject(
            new Error("The upload broke off. Check that the file is still there and try again; nothing was changed."),
          );
        sending.onabort = () => reject(new Error("The upload was stopped; nothing was changed."));
        sending.send(file);
      });
    },
    async openPaste() {
      const { element, closed } = dialog(this.$refs.paste.innerHTML, { label: "Paste cells" });
      let cells = "";
      element.addEventListener("submit", () => {
        cells = element.querySelector("textarea").value;
      });
      element.querySelector("textarea").focus();
      await closed;
      if (cells) await this.sendCells(cells);
    },
    async sendCells(cells) {
      try {
        location.href = (await post(this.$root.dataset.paste, { cells, dataset: this.$root.dataset.dataset })).address;
      } catch (error) {
        this.fail(error.message);
      }
    },
    fail(message) {
      this.problem = message;
      this.busy = false;
      this.said = "";
      showShare(this.$refs.bar, 0);
      this.$refs.file.value = "";
    },
  };
}

export function datasetCheck() {
  return {
    busy: false,
    async corrected(event) {
      const field = fieldAt(event, "[data-option]");
      if (!field) return this.column(event);
      const value =
        field.type === "checkbox" ? field.checked : field.dataset.as === "int" ? Number(field.value) : field.value;
      await this.refresh(this.$root.dataset.options, { [field.dataset.option]: value });
    },
    async column(event) {
      const field = fieldAt(event, "[data-column]");
      if (!field) return;
      const address = this.$root.dataset.columns.replace("FIELD", field.dataset.column);
      const value = field.dataset.as === "json" ? JSON.parse(field.value) : field.value;
      await this.refresh(address, { [field.dataset.key]: value });
    },
    async pressed(event) {
      const button = near(event, "button[data-column]");
      if (button) await this.column(event);
    },
    async refresh(address, data) {
      this.busy = true;
      const left = this.leftOut();
      try {
        updateContent(this.$refs.parts, await postForHtml(address, data));
        for (const id of left) {
          const box = this.$refs.parts.querySelector(`[data-keep="${id}"]`);
          if (box) box.checked = false;
        }
      } catch (error) {
        failed(error);
      }
      this.busy = false;
    },
    leftOut() {
      return [...this.$root.querySelectorAll("[data-keep]")]
        .filter((box) => !box.checked)
        .map((box) => box.dataset.keep);
    },
    async start() {
      this.busy = true;
      try {
        const data = { name: this.$refs.name?.value ?? "", leave_out: this.leftOut() };
        location.href = (await post(this.$root.dataset.start, data)).address;
      } catch (error) {
        failed(error);
        this.busy = false;
      }
    },
  };
}

// A form that is sent as JSON: goes on to the address in the answer, or says under it what is wrong.
/** @returns {any} A form that is sent as JSON and leads to the address that is answered. */
export function sender() {
  return {
    busy: false,
    problem: "",
    async submit(event) {
      event.preventDefault();
      if (this.busy) return;
      this.busy = true;
      this.problem = "";
      try {
        location.href = (await post(this.$root.dataset.address, formData(this.$root))).address;
      } catch (error) {
        this.problem = error.message;
        this.busy = false;
      }
    },
    changed(event) {
      for (const part of this.$root.querySelectorAll(`[data-for="${event.target.name}"]`))
        part.hidden = !part.dataset.is.split(" ").includes(event.target.value);
    },
  };
}

export function refreshProgress() {
  return {
    rows: "",
    words: "",
    init() {
      if (this.$refs.bar) this.look();
    },
    async look() {
      try {
        const state = await getJson(this.$root.dataset.state);
        showShare(this.$refs.bar, state.share);
        this.rows = state.rows ? `${state.rows.toLocaleString("en")} rows so far` : "";
        this.words = state.words;
        if (state.state === "done") {
          location.href = state.dataset;
          return;
        }
        if (state.state === "failed") {
          location.reload();
          return;
        }
      } catch (error) {
        failed(error);
      }
      setTimeout(() => this.look(), 400);
    },
    async stop() {
      try {
        toast((await post(this.$root.dataset.stop)).message);
      } catch (error) {
        failed(error);
      }
    },
  };
}

export function dataset() {
  const beginQuestion = numberQuestions();

  return {
    tab: "columns",
    page: 1,
    sort: "",
    descending: false,
    init() {
      this.search = debounce(() => this.load(1), 250);
      if (location.hash === "#rows") this.showRows();
    },
    get columnsShown() {
      return this.tab === "columns";
    },
    get rowsShown() {
      return this.tab === "rows";
    },
    showColumns() {
      this.tab = "columns";
      history.replaceState(null, "", "#");
    },
    showRows() {
      this.tab = "rows";
      history.replaceState(null, "", "#rows");
      if (!this.$refs.rows.querySelector("table")) this.load(1);
    },
    query(page) {
      const find = this.$refs.find?.value ?? "";
      return new URLSearchParams({
        page: String(page),
        sort: this.sort,
        descending: this.descending ? "1" : "0",
        find,
      });
    },
    async load(page) {
      const isLast = beginQuestion();
      this.page = page;
      this.$refs.rows.classList.add("waiting");
      try {
        const html = await getHtml(`${this.$root.dataset.rows}?${this.query(page)}`);
        if (!isLast()) return;
        updateContent(this.$refs.rows, html);
        for (const link of all(this.$refs.file, "[data-download]")) {
          const query = this.query(1);
          if (link.dataset.download) query.set(link.dataset.download, "1");
          link.setAttribute("href", `${this.$root.dataset.file}?${query}`);
        }
      } catch (error) {
        if (!isLast()) return;
        if (this.$refs.rows.querySelector("table")) failed(error);
        else this.$refs.rows.replaceChildren(problemNotice(error));
      }
      this.$refs.rows.classList.remove("waiting");
    },
    rowsClicked(event) {
      const sort = near(event, "[data-sort]")?.dataset.sort;
      const page = near(event, "[data-page]")?.dataset.page;
      if (sort) {
        this.descending = this.sort === sort ? !this.descending : false;
        this.sort = sort;
        this.load(1);
      } else if (page) this.load(Number(page));
    },
    goTo(event) {
      if (event.target.matches("[data-go]")) this.load(Number(event.target.value) || 1);
    },
    // Choices that many fields share come from one place, when they are first needed.
    fillChoices(event) {
      const list = /** @type {HTMLSelectElement | null} */ (near(event, "select[data-filled-from]"));
      if (!list) return;
      const template = /** @type {HTMLTemplateElement} */ (byId(list.dataset.filledFrom));
      const choices = /** @type {DocumentFragment} */ (template.content.cloneNode(true));
      for (const there of [list.value, list.dataset.field])
        choices.querySelector(`[value="${CSS.escape(there)}"]:not([value=""])`)?.remove();
      list.append(choices);
      delete list.dataset.filledFrom;
    },
    async change(event) {
      const field = fieldAt(event, "[data-field]");
      if (!field) return;
      const value = field.type === "checkbox" ? field.checked : field.value;
      const changes = field.dataset.format ? { format: formData(field.form).format } : { [field.dataset.key]: value };
      await this.save(field.dataset.field, changes, field);
    },
    async save(id, changes, field) {
      const address = this.$root.dataset.fields.replace("FIELD", id);
      try {
        const answer = await post(address, changes);
        if (answer.address) {
          location.href = answer.address;
          return;
        }
        const undo = { label: "Undo", run: () => post(address, answer.undo).then(() => location.reload(), failed) };
        toast(answer.message, undo);
        if (changes.role || changes.format || "hidden" in changes) await this.redraw(id);
      } catch (error) {
        failed(error);
        if (field && field.defaultValue !== undefined && field.tagName === "INPUT" && field.type !== "checkbox")
          field.value = field.defaultValue;
        else location.reload();
      }
    },
    async redraw(id) {
      const page = new DOMParser().parseFromString(await getHtml(location.pathname), "text/html");
      const now = document.getElementById(`field-${id}`);
      const fresh = page.getElementById(`field-${id}`);
      if (now && fresh) updateContent(now, fresh.innerHTML);
    },
    async about(event) {
      const field = event.target;
      try {
        await post(this.$root.dataset.update, { [field.name]: field.value });
        toast("Saved.", null, 2500);
      } catch (error) {
        failed(error);
      }
    },
    async listFailures(event) {
      const button = near(event, "[data-failures]");
      if (!button) return;
      try {
        dialog(await getHtml(button.dataset.failures), { label: "Values that did not convert" });
      } catch (error) {
        failed(error);
      }
    },
    arrows(event) {
      moveByArrows(event, this.$root);
    },
  };
}

/** A palette that is written: what readers would miss in it is said as one writes. */
export function palette() {
  const beginQuestion = numberQuestions();

  return {
    ...sender(),
    init() {
      this.ask = debounce(() => this.check(), 250);
      if (this.$root.elements.colours.value) this.check();
    },
    written() {
      this.problem = "";
      this.ask();
    },
    async check() {
      const isLast = beginQuestion();
      if (!this.$root.elements.colours.value.trim()) return this.$refs.check.replaceChildren();
      try {
        const html = await postForHtml(this.$root.dataset.check, formData(this.$root));
        if (isLast()) updateContent(this.$refs.check, html);
      } catch (error) {
        if (isLast()) this.$refs.check.textContent = error.message;
      }
      return undefined;
    },
    clicked(event) {
      const button = near(event, "[data-instead]");
      if (!button) return;
      const { colours } = this.$root.elements;
      const parts = colours.value.split(/\n|,(?![^(]*\))/).filter((part) => part.trim());
      parts[Number(button.dataset.place)] = button.dataset.instead;
      colours.value = parts.map((part) => part.trim()).join(", ");
      this.check();
    },
  };
}
