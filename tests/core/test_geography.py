"""Shapes: what is read, mended, simplified and refused, and which names mean them."""

from __future__ import annotations

import json
import math
import unittest

import shapely
from hypothesis import given
from hypothesis import strategies as st
from shapely.geometry import shape as geometry_of

from veduta.core.errors import FileProblem
from veduta.core.geography.matching import find_likely, match_names
from veduta.core.geography.projection import choose_projection
from veduta.core.geography.shapes import MOST_POINTS, Shapes, build_shapes, read_shapes
from veduta.core.geography.topology import iterate_features
from veduta.demo.islands import generate_islands, generate_sea_areas

SQUARE = [[0, 50], [0, 51], [1, 51], [1, 50], [0, 50]]
TOPOLOGY = {
    "type": "Topology",
    "transform": {"scale": [0.5, 0.25], "translate": [10, 50]},
    "arcs": [[[0, 0], [2, 0]], [[2, 0], [0, 4], [-2, 0], [0, -4]], [[2, 0], [2, 0], [0, 4], [-2, 0]], [[2, 0], [0, 4]]],
    "objects": {
        "sounds": {
            "type": "GeometryCollection",
            "geometries": [
                {"type": "Polygon", "properties": {"name": "Inner Sound"}, "arcs": [[0, 1]]},
                {"type": "MultiPolygon", "id": "Outer", "arcs": [[[2, -4]]]},
            ],
        }
    },
}


def collection(*geometries: dict, **properties) -> bytes:
    features = [{"type": "Feature", "properties": properties, "geometry": each} for each in geometries]
    return json.dumps({"type": "FeatureCollection", "features": features}).encode()


def polygon(*rings: list) -> dict:
    return {"type": "Polygon", "coordinates": list(rings)}


def named(*keys: str, **aliases: str) -> Shapes:
    outline = polygon(SQUARE)
    return build_shapes("Shapes", [{"name": key} for key in keys], [outline] * len(keys), "name", aliases=aliases)


class ReadingShapes(unittest.TestCase):
    def test_all_that_geojson_holds_areas_in(self):
        feature = {"type": "Feature", "properties": {"name": "Ash"}, "geometry": polygon(SQUARE)}
        for data in (
            {"type": "FeatureCollection", "features": [feature]},
            feature,
            polygon(SQUARE),
            {"type": "GeometryCollection", "geometries": [polygon(SQUARE)]},
            {"type": "MultiPolygon", "coordinates": [[SQUARE]]},
        ):
            with self.subTest(type=data["type"]):
                read = read_shapes(json.dumps(data).encode())
                self.assertAlmostEqual(geometry_of(read.geometries[0]).area, 1)

    def test_outer_rings_are_clockwise_and_holes_stay(self):
        hole = [[0.4, 50.4], [0.6, 50.4], [0.6, 50.6], [0.4, 50.6], [0.4, 50.4]]
        for outer in (SQUARE, SQUARE[::-1]):
            for inner in (hole, hole[::-1]):
                (made,) = read_shapes(collection(polygon(outer, inner))).geometries
                rings = [shapely.LinearRing(ring) for ring in made["coordinates"]]
                self.assertEqual([ring.is_ccw for ring in rings], [False, True])
                self.assertAlmostEqual(geometry_of(made).area, 0.96)

    def test_topology_is_what_its_arcs_say(self):
        inner, outer = iterate_features(TOPOLOGY)
        self.assertEqual(inner["properties"], {"name": "Inner Sound"})
        self.assertEqual(geometry_of(inner["geometry"]).bounds, (10, 50, 11, 51))
        self.assertEqual(geometry_of(outer["geometry"]).bounds, (11, 50, 12, 51))
        read = read_shapes(json.dumps(TOPOLOGY).encode())
        self.assertEqual(read.properties, [{"name": "Inner Sound"}, {"id": "Outer"}])

    def test_broken_outlines_are_mended_or_left_out_and_said(self):
        bow = [[0, 50], [1, 51], [1, 50], [0, 51], [0, 50]]
        point = {"type": "Point", "coordinates": [0, 50]}
        read = read_shapes(collection(polygon(bow), point, polygon([[0, 50], [1, 51]]), polygon(SQUARE)))
        self.assertEqual(len(read.geometries), 2)
        self.assertTrue(all(geometry_of(each).is_valid for each in read.geometries))
        self.assertEqual(
            read.notes,
            [
                "1 shape was not an area, and left out.",
                "1 shape was broken, and left out.",
                "1 shape was mended: its outline crossed itself.",
            ],
        )

    def test_what_is_none_is_refused_with_what_to_do(self):
        cases = {
            b"port,region": "This is not JSON",
            b"[1, 2]": "neither GeoJSON nor TopoJSON",
            b'{"type": "Topology"}': "neither GeoJSON nor TopoJSON",
            b'{"type": "FeatureCollection", "features": [3]}': "neither GeoJSON nor TopoJSON",
            b'{"type": "FeatureCollection", "features": []}': "The file has no areas",
            collection({"type": "Point", "coordinates": [1, 2]}): "The file has no areas",
            collection(polygon([[x * 1e5, y * 1e5] for x, y in SQUARE])): "Its numbers are not degrees",
        }
        for data, message in cases.items():
            with self.subTest(data), self.assertRaisesRegex(FileProblem, message):
                read_shapes(data)

    @given(
        st.recursive(
            st.none() | st.integers() | st.text(),
            lambda inner: (
                st.lists(inner)
                | st.dictionaries(
                    st.sampled_from(["type", "features", "geometry", "coordinates", "arcs", "objects"]), inner
                )
            ),
        )
    )
    def test_nonsense_never_gets_further_than_a_message(self, data):
        for inside in (data, {"type": "FeatureCollection", "features": data}, {"type": "Polygon", "coordinates": data}):
            with self.assertRaises(FileProblem):
                read_shapes(json.dumps(inside).encode())

    def test_many_points_are_thinned_and_borders_stay_shared(self):
        across = [[0.5 + 0.01 * math.sin(n / 7), 50 + n / 20_000] for n in range(20_001)]
        left = [[0, 50], *across, [0, 51], [0, 50]]
        right = [[1, 50], [1, 51], *across[::-1], [1, 50]]
        read = read_shapes(collection(polygon(left), polygon(right)))
        first, second = (geometry_of(each) for each in read.geometries)
        self.assertLessEqual(shapely.get_num_coordinates(first) + shapely.get_num_coordinates(second), MOST_POINTS)
        self.assertAlmostEqual(first.union(second).area, 1, places=4)
        self.assertAlmostEqual(first.intersection(second).area, 0, places=6)
        self.assertIn("Outlines were simplified from", read.notes[0])

    def test_the_property_that_tells_areas_apart_is_offered_first(self):
        read = read_shapes(json.dumps(generate_islands()).encode())
        self.assertEqual(read.names, ["island", "region"])

    def test_shapes_of_one_name_are_one_area(self):
        read = read_shapes(json.dumps(generate_islands()).encode())
        regions = build_shapes("Regions", read.properties, read.geometries, "region")
        self.assertEqual(sorted(regions.keys), ["Inner Sound", "North Reach", "Outer Skerries", "South Banks"])
        alone = build_shapes("Islands", read.properties, read.geometries, "island")
        whole = shapely.union_all([geometry_of(area.geometry) for area in alone.areas])
        self.assertAlmostEqual(sum(area.size for area in regions.areas), whole.area, places=6)
        for area in regions.areas:
            self.assertTrue(geometry_of(area.geometry).contains(shapely.Point(area.middle)))
        with self.assertRaisesRegex(FileProblem, "No shape has a “country”"):
            build_shapes("Islands", read.properties, read.geometries, "country")

    def test_the_demos_sea_areas_touch_without_overlap(self):
        outlines = [geometry_of(each["geometry"]) for each in generate_sea_areas()["features"]]
        together = shapely.union_all(outlines)
        self.assertAlmostEqual(together.area, sum(each.area for each in outlines), places=4)
        self.assertEqual(together.geom_type, "Polygon")


