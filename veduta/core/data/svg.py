"""SVG files made safe: only what draws is kept, nothing that runs, links or loads."""

from __future__ import annotations

import re
from typing import Final
from xml.etree import ElementTree

from veduta.core.errors import FileProblem

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
DEEPEST = 200


def safe_svg(content: bytes) -> bytes:
    """An SVG file without scripts, handlers, styles of its own, foreign content and links out of it. Raises FileProblem
    for what is no SVG, or declares entities."""
    if re.search(rb"<!(DOCTYPE|ENTITY)", content, re.IGNORECASE):
        raise FileProblem("The SVG declares a document type.", hint="Save it as plain SVG, and bring that in.")
    try:
        root = ElementTree.fromstring(content)
    except (ElementTree.ParseError, ValueError, LookupError):
        raise FileProblem("The SVG cannot be read.", hint="Open it in a drawing program and save it again.") from None
    if root.tag != f"{{{SVG}}}svg":
        raise FileProblem("The file is no SVG.", hint="Save the picture as SVG, PNG, JPEG or WebP.")
    _clean(root, 0)
    ElementTree.register_namespace("", SVG)
    ElementTree.register_namespace("xlink", XLINK)
    return ElementTree.tostring(root, encoding="unicode").encode()


def _clean(element: ElementTree.Element, depth: int) -> None:
    if depth > DEEPEST:
        raise FileProblem("The SVG is nested too deeply.", hint="Save it as plain SVG, and bring that in.")
    for name, value in list(element.attrib.items()):
        if not _may_stay(name, value):
            del element.attrib[name]
    for child in list(element):
        if isinstance(child.tag, str) and child.tag.startswith(f"{{{SVG}}}") and child.tag[len(SVG) + 2 :] in ELEMENTS:
            _clean(child, depth + 1)
        else:
            element.remove(child)


def _may_stay(name: str, value: str) -> bool:
    if name in HREF:
        return bool(INNER_LINK.fullmatch(value.strip()))
    if name.startswith("{"):  # of other vocabularies
        return name == "{http://www.w3.org/XML/1998/namespace}space"
    return not name.lower().startswith("on") and not LOADS.search(value)
