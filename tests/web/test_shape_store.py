"""Shapes for maps: brought in, named, matched with the values of fields, and taken away."""

from __future__ import annotations

import json

from tests.web.support import WebTest, import_now
from veduta.demo.islands import generate_islands, generate_sea_areas
from veduta.web.datasets.models import ShapeSet

REGIONS = json.dumps(generate_sea_areas()).encode()


class Atlas(WebTest):
    @classmethod
    def setUpTestData(cls):
        super().setUpTestData()
        cls.make_dataset()
        cls.region = cls.ids["region"]

    def setUp(self):
        super().setUp()
        self.as_(self.analyst)

    def bring(self, data: bytes = REGIONS, name: str = "sea_areas.geojson"):
        headers = {"X-Veduta": "1", "X-File-Name": name}
        return self.client.post("/data/shapes/receive/", data, content_type="application/octet-stream", headers=headers)

    def brought(self, *arguments) -> ShapeSet:
        self.assertEqual(self.bring(*arguments).status_code, 200)
        return ShapeSet.objects.get()

    def use(self, shapes: ShapeSet, used: str = "yes"):
        sent = {"dataset": self.dataset.pk, "field": self.region, "used": used}
        return self.client.post(f"/data/shapes/{shapes.pk}/use/", sent)

    def shapes_of_region(self) -> str:
        self.dataset.refresh_from_db()
        return next(field for field in self.dataset.all_fields if field.id == self.region).shapes

    def test_a_file_becomes_shapes_with_a_name_and_a_picture(self):
        shapes = self.brought()
        self.assertEqual((shapes.name, shapes.key), ("Sea areas", "region"))
        self.assertContains(self.look("atlas-shapes", shapes.pk), "4 areas, read from sea_areas.geojson")
        self.assertContains(self.look("atlas"), "Sea areas")

    def test_a_file_that_is_none_says_why_and_leaves_nothing(self):
        for data in (b"port,region\nQuay,Inner Sound", b"{}", b""):
            answer = self.bring(data)
            self.assertEqual(answer.status_code, 422)
            self.assertTrue(answer.json()["message"])
        self.assertFalse(ShapeSet.objects.exists())

    def test_areas_are_named_by_another_property(self):
        shapes = self.brought(json.dumps(generate_islands()).encode(), "islands.geojson")
        self.assertContains(self.look("atlas-shapes", shapes.pk), "16 areas")
        self.ask("atlas-change", shapes.pk, data={"name": "Regions", "key": "region"})
        shapes.refresh_from_db()
        self.assertEqual(shapes.name, "Regions")
        self.assertContains(self.look("atlas-shapes", shapes.pk), "4 areas")
        answer = self.ask("atlas-change", shapes.pk, data={"name": "Regions", "key": "country"})
        self.assertEqual(answer.status_code, 422)

    def test_a_field_that_names_them_is_offered_used_and_drawn(self):
        shapes = self.brought()
        self.assertContains(self.look("atlas-shapes", shapes.pk), 'aria-label="Use it: Region of')
        self.assertEqual(self.use(shapes).status_code, 302)
        self.assertEqual(self.shapes_of_region(), str(shapes.pk))
        chart = self.make_chart(kind="areas", by=[self.region])
        data = self.ask("chart-answer", chart.pk, data={"definition": chart.definition}).json()["chart"]
        self.assertEqual(data["kind"], "areas")
        self.assertEqual(
            {mark["area"]: mark["value"] for mark in data["rows"]},
            {"North Reach": 3, "Inner Sound": 1, "South Banks": 1},
        )

    def test_names_spelt_otherwise_are_told_and_forgotten(self):
        shapes = self.brought(REGIONS.replace(b"North Reach", b"Reach to the north"))
        self.use(shapes)
        self.assertContains(self.look("atlas-shapes", shapes.pk), "2 of 3 names mean an area")
        names = {"0": {"name": "North Reach", "key": "Reach to the north"}, "1": {"name": "Quay", "key": "Nowhere"}}
        self.ask("atlas-spell", shapes.pk, data={"names": names})
        shapes.refresh_from_db()
        self.assertEqual(shapes.aliases, {"North Reach": "Reach to the north"})
        self.assertContains(self.look("atlas-shapes", shapes.pk), "3 of 3 names mean an area")
        self.ask("atlas-spell", shapes.pk, data={"names": [{"name": "North Reach", "key": ""}]})
        shapes.refresh_from_db()
        self.assertEqual(shapes.aliases, {})

    def test_shapes_in_use_are_not_taken_away(self):
        shapes = self.brought()
        self.use(shapes)
        self.client.post(f"/data/shapes/{shapes.pk}/delete/")
        self.assertTrue(ShapeSet.objects.exists())
        self.use(shapes, "")
        self.assertEqual(self.shapes_of_region(), "")
        self.client.post(f"/data/shapes/{shapes.pk}/delete/")
        self.assertFalse(ShapeSet.objects.exists())

    def test_degrees_are_found_in_a_file(self):
        ports = "port,lat,lng,late\nQuay,58.39,-2.79,3\nHarrow,58.92,-3.41,95\n"
        there = {field.name: field.place for field in import_now(self.analyst, ports, "ports.csv").all_fields}
        self.assertEqual(there, {"Port": "", "Lat": "latitude", "Lng": "longitude", "Late": ""})
