"""Small helpers that every template may use."""

import datetime as dt
import json
from contextlib import suppress
from functools import cache
from html import escape
from typing import Any
from urllib.parse import urlencode, urljoin

from django import template
from django.conf import settings
from django.templatetags.static import static
from django.utils.html import format_html, format_html_join
from django.utils.safestring import SafeString, mark_safe

from veduta.core.chart.drawing.cells import Cell
from veduta.core.chart.drawing.conditions import CellLook
from veduta.core.chart.drawing.in_cells import is_strong
from veduta.core.chart.theme import get_both_colours, get_both_text_colours
from veduta.core.data.fields import NumberFormat
from veduta.core.number_format import format_number, write_plain_number
from veduta.core.phrases import join_names, pluralise

register = template.Library()
PARTS = settings.BASE_DIR / "veduta/web/static/dist/parts.json"

# Our own small drawings for the kinds of value: lines of text, steps of numbers, a sun on the horizon, a tick.
_GLYPHS = {
    "text": '<path d="M2 4h12M2 8h8M2 12h10"/>',
    "whole": '<path d="M3.5 13V9M8 13V3M12.5 13V6"/>',
    "decimal": '<path d="M2 12l4-5 3 3 5-7"/>',
    "yes_no": '<path d="M3 8.5l3.5 3.5L13 4"/>',
    "date": '<path d="M1.5 12h13M4 12a4 4 0 0 1 8 0"/>',
    "datetime": '<path d="M1.5 12h13M4 12a4 4 0 0 1 8 0M8 3v2.5M2.8 5.6l1.5 1.6M13.2 5.6l-1.5 1.6"/>',
}


@register.simple_tag
def glyph(kind: str) -> SafeString:
    drawn = _GLYPHS[str(kind)]
    return mark_safe(f'<svg class="glyph" viewBox="0 0 16 16" aria-hidden="true">{drawn}</svg>')  # noqa: S308 - ours


@register.filter
def item(things, key):
    """What a dictionary has for a key."""
    return things.get(key, ())


@register.filter
def as_json(value: Any) -> str:
    return json.dumps(value)


@register.filter
def plural(count: int, word: str) -> str:
    """`3|plural:"row"` is "3 rows"; a word with another plural is given as "entry,entries"."""
    one, _, many = word.partition(",")
    return pluralise(count, one, many)


@register.filter
def percent(share: float) -> str:
    return "0%" if share == 0 else "under 1%" if share < 0.01 else f"{share * 100:.0f}%"


@register.filter
def words(text: str) -> list[str]:
    return text.split()


@register.filter
def same(value: Any, other: Any) -> bool:
    """Whether two values are the same choice in a form, where None is the empty choice."""
    return _sent(value) == _sent(other)


def _sent(value: Any) -> str:
    return "" if value is None else str(value).lower() if isinstance(value, bool) else str(value)


@register.simple_tag
def choices(options: Any, value_of: str = "", words_of: str = "") -> list[tuple[Any, Any]]:
    """The values and labels of a select.

    From text such as "top=the highest;bottom=the lowest", from pairs, or from objects by the names of their attributes
    (a value without a label stands for itself)."""
    if isinstance(options, str):
        pairs = (pair.partition("=") for pair in options.split(";"))
        return [(value, words if there else value) for value, there, words in pairs]
    if value_of:
        return [(_held(each, value_of), _held(each, words_of or value_of)) for each in options]
    return [(each[0], each[1]) if isinstance(each, tuple | list) else (each, each) for each in options]


def _held(thing: Any, name: str) -> Any:
    return template.Variable(f"thing.{name}").resolve({"thing": thing})


@register.filter
def samples(number_format: NumberFormat) -> str:
    """What a format makes of some numbers, in words."""
    numbers = (1234567.891, 0.5, -12, 0)
    return join_names([format_number(number, number_format) for number in numbers])


@register.filter
def in_box(value: Any) -> Any:
    """A value as it stands in an input: nothing for none, a number without an idle ".0"."""
    if value in (None, ""):
        return ""
    return f"{value:.0f}" if isinstance(value, float) and value.is_integer() and abs(value) < 2**53 else value


