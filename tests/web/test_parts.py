from __future__ import annotations

import re

from django.conf import settings
from django.test import SimpleTestCase, override_settings

from tests.web.support import WebTest, page_of
from veduta.core.data.fields import DataType
from veduta.web.common.templatetags.veduta import choices, same

COTTON = settings.BASE_DIR / "veduta/web/templates/cotton"


class Parts(WebTest):
    def test_they_are_shown_to_developers_only(self):
        self.as_(self.analyst)
        self.assertEqual(self.look("parts").status_code, 404)
        with override_settings(DEBUG=True):
            self.assertContains(self.look("parts"), "Cannot be")

    def test_each_is_shown_but_for_what_needs_a_page_of_its_own(self):
        shown = set(re.findall(r"<c-([\w-]+)", (COTTON.parent / "pages/parts.html").read_text()))
        there = {path.stem.replace("_", "-") for path in COTTON.glob("*.html")}
        self.assertEqual(there - shown, {"popover", "model-edit"})

    def test_what_people_write_stays_text(self):
        self.make_dataset()
        self.as_(self.analyst)
        self.dataset.name = '"><script>alert(1)</script>'
        self.dataset.save()
        for name in ("data", "charts", "dataset", "model"):
            page = page_of(self.look(name, *([self.dataset.pk] if name in ("dataset", "model") else [])))
            self.assertNotIn("<script>alert(1)", page, name)


class Choices(SimpleTestCase):
    def test_of_text_pairs_values_and_things(self):
        self.assertEqual(choices("top=the highest;5"), [("top", "the highest"), ("5", "5")])
        self.assertEqual(choices(".=1,234.5;,=1.234,5"), [(".", "1,234.5"), (",", "1.234,5")])
        self.assertEqual(choices([("a", "A"), "b"]), [("a", "A"), ("b", "b")])
        self.assertEqual(choices([{"id": "n", "words": {"long": "N"}}], "id", "words.long"), [("n", "N")])
        self.assertEqual(choices([{"id": "n"}], "id"), [("n", "n")])

    def test_what_is_chosen_is_recognised_as_it_is_sent(self):
        for value, other in (("true", True), ("", None), ("3", 3), (DataType.TEXT, "text")):
            self.assertTrue(same(value, other) and same(other, value))
        self.assertFalse(same("false", True))
        self.assertFalse(same("0", None))
