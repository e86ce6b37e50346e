"""Who may see, edit and take rows from a dashboard: a table that a person can read; addresses and services obey it."""

from __future__ import annotations

from django.core.exceptions import PermissionDenied
from django.urls import reverse

from tests.web.dashboard_support import DashboardTest
from tests.web.support import make_user
from veduta.core.dashboard.definition import ViewState
from veduta.web.accounts.models import User
from veduta.web.dashboards import comments, favourites, saved_views, services
from veduta.web.dashboards.access import list_dashboards, may_download, may_edit, may_view
from veduta.web.dashboards.models import Dashboard

# Who, what was granted, with downloads: what they may before it is published, and after (see, edit, take rows).
TABLE = (
    ("explorer", "", False, "", ""),
    ("explorer", "view", False, "", "see"),
    ("explorer", "view", True, "take", "see take"),
    ("explorer", "edit", False, "", "see"),
    ("explorer", "edit", True, "take", "see take"),
    ("colleague", "", False, "", ""),
    ("colleague", "view", False, "see", "see"),
    ("colleague", "view", True, "see take", "see take"),
    ("colleague", "edit", False, "see edit take", "see edit take"),
    ("maker", "", False, "see edit take", "see edit take"),
    ("steward", "", False, "see edit take", "see edit take"),
)


class DashboardAccess(DashboardTest):
    def setUp(self):
        super().setUp()
        self.people = {"explorer": self.explorer, "maker": self.analyst, "steward": self.steward}
        self.people["colleague"] = make_user("colleague", "analyst")

    def cases(self):
        """Each row of the table: a person and a dashboard as they come from the database, and what they may."""
        for who, level, download, draft, published in TABLE:
            if who in ("explorer", "colleague"):
                services.grant(self.analyst, self.dashboard, f"person-{self.people[who].pk}", level, download)
            for version, allowed in ((None, draft), (self.dashboard.published, published)):
                Dashboard.objects.filter(pk=self.dashboard.pk).update(published=version)
                case = f"{who}, {level or 'no'} grant{' with rows' * download}, {'published' if version else 'draft'}"
                person = User.objects.get(pk=self.people[who].pk)
                yield case, person, Dashboard.objects.get(pk=self.dashboard.pk), set(allowed.split())

    def test_the_rules(self):
        rules = {"see": may_view, "edit": may_edit, "take": may_download}
        for case, person, dashboard, allowed in self.cases():
            with self.subTest(case):
                self.assertEqual({word for word, may in rules.items() if may(person, dashboard)}, allowed)
                self.assertEqual(dashboard in list_dashboards(person), "see" in allowed, "the list obeys the rule")

    def test_services_check_by_themselves(self):
        deeds = {
            "comment": lambda case, person, dashboard: comments.say(person, dashboard, case),
            "star": lambda case, person, dashboard: favourites.toggle_star(person, dashboard),
            "keep a view": lambda case, *about: saved_views.keep(*about, case, ViewState(), "", {}),
        }
        for case, person, dashboard, allowed in self.cases():
            for name, deed in deeds.items():
                with self.subTest(case, deed=name):
                    if "see" in allowed:
                        deed(case, person, dashboard)
                    else:
                        self.assertRaises(PermissionDenied, deed, case, person, dashboard)

    def test_what_somebody_saved_or_said_is_changed_by_nobody_else(self):
        dashboard = self.dashboard
        services.grant(self.analyst, dashboard, f"person-{self.explorer.pk}", "view", False)
        view = saved_views.keep(self.explorer, dashboard, "Mine", ViewState(), "", {})
        comment = comments.say(self.explorer, dashboard, "Good")
        deeds = {
            "rename": lambda who: saved_views.set_name(who, view, "Theirs"),
            "save anew": lambda who: saved_views.set_state(who, view, ViewState(), "", {}),
            "make usual": lambda who: saved_views.set_usual(who, view, True),
            "give": lambda who: saved_views.give_to(who, view, [], True),
            "delete": lambda who: saved_views.delete(who, view),
            "bring back": lambda who: saved_views.restore(who, view),
            "reword": lambda who: comments.edit(who, comment, "Bad"),
            "take back": lambda who: comments.delete(who, comment),
            "say again": lambda who: comments.restore(who, comment),
        }
        for name, deed in deeds.items():
            for who in ("maker", "colleague", "steward"):
                with self.subTest(deed=name, who=who):
                    self.assertRaises(PermissionDenied, deed, self.people[who])
            deed(self.explorer)
        services.grant(self.analyst, dashboard, f"person-{self.explorer.pk}", "", False)
        for name, deed in deeds.items():
            with self.subTest(deed=name, who="its owner, to whom the dashboard is no longer granted"):
                self.assertRaises(PermissionDenied, deed, User.objects.get(pk=self.explorer.pk))

    def test_what_was_deleted_is_nobodys(self):
        services.delete_dashboard(self.analyst, self.dashboard)
        for person in self.people.values():
            self.as_(person)
            self.assertEqual(self.client.get(reverse("dashboard", args=[self.dashboard.pk])).status_code, 404)
            self.assertNotIn(self.dashboard, list_dashboards(person))
