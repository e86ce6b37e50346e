// Drafts of a chart, and saving it for everybody. Part of the workbench.
import { post } from "./lib/http.js";
import { goLive } from "./lib/live.js";
import { showLog } from "./lib/log.js";
import { failed, toast, whenReachable } from "./lib/page.js";

/**
 * @param {() => Promise<unknown> | null} working The newest question, until it is answered.
 * @returns {any} Methods of the workbench.
 */
export function saving(working) {
  let lastSave = Promise.resolve(true);

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
    save() {
      lastSave = this.saveNow();
      return lastSave;
    },
    async saveNow() {
      await working(); // what was typed last is part of it
      if (this.here) return this.keepHere();
      try {
        const answer = await post(`${this.base}save/`, {
          definition: this.definition,
          revision: this.revision,
        });
        this.revision = answer.revision;
        this.saved = true;
        this.unsent = false;
        this.status = `saved ${answer.at}`;
        return true;
      } catch (error) {
        if (error.status === 409 && (await this.bringTogether())) return this.saveNow();
        if (error.status !== 409) failed(error);
        return false;
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
    // What others save is taken in, one saved state after the other, and after what is being saved here.
    beginTogether() {
      let taken = Promise.resolve();
      goLive(this.base, this.$refs.people, (revision) => {
        taken = Promise.all([taken, lastSave]).then(() => revision > this.revision && this.bringTogether());
      });
    },
    // Somebody else has saved since: what both did is brought together, and so are the states that undo leads to.
    async bringTogether() {
      try {
        const { revision } = this;
        const answer = await this.history.rebase((states, behind) =>
          post(`${this.base}draft/merge/`, { revision, states, behind }),
        );
        this.revision = answer.revision;
        this.saved = answer.saved;
        this.status = `${answer.who} saved it`;
        this.tellOfOthers(answer);
        await Promise.all([this.answer(), this.draft()]);
        return true;
      } catch (error) {
        failed(error);
        return false;
      }
    },
    tellOfOthers({ won, theirs, lost, mine }) {
      if (won) toast(won, { label: "Bring theirs back", run: () => this.answer(theirs) }, 0);
      if (lost) toast(lost, { label: "Bring mine back", run: () => this.answer(mine) }, 0);
    },
    // What undoing or redoing left, as others have changed it since.
    tellOfLeft() {
      for (const { words, settings, was } of this.history.left) {
        const edit = { edit: "take_parts", other: was.definition, parts: settings };
        toast(words, { label: "Take it back nevertheless", run: () => this.answer(edit) }, 0);
      }
    },
    takeState(definition) {
      if (!this.history.push({ definition })) return;
      this.changed();
      this.answer();
    },
    showLog() {
      showLog(this.base, ({ definition }) => {
        this.takeState(definition);
        toast("The chart is as it was then. It holds for everybody once you save it.");
      });
    },
    async giveUpDraft() {
      await post(`${this.base}draft/drop/`);
      this.unsent = false;
      location.reload();
    },
  };
}
