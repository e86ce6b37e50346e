"""Where the blocks of a page stand, as CSS."""

from __future__ import annotations

from veduta.core.dashboard.definition import Block, Page

WIDE = "@media (min-width: 48.01rem), print"
"""Screens on which a page is as it was laid out; on narrower ones its blocks follow each other."""


def styles_of(page: Page) -> str:
    rules = [f"#block-{block.id} {{ {_place(page, order, block)} }}" for order, block in enumerate(page.blocks)]
    if page.kind == "fixed":
        rules.append(f"#board {{ width: {page.width}px; height: {page.height}px }}")
    return f"{WIDE} {{ {' '.join(rules)} }}"


def _place(page: Page, order: int, block: Block) -> str:
    if page.kind == "fixed":
        where = f"left: {block.x}px; top: {block.y}px; width: {block.w}px; height: {block.h}px"
        return f"position: absolute; {where}; z-index: {order + 1}"
    return f"grid-column: {block.x + 1} / span {block.w}; grid-row: {block.y + 1} / span {block.h}"