class MatchingNames(unittest.TestCase):
    def test_names_mean_keys_however_they_are_written(self):
        shapes = named("Île d'Ash", "Kelda-Rock", "Quay")
        found = match_names(["ILE D’ASH", "Kelda Rock", " quay ", "Quai"], shapes)
        self.assertEqual(found.areas, {"ILE D’ASH": "Île d'Ash", "Kelda Rock": "Kelda-Rock", " quay ": "Quay"})
        self.assertEqual((found.unmatched, found.unused, found.share), (("Quai",), (), 0.75))

    def test_a_name_that_two_keys_are_like_means_neither(self):
        self.assertEqual(match_names(["ash isle"], named("Ash Isle", "Ash-Isle")).unmatched, ("ash isle",))
        self.assertEqual(match_names(["Ash Isle"], named("Ash Isle", "Ash-Isle")).areas, {"Ash Isle": "Ash Isle"})

    def test_what_was_said_counts_while_its_area_is_there(self):
        self.assertEqual(match_names(["Stage"], named("Quay", Stage="Quay")).areas, {"Stage": "Quay"})
        self.assertEqual(match_names(["Stage"], named("Harrow", Stage="Quay")).unmatched, ("Stage",))

    def test_likely_names_are_offered_others_not(self):
        keys = ["Gull Bk.", "Stackpoint", "Ash, Isle of"]
        said = {name: find_likely(name, keys) for name in ("Gull Bank", "Stack Point", "Isle of Ash", "Merrin")}
        self.assertEqual(
            said, {"Gull Bank": "Gull Bk.", "Stack Point": "Stackpoint", "Isle of Ash": "Ash, Isle of", "Merrin": ""}
        )


class Projections(unittest.TestCase):
    def test_the_projection_suits_the_extent(self):
        cases = {
            (-180, -60, 180, 80): "equalEarth",
            (-5.3, 57.5, -2.1, 59.7): "mercator",
            (-10, 35, 30, 60): "conicEqualArea",
            (-80, -55, -35, 12): "equalEarth",
            (-60, 60, -10, 84): "azimuthalEqualArea",
        }
        for box, expected in cases.items():
            with self.subTest(box):
                self.assertEqual(choose_projection(box)["type"], expected)


if __name__ == "__main__":
    unittest.main()
