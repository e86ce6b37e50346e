"""Several people who make one dashboard at the same time."""

from __future__ import annotations

import datetime as dt
import re

from django.urls import reverse
from django.utils import timezone

from tests.web.dashboard_support import DashboardTest
from tests.web.support import make_user
from veduta.core.dashboard.definition import load_dashboard
from veduta.core.dashboard.edits import apply_edit
from veduta.web.accounts.models import User
from veduta.web.dashboards import drafts, services
from veduta.web.dashboards.access import set_grant
from veduta.web.dashboards.models import DraftState, Notice


class Together(DashboardTest):
    def setUp(self):
        super().setUp()
        DraftState.objects.update(saved_at=timezone.now() - dt.timedelta(hours=1))
        self.base = {"definition": self.dashboard.draft, "name": "Season"}

    def state(self, *changes, name="Season", base=None):
        definition = load_dashboard((base or self.base)["definition"])
        for change in changes:
            definition = apply_edit(definition, change)
        return {"definition": definition.model_dump(mode="json"), "name": name}

    def say(self, block, text):
        return {"edit": "set_block", "block": block, "text": text}

    def merge(self, user, *states, base=None, revision=1, behind=0):
        self.as_(user)
        data = {"base": base or self.base, "revision": revision, "states": list(states), "behind": behind}
        answer = self.ask("dashboard-draft-merge", self.dashboard.pk, data=data)
        self.assertEqual(answer.status_code, 200, answer.content[:300])
        return answer.json()

    def texts(self, definition):
        blocks = load_dashboard(definition).blocks
        return {block.id: block.text for block in blocks if block.text}

    def test_what_two_did_to_different_blocks_is_both_there(self):
        self.merge(self.steward, self.state(self.say("title", "Theirs")))
        answer = self.merge(self.analyst, self.state(self.say("words", "Mine")))
        self.assertEqual((answer["who"], answer["won"], answer["revision"]), ("Steward", "", 3))
        self.dashboard.refresh_from_db()
        self.assertEqual(self.texts(self.dashboard.draft), {"title": "Theirs", "words": "Mine"})
        self.assertEqual(answer["states"][0]["definition"], self.dashboard.draft)

    def test_of_one_setting_the_later_holds_and_theirs_can_be_had(self):
        self.merge(self.steward, self.state(self.say("title", "Theirs"), self.say("words", "Theirs")))
        answer = self.merge(self.analyst, self.state(self.say("title", "Mine")))
        self.assertEqual(answer["won"], "Steward changed Heading “Mine”, its text, too. It is as you have it.")
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

    def test_undoing_leaves_what_others_changed_since_says_so_and_offers_it(self):
        mine = self.state(self.say("title", "Mine"))
        more = self.state(self.say("words", "More"), base=mine)
        self.merge(self.analyst, more, mine, self.base, behind=2)
        self.merge(self.steward, self.state(self.say("title", "Theirs"), base=more), base=more, revision=2)
        answer = self.merge(self.analyst, more, self.base, mine, base=more, revision=2, behind=2)
        first, second = answer["states"][2], answer["states"][1]
        plain = self.texts(self.base["definition"])
        self.assertEqual(self.texts(first["definition"]), {"title": "Theirs", "words": plain["words"]})
        self.assertEqual(self.texts(second["definition"]), {"title": "Theirs", "words": plain["words"]})
        words = "Steward changed Heading “Theirs”, its text, too. It stays as they have it."
        left = {"words": words, "settings": [["block", "title", "text"]]}
        self.assertEqual(answer["left"], [None, left, None], "only the step that set it leaves it")
        taken = {"edit": "take_settings", "other": self.base["definition"], "settings": left["settings"]}
        undone = apply_edit(load_dashboard(second["definition"]), taken)
        self.assertEqual(self.texts(undone.model_dump(mode="json")), plain)

    def test_who_sets_at_the_same_moment_what_somebody_else_does_tells_them(self):
        mine = self.state(self.say("title", "Mine"))
        self.merge(self.analyst, mine)
        both = self.state(self.say("title", "Theirs"), self.say("words", "More"), base=mine)
        self.as_(self.steward)  # whose page has taken in what the other wrote while they were writing
        saved = self.ask("dashboard-draft", self.dashboard.pk, data={**both, "revision": 2})
        self.assertEqual(saved.status_code, 200)
        answer = self.merge(self.analyst, mine, base=mine, revision=2)
        self.assertEqual(answer["lost"], "Steward changed Heading “Theirs”, its text, too. It is as they have it.")
        self.assertEqual(self.texts(answer["mine"]), {"title": "Mine", "words": "More"})

    def test_who_sets_later_what_somebody_else_has_set_goes_on_with_it(self):
        mine = self.state(self.say("title", "Mine"))
        self.merge(self.analyst, mine)
        DraftState.objects.update(saved_at=timezone.now() - dt.timedelta(minutes=1))
        self.as_(self.steward)
        theirs = self.state(self.say("title", "Theirs"), base=mine)
        self.ask("dashboard-draft", self.dashboard.pk, data={**theirs, "revision": 2})
        self.assertEqual(self.merge(self.analyst, mine, base=mine, revision=2)["lost"], "")

    def test_a_new_name_of_one_stays(self):
        self.merge(self.steward, self.state(name="Renamed"))
        answer = self.merge(self.analyst, self.state(self.say("words", "Mine")))
        self.assertEqual(answer["states"][0]["name"], "Renamed")

    def test_the_one_whose_setting_was_set_over_is_told_and_can_have_it_back(self):
        mine = self.state(self.say("title", "Mine"))
        self.merge(self.analyst, mine)
        self.merge(self.steward, self.state(self.say("title", "Theirs"), self.say("words", "More")))
        answer = self.merge(self.analyst, mine, base=mine, revision=2)
        self.assertEqual(answer["lost"], "Steward changed Heading “Theirs”, its text, too. It is as they have it.")
        self.assertEqual(answer["won"], "")
        self.assertEqual(self.texts(answer["mine"]), {"title": "Mine", "words": "More"})

    def test_who_is_away_is_told_in_the_inbox_and_has_it_back_with_one_click(self):
        self.merge(self.analyst, self.state(self.say("title", "Mine")))
        self.merge(self.steward, self.state(self.say("title", "Theirs"), self.say("words", "More")))
        self.as_(self.analyst)
        said = "Steward changed Heading “Theirs”, its text in Season, too, while you were away."
        self.assertContains(self.client.get(reverse("inbox")), said)
        self.client.post(reverse("dashboard-mine-back", args=[self.dashboard.pk, 3]), {"leave": 1})
        self.assertNotContains(self.client.get(reverse("inbox")), "Bring mine back")
        self.client.post(reverse("dashboard-mine-back", args=[self.dashboard.pk, 3]))
        self.dashboard.refresh_from_db()
        self.assertEqual(self.texts(self.dashboard.draft), {"title": "Mine", "words": "More"})

    def test_who_sees_it_happen_is_not_told_in_the_inbox(self):
        self.merge(self.analyst, self.state(self.say("title", "Mine")))
        self.ask("dashboard-present", self.dashboard.pk, data={"tab": "one"})
        self.merge(self.steward, self.state(self.say("title", "Theirs")))
        self.assertEqual(Notice.objects.count(), 0)

    def test_who_has_set_it_anew_meanwhile_is_not_told_that_it_was_lost(self):
        mine = self.state(self.say("title", "Mine"))
        self.merge(self.analyst, mine)
        self.merge(self.steward, self.state(self.say("title", "Theirs")))
        anew = self.state(self.say("title", "Mine again"))
        answer = self.merge(self.analyst, anew, base=mine, revision=2)
        self.assertEqual(answer["lost"], "")
        self.assertEqual(answer["won"], "Steward changed Heading “Mine again”, its text, too. It is as you have it.")

    def test_of_three_the_one_who_changed_the_setting_is_named(self):
        self.merge(self.steward, self.state(self.say("title", "Theirs")))
        other = make_user("second", User.Role.ANALYST)
        set_grant(other, self.dashboard, "edit", True)
        after = self.state(self.say("title", "Theirs"))
        self.merge(other, self.state(self.say("words", "Elsewhere"), base=after), base=after, revision=2)
        answer = self.merge(self.analyst, self.state(self.say("title", "Mine")))
        self.assertIn("Steward changed", answer["won"])


