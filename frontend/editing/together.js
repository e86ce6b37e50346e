// Several people in one dashboard: what others do is taken in, and it is told where both changed the same. Part of the
// dashboard editor.
import { all, near } from "../lib/dom.js";
import { post } from "../lib/http.js";
import { goLive } from "../lib/live.js";
import { showLog } from "../lib/log.js";
import { failed, toast } from "../lib/page.js";

/** @returns {any} Methods of the editor. */
export function together() {
  let people = [];

  return {
    beginTogether() {
      const isAt = goLive(
        this.base,
        this.$refs.people,
        (revision) => this.changedElsewhere(revision),
        (others) => {
          people = others;
          this.showPeople();
        },
      );
      this.$refs.board.addEventListener("focusin", (event) => isAt(near(event, "[data-id]")?.dataset.id ?? ""));
    },
    // At the blocks on which others are.
    showPeople() {
      for (const each of all(this.$refs.board, "[data-others]")) delete each.dataset.others;
      for (const { name, part } of people) {
        const element = part && this.element(part);
        if (element) element.dataset.others = name;
      }
    },

    // Somebody else has saved since: what both did is brought together, and so are the states that undo leads to.
    async bringTogether() {
      let { synced: base, revision } = this;
      try {
        const answer = await this.history.rebase(async (states, behind) => {
          const brought = await post(`${this.base}draft/merge/`, { base, revision, states, behind });
          [[base], revision] = [states, brought.revision];
          return brought;
        });
        [this.synced] = answer.states;
        this.unsent = false;
        this.saved(answer);
        this.tellOfOthers(answer);
        await this.fill();
        return true;
      } catch (error) {
        this.unsent = true;
        this.status = "draft not saved";
        failed(error);
        return false;
      }
    },
    tellOfOthers({ who, won, theirs, lost, mine, at, states: [now], revision }) {
      if (!won && !lost) this.status = `${who} changed it ${at}`;
      const instead = (definition) => () => this.inTurn(() => this.takeInstead(now, revision, definition));
      if (won) toast(won, { label: "Bring theirs back", run: instead(theirs) }, 0);
      if (lost) toast(lost, { label: "Bring mine back", run: instead(mine) }, 0);
    },
    // What undoing or redoing left, as others have changed it since.
    tellOfLeft() {
      for (const { words, settings, was } of this.history.left) {
        const change = { edit: "take_settings", other: was.definition, settings };
        toast(words, { label: "Take it back nevertheless", run: () => this.edit(change) }, 0);
      }
    },
    // Brings what another definition has otherwise than a state was at a revision into what there is now.
    async takeInstead(base, revision, definition) {
      if (!(await this.flush())) return;
      try {
        const states = [{ ...base, definition }];
        const answer = await post(`${this.base}draft/merge/`, { base, revision, states });
        [this.synced] = answer.states;
        this.history.push(this.synced);
        this.buttons();
        this.saved(answer);
        await this.fill();
      } catch (error) {
        failed(error);
      }
    },

    async showLog() {
      await this.made();
      await this.flush();
      showLog(this.base, async (state) => {
        await this.inTurn(() => this.take(state));
        toast("The draft is as it was then.", { label: "Undo", run: () => this.undo() });
      });
    },
  };
}