@register.filter
def as_day(value: Any) -> dt.date | None:
    """A day, also from its text in a definition."""
    with suppress(ValueError):
        return dt.date.fromisoformat(value[:10]) if isinstance(value, str) else value or None
    return None


@register.simple_tag
def sorted_by(key: str, now: str, descending: bool, find: str) -> str:
    """The address of a list sorted by a heading; of the one it is sorted by the other way round."""
    return "?" + urlencode({"sort": key, "descending": int(key == now and not descending), "find": find})


@register.filter
def unlocalize(number: float) -> str:
    """A number for an attribute."""
    return f"{number:.1f}"


@register.filter
def owned_by(thing: Any, user: Any) -> bool:
    """Whether somebody may delete something, and say who sees its rows."""
    return bool(user.owns(thing))


@register.filter
def thousands(value: int) -> str:
    return f"{value:,}"


@register.filter
def megabytes(size: int) -> str:
    mega = size / 1024 / 1024
    return f"{mega:,.{0 if mega == int(mega) else 1}f} MB" if mega >= 0.1 else f"{max(1, size // 1024):,} kB"


@register.simple_tag
def cell_attributes(cell: Cell) -> SafeString:
    """The class of a table's cell, how many columns it spans, and which rows are behind it."""
    look = cell.look or CellLook()
    negative = cell.negative and not (look.ground or look.colour)
    classes = {"number": cell.number, "negative": negative, "off": not cell.on, "subtotal": cell.subtotal}
    classes["font-bold"] = look.strong
    if cell.shade:
        classes |= {"shaded": True, cell.shade: True, "strong": is_strong(cell.shade)}
    attributes = {
        "class": " ".join(name for name, holds in classes.items() if holds),
        "colspan": cell.span if cell.span > 1 else "",
        "rowspan": cell.rows if cell.rows > 1 else "",
        **_tones(look),
        "data-point": "" if cell.point is None else json.dumps(cell.point),
        "data-value": "" if cell.value is None else write_plain_number(cell.value),
        "data-column": cell.column,
        "data-across": _across(cell),
        "data-total": "" if cell.behind is None else json.dumps(cell.behind),
    }
    return _attributes(attributes)


def _across(cell: Cell) -> str:
    return "" if cell.across is None else json.dumps({"from": cell.across_from, "point": cell.across})


def _attributes(attributes: dict[str, Any]) -> SafeString:
    # There are thousands in a table, so they are put together by hand.
    escaped = (f'{name}="{escape(str(value))}"' for name, value in attributes.items() if value)
    return mark_safe(" ".join(escaped))  # noqa: S308 - escaped


@register.simple_tag
def tones(look: CellLook | None) -> SafeString:
    """The attributes by which a page's script gives ground and text their colours, in the light and the dark theme."""
    return _attributes(_tones(look or CellLook()))


@register.simple_tag
def bar_tone(cell: Cell) -> SafeString:
    """The colour of its own that the bar in a cell has."""
    return _attributes({"data-fill": " ".join(get_both_colours(cell.bar_colour)) if cell.bar_colour else ""})


def _tones(look: CellLook) -> dict[str, str]:
    found = {}
    if look.ground:
        found["data-ground"] = " ".join(get_both_colours(look.ground))
    if look.ground or look.colour:
        found["data-ink"] = " ".join(get_both_text_colours(look.colour, look.ground))
    return found


@register.simple_tag
def bundle(name: str) -> SafeString:
    """A script of the front-end build, and the parts it needs, so that they come at the same time."""
    parts = format_html_join("", '<link rel="modulepreload" href="{}">', ((_built(part),) for part in _parts(name)))
    return format_html('{}<script type="module" src="{}"></script>', parts, static(f"dist/{name}.js"))


def _built(path: str) -> str:
    """Where a part is found by the script that imports it: by its own name, which changes with what is in it."""
    return urljoin(settings.STATIC_URL, f"dist/{path}")


@cache
def _all_parts(_changed: float) -> dict[str, list[str]]:
    return json.loads(PARTS.read_text())


def _parts(name: str) -> list[str]:
    return _all_parts(PARTS.stat().st_mtime)[name] if PARTS.exists() else []
