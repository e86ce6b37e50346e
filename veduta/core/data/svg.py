"""SVG files made safe: only what draws is kept, nothing that runs, links or loads."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any, Final, cast
from xml.etree import ElementTree

from veduta.core.errors import FileProblem
from veduta.core.phrases import split_words

SVG: Final = "http://www.w3.org/2000/svg"
XLINK: Final = "http://www.w3.org/1999/xlink"
DRAWN: Final = """
    svg g defs symbol use title desc path rect circle ellipse line polyline polygon text tspan textPath image
    linearGradient radialGradient stop clipPath mask pattern marker filter feGaussianBlur feOffset feBlend
    feFlood feComposite feMerge feMergeNode feColorMatrix feDropShadow switch
"""
ELEMENTS: Final = frozenset(DRAWN.split())
"""Those of the SVG standard that draw."""
HREF: Final = ("href", f"{{{XLINK}}}href")
INNER_LINK = re.compile(r"#[\w.:-]+|data:image/(png|jpeg|webp);base64,[A-Za-z0-9+/=\s]+")
"""What may be referred to: other parts of the file, and pictures in it."""
LOADS = re.compile(r"url\(\s*['\"]?(?!['\"]?#)|expression|javascript:|@import", re.IGNORECASE)
DEEPEST, MOST_ELEMENTS = 200, 50_000
PIECE = 64 * 1024
"""Bytes that are read before it is looked how deep and how many the elements are."""
PAINTED: Final = split_words(
    "fill fill-opacity fill-rule stroke stroke-width stroke-opacity stroke-linecap stroke-linejoin stroke-dasharray"
    " stroke-dashoffset stroke-miterlimit opacity stop-color stop-opacity font-family font-size font-weight font-style"
    " text-anchor dominant-baseline letter-spacing display visibility clip-path clip-rule mask filter color"
)
"""Properties of a style that SVG has as attributes, too."""


def clean_svg(content: bytes) -> bytes:
    """An SVG file without scripts, handlers, styles of its own, foreign content and links out of it.

    Raises FileProblem for what is no SVG, or declares entities."""
    if re.search(rb"<!(DOCTYPE|ENTITY)", content, re.IGNORECASE):
        raise FileProblem("The SVG declares a document type.", hint="Save it as plain SVG, and bring that in.")
    try:
        root = _parse(content)
    except (ElementTree.ParseError, ValueError, LookupError):
        raise FileProblem("The SVG cannot be read.", hint="Open it in a drawing program and save it again.") from None
    if root.tag != f"{{{SVG}}}svg":
        raise FileProblem("The file is no SVG.", hint="Save the picture as SVG, PNG, JPEG or WebP.")
    _clean(root)
    ElementTree.register_namespace("", SVG)
    ElementTree.register_namespace("xlink", XLINK)
    return ElementTree.tostring(root, encoding="unicode").encode()


def _parse(content: bytes) -> ElementTree.Element:
    """The elements of an SVG file, parsed in chunks.

    A file that is nested too deeply or has too many elements is refused on the way, since building it alone would take
    seconds."""
    parser: Any = ElementTree.XMLPullParser(("start", "end"))
    depth, count = 0, 0
    root: ElementTree.Element | None = None
    for start in range(0, len(content), PIECE):
        parser.feed(content[start : start + PIECE])
        events = cast("Iterator[tuple[str, ElementTree.Element]]", parser.read_events())
        for event, element in events:
            root = element if root is None else root
            depth += 1 if event == "start" else -1
            count += event == "start"
            if depth > DEEPEST:
                raise FileProblem("The SVG is nested too deeply.", hint="Save it as plain SVG, and bring that in.")
            if count > MOST_ELEMENTS:
                raise FileProblem(f"The SVG has more than {MOST_ELEMENTS:,} parts.", hint="Save it as PNG.")
    parser.close()
    if root is None:
        raise ElementTree.ParseError("there is nothing in it")
    return root


def _clean(element: ElementTree.Element) -> None:
    style = element.attrib.pop("style", "")
    for name, value in (each.partition(":")[::2] for each in style.split(";")):
        # What is only about paint stays, as the attribute that says the same.
        if name.strip() in PAINTED:
            element.attrib[name.strip()] = value.partition("!")[0].strip()
    for name, value in list(element.attrib.items()):
        if not _may_stay(name, value):
            del element.attrib[name]
    for child in list(element):
        if isinstance(child.tag, str) and child.tag.startswith(f"{{{SVG}}}") and child.tag[len(SVG) + 2 :] in ELEMENTS:
            _clean(child)
        else:
            element.remove(child)


def _may_stay(name: str, value: str) -> bool:
    if name in HREF:
        return bool(INNER_LINK.fullmatch(value.strip()))
    if name.startswith("{"):  # of other vocabularies
        return name == "{http://www.w3.org/XML/1998/namespace}space"
    return not name.lower().startswith("on") and not LOADS.search(value)
