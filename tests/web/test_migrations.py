from __future__ import annotations

from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.test import TransactionTestCase


class Upgrading(TransactionTestCase):
    """Data of an earlier Veduta stays whole."""

    def tearDown(self) -> None:
        executor = MigrationExecutor(connection)
        executor.migrate(executor.loader.graph.leaf_nodes())

    def test_datasets_of_before_shaping_keep_the_fields_they_were_read_with(self):
        executor = MigrationExecutor(connection)
        executor.migrate([("datasets", "0001_initial")])
        fields = [{"id": "c1", "source": "port", "name": "Port", "kind": "text"}]
        before = executor.loader.project_state([("datasets", "0001_initial")]).apps.get_model("datasets", "Dataset")
        made = before.objects.create(name="Ports", fields=fields)
        executor = MigrationExecutor(connection)
        executor.migrate(executor.loader.graph.leaf_nodes())
        from veduta.web.datasets.models import Dataset

        dataset = Dataset.objects.get(pk=made.pk)
        self.assertEqual([field.name for field in dataset.all_taken_fields], ["Port"])
        self.assertEqual((dataset.steps, dataset.source, dataset.is_shaped), ({}, {}, False))

    def test_the_names_of_charts_become_their_titles(self):
        executor = MigrationExecutor(connection)
        before = [("charts", "0001_initial"), ("datasets", "0006_positions")]
        executor.migrate(before)
        apps = executor.loader.project_state(before).apps
        dataset = apps.get_model("datasets", "Dataset").objects.create(name="Ports")
        old = apps.get_model("charts", "Chart").objects
        named = old.create(dataset=dataset, name="Fares", definition={"dataset": "d"})
        both = old.create(dataset=dataset, name="Fares", definition={"dataset": "d", "title": "Fares of Tern"})
        neither = old.create(dataset=dataset, definition={"dataset": "d"})
        executor = MigrationExecutor(connection)
        executor.migrate(executor.loader.graph.leaf_nodes())
        from veduta.web.charts.models import Chart

        now = {each.pk: (each.name, each.definition.get("title", "")) for each in Chart.objects.all()}
        self.assertEqual(now[named.pk], ("Fares", "Fares"))
        self.assertEqual(now[both.pk], ("Fares of Tern", "Fares of Tern"))
        self.assertEqual(now[neither.pk], ("", ""))
