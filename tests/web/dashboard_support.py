"""What tests of dashboards share."""

from __future__ import annotations

import json

from tests.web.support import WebTest
from veduta.core.dashboard.edits import apply_edit
from veduta.web.dashboards import services


class DashboardTest(WebTest):
    @classmethod
    def setUpTestData(cls):
        super().setUpTestData()
        cls.make_dashboard()

    def setUp(self):
        super().setUp()
        self.as_(self.analyst)

    def block(self, block="bars", state=None, **query):
        if state is not None:
            query["v"] = json.dumps(state)
        return self.look("dashboard-block", self.dashboard.pk, block, **query)

    def values(self, *args, **kwargs):
        return {row["name"]: row["value"] for row in self.block(*args, **kwargs).json()["rows"]}

    def edited(self, **change):
        """Make an edit and keep the draft."""
        definition = apply_edit(self.dashboard.load_draft(), change)
        services.save_draft(self.analyst, self.dashboard, definition, "Season", self.dashboard.revision)
        self.dashboard.refresh_from_db()