class Log(DashboardTest):
    def setUp(self):
        super().setUp()
        DraftState.objects.update(saved_at=timezone.now() - dt.timedelta(hours=1))
        self.edited(edit="set_block", block="title", text="Season and islands")
        self.edited(edit="set_block", block="title", text="The whole season")

    def log(self, **query):
        return self.look("dashboard-log", self.dashboard.pk, **query)

    def changes(self, page):
        found = re.findall(r"<li><strong>(.*?)</strong>(.*?)</li>", page.content.decode())
        return [f"{name} {words.strip()}" for name, words in found]

    def test_it_says_who_changed_what_in_a_sitting(self):
        page = self.log()
        self.assertContains(page, "<strong>Analyst</strong>", count=2)
        self.assertIn("Heading “The whole season” its text changes", self.changes(page))
        self.assertContains(page, "2 edits")
        self.assertContains(page, "the draft now", count=1)

    def test_single_edits_of_a_sitting(self):
        page = self.log(first=2, last=3)
        self.assertIn("Heading “Season and islands” its text changes", self.changes(page))
        self.assertIn("Heading “The whole season” its text changes", self.changes(page))

    def test_a_new_name_is_said(self):
        services.save_draft(self.analyst, self.dashboard, self.dashboard.load_draft(), "Summer", 3)
        self.assertIn("The dashboard is called “Summer”", self.changes(self.log()))

    def test_many_sittings_come_in_parts(self):
        for number in range(20):
            user = self.steward if number % 2 else self.analyst
            change = {"edit": "set_block", "block": "words", "text": f"Said {number}"}
            services.edit_draft(user, self.dashboard, change)
        page = self.log()
        self.assertContains(page, "Said 19")
        self.assertNotContains(page, "Said 4”")
        earlier = self.log(before=re.search(r'data-log="before=(\d+)"', page.content.decode())[1])
        self.assertContains(earlier, "Said 4”")
        self.assertIn("Heading “The whole season” its text changes", self.changes(earlier))

    def test_an_earlier_state_is_seen_and_can_be_gone_on_from(self):
        state = self.look("dashboard-draft-state", self.dashboard.pk, 2).json()
        self.assertEqual(load_dashboard(state["definition"]).find_block("title").text, "Season and islands")
        page = self.look("dashboard", self.dashboard.pk, version="draft-2")
        self.assertContains(page, "Season and islands")
        self.assertContains(page, "An earlier")
        self.assertEqual(self.look("dashboard-block", self.dashboard.pk, "bars", version="draft-2").status_code, 200)

    def test_a_state_that_is_not_kept(self):
        answer = self.look("dashboard-draft-state", self.dashboard.pk, 99)
        self.assertEqual(answer.status_code, 422)
        self.assertIn("Version 99 of the draft is not kept", answer.json()["message"])
        self.assertEqual(self.look("dashboard", self.dashboard.pk, version="draft-99").status_code, 404)

    def test_readers_see_neither_log_nor_earlier_drafts(self):
        self.grant()
        self.as_(self.explorer)
        self.assertEqual(self.log().status_code, 404)
        self.assertEqual(self.look("dashboard", self.dashboard.pk, version="draft-2").status_code, 404)

    def test_states_of_long_ago_are_forgotten(self):
        DraftState.objects.filter(number__lt=3).update(saved_at=timezone.now() - dt.timedelta(days=8))
        self.assertEqual(drafts.forget(), 3)
        self.assertContains(self.log(), "As it was before that")
