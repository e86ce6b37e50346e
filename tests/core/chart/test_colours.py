import itertools
import unittest

import numpy as np

from veduta.core.chart.palettes import SERIES_COLOURS
from veduta.core.chart.theme import DARK_COLOURS

# How colours look to readers without one kind of cone: Machado, Oliveira, Fernandes (2009), severity 1.
SEEN_BY = {
    "protan": [[0.152286, 1.052583, -0.204868], [0.114503, 0.786281, 0.099216], [-0.003882, -0.048116, 1.051998]],
    "deutan": [[0.367322, 0.860646, -0.227968], [0.280085, 0.672501, 0.047413], [-0.011820, 0.042940, 0.968881]],
    "tritan": [[1.255528, -0.076749, -0.178779], [-0.078411, 0.930809, 0.147602], [0.004733, 0.691367, 0.303900]],
}
TO_XYZ = np.array([[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]])
WHITE = np.array([0.95047, 1.0, 1.08883])


def lab(colour: str, seen_by: list) -> np.ndarray:
    """A colour in CIE L*a*b* as a reader sees it."""
    srgb = np.array([int(colour[i : i + 2], 16) for i in (1, 3, 5)]) / 255
    linear = np.where(srgb <= 0.04045, srgb / 12.92, ((srgb + 0.055) / 1.055) ** 2.4)
    xyz = TO_XYZ @ np.clip(np.array(seen_by) @ linear, 0, 1) / WHITE
    f = np.where(xyz > 0.008856, np.cbrt(xyz), 7.787 * xyz + 16 / 116)
    return np.array([116 * f[1] - 16, 500 * (f[0] - f[1]), 200 * (f[1] - f[2])])


GROUNDS = {"#FFFFFF": SERIES_COLOURS, "#172327": DARK_COLOURS}


def luminance(colour: str) -> float:
    """Relative luminance, as WCAG 2.2 defines it."""
    srgb = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
    red, green, blue = (part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4 for part in srgb)
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


class Colours(unittest.TestCase):
    def test_each_stands_out_from_the_ground(self):
        for ground, colours in GROUNDS.items():
            for colour in colours:
                darker, lighter = sorted((luminance(ground), luminance(colour)))
                with self.subTest(ground=ground, colour=colour):
                    self.assertGreaterEqual((lighter + 0.05) / (darker + 0.05), 3)

    def test_series_can_be_told_apart_by_colour_blind_readers_in_both_themes(self):
        for colours, (reader, matrix) in itertools.product((SERIES_COLOURS, DARK_COLOURS), SEEN_BY.items()):
            seen = {colour: lab(colour, matrix) for colour in colours}
            for a, b in itertools.combinations(colours, 2):
                with self.subTest(reader=reader, pair=(a, b)):
                    self.assertGreater(np.linalg.norm(seen[a] - seen[b]), 11)
