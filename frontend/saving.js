// Drafts of a chart, and saving it for everybody. Part of the workbench.
import { post } from "./lib/http.js";
import { dialog, failed, whenReachable } from "./lib/page.js";

/**
 * @param {() => Promise<unknown> | null} working The newest question, until it is answered.
 * @returns {any} Methods of the workbench.
 */
export function saving(working) {
  return {
    async draft() {
      if (this.saved || this.here) return;
      try {
        const { at: time } = await post(`${this.base}draft/`, {
          definition: this.definition,
          revision: this.revision,
        });
        this.unsent = false;
        if (!this.saved) this.status = `draft saved ${time}`;
      } catch (error) {
        this.status = "draft not saved";
        if (error.status === 0) whenReachable(() => this.draft());
        failed(error);
      }
    },
    async save(overwrite = false) {
      await working(); // what was typed last is part of it
      if (this.here) return this.keepHere();
      try {
        const answer = await post(`${this.base}save/`, {
          definition: this.definition,
          revision: this.revision,
          overwrite: overwrite === true,
        });
        this.revision = answer.revision;
        this.saved = true;
        this.unsent = false;
        this.status = `saved ${answer.at}`;
        return true;
      } catch (error) {
        if (error.status !== 409) {
          failed(error);
          return false;
        }
        return this.settle(error.data);
      }
    },
    // In one block of a dashboard only, to which it then leads back.
    async keepHere() {
      try {
        const { address } = await post(this.here, { definition: this.definition });
        this.unsent = false;
        location.href = address;
        return true;
      } catch (error) {
        failed(error);
        return false;
      }
    },
    async settle({ conflict, theirs }) {
      const choice = await dialog(conflict, { label: "Saved by somebody else meanwhile" }).closed;
      if (choice === "mine") return this.save(true);
      if (choice === "theirs") {
        this.revision = theirs.revision;
        this.history.push({ definition: theirs.definition });
        this.saved = true;
        this.status = "saved";
        await this.answer();
        await post(`${this.base}draft/drop/`);
      } else if (choice === "both") {
        location.href = (await post(`${this.base}save-as-new/`, { definition: this.definition })).address;
      }
      return false;
    },
    async giveUpDraft() {
      await post(`${this.base}draft/drop/`);
      this.unsent = false;
      location.reload();
    },
  };
}
