"""SVG files are made safe: what draws stays, what runs, loads or leads elsewhere goes."""

import unittest

from veduta.core.data.svg import clean_svg
from veduta.core.errors import FileProblem

OPEN = '<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink" viewBox="0 0 9 9">'


def cleaned(inner, opened=OPEN):
    return clean_svg(f"{opened}{inner}</svg>".encode()).decode()


class Safe(unittest.TestCase):
    def test_what_draws_stays(self):
        drawn = (
            '<defs><linearGradient id="a"><stop offset="1"/></linearGradient></defs><path d="M0 0h9" fill="url(#a)"/>'
        )
        text = cleaned(drawn + '<text x="1">Gannet</text><use href="#a"/>')
        for part in ("linearGradient", 'd="M0 0h9"', "url(#a)", ">Gannet<", 'href="#a"', 'viewBox="0 0 9 9"'):
            self.assertIn(part, text)

    def test_what_runs_or_leads_elsewhere_goes(self):
        for inner in (
            "<script>alert(1)</script>",
            '<script href="https://quay.example/x.js"/>',
            '<rect onload="alert(1)" OnClick="alert(1)"/>',
            '<a href="javascript:alert(1)"><rect/></a>',
            '<use href="https://quay.example/x.svg#a"/>',
            '<image xlink:href="https://quay.example/x.png"/>',
            '<image href="data:image/svg+xml;base64,PHN2Zz4="/>',
            '<rect fill="url(https://quay.example/x)"/>',
            '<rect style="background:url(//quay.example/x)"/>',
            "<style>@import 'https://quay.example/x.css'</style>",
            '<foreignObject><body xmlns="http://www.w3.org/1999/xhtml">alert</body></foreignObject>',
            '<animate attributeName="href" to="javascript:alert(1)"/>',
            '<set attributeName="onmouseover" to="alert(1)"/>',
        ):
            with self.subTest(inner):
                text = cleaned(inner)
                self.assertNotRegex(text, r"(?i)alert|quay|script|data:image/svg|animate|import")

    def test_what_is_none_is_told(self):
        for content in (
            b"",
            b"<svg",
            b"<html></html>",
            b"\x89PNG\r\n\x1a\n",
            b'<!DOCTYPE svg [<!ENTITY a "b">]><svg xmlns="http://www.w3.org/2000/svg">&a;</svg>',
            f"{OPEN}{'<g>' * 300}{'</g>' * 300}</svg>".encode(),
        ):
            with self.subTest(content[:40]), self.assertRaises(FileProblem):
                clean_svg(content)

    def test_a_style_becomes_the_attributes_that_say_the_same(self):
        styled = "fill:#0B5D62; stroke-width: 2 !important;position:fixed;mask:url(//quay.example/x);filter:url(#a)"
        text = cleaned(f'<rect style="{styled}"/>')
        self.assertRegex(text, r'<rect fill="#0B5D62" stroke-width="2" filter="url\(#a\)" ?/>')

    def test_nesting_without_an_end_is_refused_on_the_way(self):
        deep = f"{OPEN}{'<g>' * 400_000}".encode()  # never closed: it is not even read to its end
        with self.assertRaisesRegex(FileProblem, "nested too deeply"):
            clean_svg(deep)
        with self.assertRaisesRegex(FileProblem, "more than 50,000 parts"):
            clean_svg(f"{OPEN}{'<g/>' * 60_000}</svg>".encode())
