"""Where the blocks of a page stand and on which grounds, as CSS."""

from __future__ import annotations

from veduta.core.chart.palettes import Paints
from veduta.core.dashboard.backgrounds import PageGround, choose_page_tones
from veduta.core.dashboard.block_looks import LIGHT_MUTED, make_ground_look
from veduta.core.dashboard.definition import DashboardBlock, DashboardDefinition, Page
from veduta.core.dashboard.grid import ROW
from veduta.core.dashboard.mobile_layout import arrange_blocks
from veduta.web.images.services import find_published, get_pictures

WIDE, NARROW = "@media (min-width: 48.01rem), print", "@media screen and (max-width: 48rem)"
"""Screens on which a page is as it was laid out; on narrower ones its blocks follow each other."""
INNER = {"small": "7px 9px 6px", "large": "22px 26px 18px"}
"""From the edges of blocks to what is in them."""


def write_page_styles(page: Page, paints: Paints) -> str:
    rules = [f"#block-{block.id} {{ {_place(page, order, block)} }}" for order, block in enumerate(page.blocks)]
    if page.kind == "fixed":
        rules.append(f"#board {{ width: {page.width}px; height: {page.height}px }}")
    return (
        f"{WIDE} {{ {' '.join(rules)} }} {NARROW} {{ {_narrow_rules(page)} }} {write_background_styles(page, paints)}"
    )


def _narrow_rules(page: Page) -> str:
    """The order of the blocks on a narrow screen, in each group its own; which are hidden, and how high others are."""
    rules = []
    for place, block in enumerate(arrange_blocks([block.id for block in page.in_reading_order], page.narrow)):
        height = f"; height: {block.height}px; min-height: 0" if block.height else ""
        rules.append(f"#block-{block.id} {{ {'display: none' if block.hidden else f'order: {place}{height}'} }}")
    return " ".join(rules)


def write_background_styles(page: Page, paints: Paints) -> str:
    """The grounds and borders of a page and of its blocks, which they have on every screen, and its distances."""
    place = f'[data-ground-of="{page.id}"]'
    rules = [f"{place} {{ {_write_background(page.ground, paints)} }}"]
    if page.narrow.ground:
        rules.append(f"{NARROW} {{ {place} {{ {_write_background(page.narrow.ground, paints)} }} }}")
    if page.kind == "flowing":
        widest = f"max-width: {page.widest}px; margin-inline: auto" if page.widest else "max-width: none"
        rules.append(f"{place} #board {{ gap: {page.gap}px; grid-auto-rows: {ROW - page.gap}px; {widest} }}")
    if page.inner:
        rules.append(f"{WIDE} {{ {place} .board-block:not(.block-group) {{ padding: {INNER[page.inner]} }} }}")
    looks = {block.id: _look(block, paints) for block in page.blocks}
    rules += [f"#block-{name} {{ {look} }}" for name, look in looks.items() if look]
    return " ".join(rules)


def _write_background(ground: PageGround, paints: Paints) -> str:
    """A ground as CSS; a picture that is gone is left out."""
    if ground.is_usual:
        return "background: none"
    light, dark = choose_page_tones(ground, paints)
    tone = f"light-dark({light}, {dark})"
    picture = find_published(ground.picture_kept, "") or get_pictures([ground.picture]).get(ground.picture.casefold())
    if not ground.picture or picture is None:
        return f"background: {tone}"
    over = f"color-mix(in srgb, {tone} {ground.fade}%, transparent)"
    size = "cover" if ground.lies == "cover" else "contain" if ground.lies == "once" else "auto"
    repeat = "repeat" if ground.lies == "repeat" else "no-repeat"
    below = f'url("{picture.address}") {ground.position} / {size} {repeat}'
    return f"background: linear-gradient({over}, {over}), {below}, {tone}"


def _look(block: DashboardBlock, paints: Paints) -> str:
    rules = []
    if block.look.ground == "none":
        rules.append("background: none")
    elif block.look.ground:
        ground = make_ground_look(block.look.ground, paints)
        rules.append(f"background: light-dark({ground.light}, {ground.dark}); color: var(--color-ink)")
    if block.look.border == "none":
        rules.append("box-shadow: none")
    elif block.look.border == "line":
        rules.append("box-shadow: inset 0 0 0 2px var(--color-ink)")
    return "; ".join(rules)


def write_print_styles(definition: DashboardDefinition, page: Page, latest: str) -> str:
    """The sheets of a dashboard's paper, with what is on each of them, and where new ones begin."""
    paper = definition.paper
    across, down = paper.mm
    boxes = {"top-left": paper.header, "bottom-left": paper.footer}
    said = [
        f"@{place} {{ content: {_quote(words, page, latest)}; font: 8pt Archivo, sans-serif; color: {LIGHT_MUTED} }}"
        for place, words in boxes.items()
        if words
    ]
    number = 'content: counter(page) " of " counter(pages)'
    said.append(f"@bottom-right {{ {number}; font: 8pt Archivo, sans-serif; color: {LIGHT_MUTED} }}")
    sheet = f"@page {{ size: {across}mm {down}mm; margin: {paper.margin}mm; {' '.join(said)} }}"
    there = [block.id for block in page.blocks]
    rules = [f"#block-{name} {{ break-before: page }}" for name in there if name in page.breaks]
    goes_on = "break-inside: auto; height: auto; overflow: visible; box-shadow: none"
    rules += [f"#block-{name} {{ {goes_on} }}" for name in there if name in page.goes_on]
    if page.kind == "fixed":
        rules.append(f"#board {{ zoom: {min(1.0, paper.width / page.width):.4f} !important }}")
    return f"{sheet} @media print {{ {' '.join(rules)} }}"


def _quote(words: str, page: Page, latest: str) -> str:
    """Words as a string of CSS, with what stands for values in them; nothing in it ends the string or the style."""
    text = words.replace("{page}", page.name).replace("{date}", latest)
    return '"' + "".join(f"\\{ord(letter):06x}" if not letter.isalnum() else letter for letter in text) + '"'


def is_strong(block: DashboardBlock, paints: Paints) -> bool:
    """Whether a block is written on as in the dark theme, whatever the reader's."""
    ground = block.look.ground
    return ground not in ("", "none") and make_ground_look(ground, paints).strong


def _place(page: Page, order: int, block: DashboardBlock) -> str:
    if page.kind == "fixed":
        where = f"left: {block.x}px; top: {block.y}px; width: {block.w}px; height: {block.h}px"
        return f"position: absolute; {where}; z-index: {order + 1}"
    return f"grid-column: {block.x + 1} / span {block.w}; grid-row: {block.y + 1} / span {block.h}"
