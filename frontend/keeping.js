// Views of a dashboard that its reader keeps by a name: the list of them, and what is done with one.
import { made, near, sent } from "./lib/dom.js";
import { formData } from "./lib/forms.js";
import { getHtml, post } from "./lib/http.js";
import { dialog, failed, postAndOfferUndo, toast } from "./lib/page.js";
import { same } from "./selecting.js";

/** @returns {any} Methods of the reader's page. */
export function keeping() {
  let kept = null; // the view that is open, with the state it keeps

  return {
    viewName: "Views",

    beginKeeping() {
      const { kept: opened } = sent("start");
      if (opened) kept = { ...opened, state: this.state };
      this.nameView();
    },
    nameView() {
      const isChanged = kept && !same(kept.state, this.state);
      this.viewName = kept ? `View: ${kept.name}${isChanged ? ", changed" : ""}` : "Views";
    },
    // The key of the view that is open, as long as its state is the one it keeps.
    keptKey(state) {
      return kept && same(kept.state, state) ? kept.key : "";
    },
    async openViews() {
      if (this.popoverOpen) return this.shut();
      try {
        await this.showPopover(await getHtml(`${this.base}kept/${this.query()}`), this.$refs.views);
      } catch (error) {
        failed(error);
      }
    },
    async keepView(form) {
      const sentNow = { name: form.elements.namedItem("name").value, state: this.state, page: sent("start").page };
      await this.viewChanged(`${this.base}kept/new/`, sentNow);
    },
    async viewChanged(address, changes) {
      try {
        const { key, name, link, message } = await post(address, changes);
        this.shut();
        if ("state" in changes) kept = { key, name, own: true, state: this.state };
        else if (kept?.key === key) kept.name = name;
        this.nameView();
        toast(message, { label: "Copy its link", run: () => this.copyLink(link) });
      } catch (error) {
        failed(error);
      }
    },
    async copyLink(address) {
      const link = new URL(address, location.href).href;
      try {
        await navigator.clipboard.writeText(link);
        toast("The link is copied.");
      } catch {
        dialog(`<h2>Copy this link</h2><p><input class="w-full" readonly></p>`, { label: "A link" });
        const box = /** @type {HTMLInputElement} */ (document.querySelector("dialog:last-of-type input"));
        box.value = link;
        box.select();
      }
    },
    viewClicked(event) {
      const place = near(event, "[data-view]");
      const button = near(event, "button");
      const copy = near(event, "[data-copy]");
      if (copy) this.copyLink(copy.dataset.copy);
      if (!place || !button || copy) return Boolean(copy);
      const address = `${this.base}kept/${place.dataset.view}/`;
      const { viewUsual, viewName } = button.dataset;
      if (viewUsual !== undefined) this.viewChanged(address, { usual: Boolean(viewUsual) });
      else if ("viewNow" in button.dataset) this.viewChanged(address, { state: this.state, page: sent("start").page });
      else if (viewName) this.renameView(address, viewName);
      else if ("viewPeople" in button.dataset) this.giveView(address);
      else if ("viewDelete" in button.dataset) this.deleteView(address, place.dataset.view);
      else return false;
      return true;
    },
    async renameView(address, name) {
      this.shut();
      const box = made("input", { name: "name", className: "w-full", maxLength: 100 });
      const asked = dialog(
        `<h2 class="mb-2">Rename the view</h2><form method="dialog"><span></span><p class="mt-3 flex gap-2">
        <button class="btn btn-primary" value="rename">Rename</button>
        <button type="button" class="btn btn-quiet" data-close="">Cancel</button></p></form>`,
        { label: "Rename the view" },
      );
      asked.element.querySelector("span").replaceWith(box);
      box.value = name;
      box.select();
      if ((await asked.closed) === "rename") this.viewChanged(address, { name: box.value });
    },
    async giveView(address) {
      this.shut();
      try {
        const asked = dialog(await getHtml(`${address}people/`), { label: "Give a view to others" });
        const form = /** @type {HTMLFormElement} */ (asked.element.querySelector("#give-view"));
        if ((await asked.closed) !== "give") return;
        const { people = [], for_everybody: forEverybody } = formData(form);
        this.viewChanged(`${address}give/`, { people, for_everybody: forEverybody });
      } catch (error) {
        failed(error);
      }
    },
    deleteView(address, key) {
      this.shut();
      postAndOfferUndo(`${address}delete/`);
      if (kept?.key === key) kept = null;
      this.nameView();
    },
  };
}
