"""Several people who make one dashboard at the same time."""

from __future__ import annotations

from tests.web.dashboard_support import DashboardTest
from veduta.core.dashboard.definition import load_dashboard
from veduta.core.dashboard.edits import apply_edit


class Together(DashboardTest):
    def setUp(self):
        super().setUp()
        self.base = {"definition": self.dashboard.draft, "name": "Season"}

    def state(self, *changes, name="Season", base=None):
        definition = load_dashboard((base or self.base)["definition"])
        for change in changes:
            definition = apply_edit(definition, change)
        return {"definition": definition.model_dump(mode="json"), "name": name}

    def say(self, block, text):
        return {"edit": "set_block", "block": block, "text": text}

    def merge(self, user, *states, base=None):
        self.as_(user)
        data = {"base": base or self.base, "states": list(states)}
        answer = self.ask("dashboard-draft-merge", self.dashboard.pk, data=data)
        self.assertEqual(answer.status_code, 200, answer.content[:300])
        return answer.json()

    def texts(self, definition):
        blocks = load_dashboard(definition).blocks
        return {block.id: block.text for block in blocks if block.text}

    def test_what_two_did_to_different_blocks_is_both_there(self):
        self.merge(self.steward, self.state(self.say("title", "Theirs")))
        answer = self.merge(self.analyst, self.state(self.say("words", "Mine")))
        self.assertEqual((answer["who"], answer["both"], answer["revision"]), ("Steward", [], 3))
        self.dashboard.refresh_from_db()
        self.assertEqual(self.texts(self.dashboard.draft), {"title": "Theirs", "words": "Mine"})
        self.assertEqual(answer["states"][0]["definition"], self.dashboard.draft)

    def test_of_one_setting_the_later_holds_and_theirs_can_be_had(self):
        self.merge(self.steward, self.state(self.say("title", "Theirs"), self.say("words", "Theirs")))
        answer = self.merge(self.analyst, self.state(self.say("title", "Mine")))
        self.assertEqual(answer["both"], ["“Mine”, its text"])
        self.assertEqual(self.texts(answer["states"][0]["definition"])["title"], "Mine")
        self.assertEqual(self.texts(answer["theirs"]), {"title": "Theirs", "words": "Theirs"})

    def test_the_states_that_undo_leads_to_have_what_others_did(self):
        self.merge(self.steward, self.state(self.say("title", "Theirs")))
        first = self.state(self.say("words", "First"))
        second = self.state(self.say("words", "Second"), base=first)
        answer = self.merge(self.analyst, second, first, self.base)
        said = [self.texts(each["definition"]) for each in answer["states"]]
        self.assertEqual([each["words"] for each in said[:2]], ["Second", "First"])
        self.assertEqual({each["title"] for each in said}, {"Theirs"})
        self.assertEqual(said[2]["words"], self.texts(self.base["definition"])["words"])

    def test_a_new_name_of_one_stays(self):
        self.merge(self.steward, self.state(name="Renamed"))
        answer = self.merge(self.analyst, self.state(self.say("words", "Mine")))
        self.assertEqual(answer["states"][0]["name"], "Renamed")
