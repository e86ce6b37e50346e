"""Draws a demo chart of each kind on the server, from its downloaded specification, into docs/gallery: `make gallery`.

So it is seen that a specification draws the same outside of Veduta."""

from __future__ import annotations

import atexit
import json
import shutil
import tempfile
from pathlib import Path
from typing import Any

import vl_convert
from playwright.sync_api import Page

from tests.browser.support import browser, prepare_demo, start_server
from veduta.core.chart.kinds import CHART_KINDS, THEMES
from veduta.demo import PASSWORD

FOLDER = Path(__file__).parents[1] / "docs" / "gallery"
SIZES = {"width": 460, "height": 260}
HEAD = """# Gallery

A demo chart of each kind that the chart grammar draws, drawn on the server (`make gallery`) from the specification that
Veduta gives as a download, without the page's scripts and in a font that every machine has. Tables, figures and words
are HTML, and not here.
"""


def specifications(page: Page, server: str) -> dict[str, dict[str, Any]]:
    """The downloads of the demo's charts, the first of each kind, by kind."""
    page.goto(f"{server}/charts/")
    links = page.locator("main tbody td a.link[href^='/charts/']").all()
    found: dict[str, dict[str, Any]] = {}
    for address in [link.get_attribute("href") for link in links]:
        page.goto(f"{server}{address}")
        definition = json.loads(page.locator("#start").text_content() or "{}")["definition"]
        kind = definition["kind"] or ""
        if kind and kind not in found:
            token = next(each["value"] for each in page.context.cookies() if each["name"] == "csrftoken")
            form = {"definition": json.dumps(definition), "csrfmiddlewaretoken": token}
            answer = page.request.post(f"{server}{address}specification.json", form=form, headers={"Referer": server})
            if answer.ok:
                found[kind] = answer.json()
    return found


def drawn(spec: dict[str, Any]) -> bytes:
    """A specification as a picture, in a font that is there everywhere."""
    spec = json.loads(json.dumps(spec).replace("Archivo", "sans-serif"))
    sizes = {name: size for name, size in SIZES.items() if isinstance(spec.get(name), int)}
    png: bytes = vl_convert.vegalite_to_png({**spec, **sizes}, scale=1)
    return png


def main() -> None:
    FOLDER.mkdir(exist_ok=True)
    folder = tempfile.mkdtemp(prefix="veduta-gallery-")
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    prepare_demo(Path(folder), rows="20000")
    server = start_server(Path(folder))
    page = browser().new_page()
    page.goto(f"{server}/sign-in/")
    page.fill("[name=username]", "analyst")
    page.fill("[name=password]", PASSWORD)
    page.keyboard.press("Enter")
    page.wait_for_url(f"{server}/")
    found = specifications(page, server)
    parts = [HEAD]
    for theme in THEMES:
        kinds = [kind for kind in CHART_KINDS.values() if kind.theme == theme and kind.name in found]
        parts += [f"## {theme}\n"] if kinds else []
        for kind in sorted(kinds, key=lambda each: each.title):
            (FOLDER / f"{kind.name}.png").write_bytes(drawn(found[kind.name]))
            title = kind.title[0].upper() + kind.title[1:]
            parts.append(f"**{title}.** {kind.use}\n\n![{found[kind.name]['title']}]({FOLDER.name}/{kind.name}.png)\n")
    (FOLDER.parent / "gallery.md").write_text("\n".join(parts))


if __name__ == "__main__":
    main()
