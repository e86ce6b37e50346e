from __future__ import annotations

from django.core.management import call_command
from django.db.migrations.recorder import MigrationRecorder
from django.test import TestCase

from veduta.web.common.checks import check_all_or_none_squashed


class Migrations(TestCase):
    def record(self, app: str, *names: str) -> list[str]:
        """What the check says of a database that has these of an app, in the place of the squashed one."""
        recorded = MigrationRecorder.Migration.objects.filter(app=app)
        recorded.delete()
        for name in names:
            MigrationRecorder.Migration.objects.create(app=app, name=name)
        return [problem.msg for problem in check_all_or_none_squashed(["default"])]

    def test_every_change_of_a_model_has_one(self):
        call_command("makemigrations", check_changes=True, dry_run=True, verbosity=0)

    def test_a_database_that_is_half_way_is_refused(self):
        every = ("0001_initial", "0002_user_attributes", "0003_deeds")
        self.assertEqual(self.record("accounts", "0001_squashed"), [])
        self.assertEqual(self.record("accounts", *every), [])
        self.assertEqual(self.record("accounts"), [])
        [said] = self.record("accounts", *every[:1])
        self.assertIn("“accounts” lacks 0002_user_attributes, 0003_deeds", said)
