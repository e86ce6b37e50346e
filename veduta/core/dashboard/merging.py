"""What several people did to one dashboard at the same time, brought together.

A three-way merge: of a definition that two people began with, and what each made of it. Parts are pages, blocks,
controls and filters, by their ids, and what is set for the whole dashboard; each has settings. What one of the two
changed is taken from them. A setting that both changed is as the later one has it, and is told; a part that one took
away and the other changed stays.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from veduta.core.dashboard import groups
from veduta.core.dashboard.definition import DashboardDefinition, Page, load_dashboard
from veduta.core.dashboard.grid import COLUMNS

PART_KINDS = ("page", "block", "control", "filter")
"""Of the parts that stand in an order."""
PLACE = ("x", "y", "w", "h", "group", "page")
"""What of a block is one setting: where it stands."""
Settings = dict[str, Any]
Parts = dict[tuple[str, str], Settings]
"""The settings of each part, by its kind and its id."""


@dataclass(frozen=True)
class MergeConflict:
    """A conflict: a setting that both changed, with what the earlier one had made of it.

    The part goes by its kind and id; `setting` is "" where one of them deleted the part."""

    kind: str
    id: str
    setting: str = ""
    earlier: Any = None

    @property
    def key(self) -> tuple[str, str, str]:
        return self.kind, self.id, self.setting


@dataclass
class MergedDashboard:
    definition: DashboardDefinition
    both: list[MergeConflict] = field(default_factory=list)


def merge_definitions(
    base: DashboardDefinition, earlier: DashboardDefinition, later: DashboardDefinition
) -> MergedDashboard:
    """What two people made of one base definition.

    Where both changed one setting, the `later` one wins."""
    begun, first, second = _split_parts(base), _split_parts(earlier), _split_parts(later)
    both: list[MergeConflict] = []
    made: Parts = {}
    for key in dict.fromkeys([*first, *second]):
        settings = _merge_part(key, begun.get(key), first.get(key), second.get(key), both)
        if settings is not None:
            made[key] = settings
    _give_pages_back(made, (first, second))
    orders = {kind: _order(*(_list_ids(parts, kind) for parts in (begun, first, second))) for kind in PART_KINDS}
    return MergedDashboard(_build(made, orders), both)


def rebase_definition(
    base: DashboardDefinition, shared: DashboardDefinition, state: DashboardDefinition
) -> MergedDashboard:
    """An undo state with everything that others have made of its `base` since.

    What they changed is theirs, whatever the state had. `both` is what is theirs and was different in the state."""
    made = merge_definitions(base, state, shared)
    gone = [each for each in made.both if not each.setting]
    return MergedDashboard(replace_settings(made.definition, shared, gone), made.both)


def list_overridden(
    both: Iterable[MergeConflict], before: DashboardDefinition, after: DashboardDefinition
) -> list[MergeConflict]:
    """Those of some settings that the step between two states changes."""
    old, new = _split_parts(before), _split_parts(after)

    def is_changed(each: MergeConflict) -> bool:
        one, other = (parts.get((each.kind, each.id)) for parts in (old, new))
        if one is None or other is None or not each.setting:
            return one != other
        return bool(one[each.setting] != other[each.setting])

    return [each for each in both if is_changed(each)]


def list_changed_settings(before: DashboardDefinition, after: DashboardDefinition) -> list[MergeConflict]:
    """The settings that two definitions have otherwise, and the parts that only one of them has."""
    old, new = _split_parts(before), _split_parts(after)
    found = []
    for key in dict.fromkeys([*old, *new]):
        if key not in old or key not in new:
            found.append(MergeConflict(*key))
        else:
            found += [
                MergeConflict(*key, name, old[key][name]) for name in new[key] if new[key][name] != old[key][name]
            ]
    return found


def replace_settings(
    definition: DashboardDefinition, other: DashboardDefinition, settings: Iterable[MergeConflict]
) -> DashboardDefinition:
    """A definition with some settings, or whole parts, of another.

    What only one of the two has is there, or is not, as in the other."""
    made, source = _split_parts(definition), _split_parts(other)
    for each in settings:
        key = (each.kind, each.id)
        if key not in source:
            made.pop(key, None)
        elif key in made and each.setting:
            made[key][each.setting] = source[key][each.setting]
        else:
            made[key] = source[key]
    _give_pages_back(made, (_split_parts(definition), source))
    orders = {kind: _order(*(_list_ids(parts, kind) for parts in (source, made, source))) for kind in PART_KINDS}
    return _build(made, orders)


def get_setting(definition: DashboardDefinition, both: MergeConflict) -> Any:
    """What a definition has for a setting, or for a part; None if it has no such part."""
    settings = _split_parts(definition).get((both.kind, both.id))
    return settings.get(both.setting) if settings and both.setting else settings


def _split_parts(definition: DashboardDefinition) -> Parts:
    data = definition.model_dump(mode="json")
    parts: Parts = {}
    for page in data.pop("pages"):
        for block in page.pop("blocks"):
            place = {name: page["id"] if name == "page" else block.pop(name) for name in PLACE}
            parts["block", block["id"]] = block | {"place": place}
        parts["page", page["id"]] = page
    for kind in ("control", "filter"):
        for each in data.pop(f"{kind}s"):
            parts[kind, each["id"]] = each
    parts["dashboard", ""] = data
    return parts


def _list_ids(parts: Parts, kind: str) -> list[str]:
    return [name for of, name in parts if of == kind]


def _merge_part(
    key: tuple[str, str],
    base: Settings | None,
    earlier: Settings | None,
    later: Settings | None,
    both: list[MergeConflict],
) -> Settings | None:
    """The settings of a part; None for one that is gone."""
    if earlier is None or later is None:
        there = later if earlier is None else earlier
        if base is None or there == base:
            return there if base is None else None
        both.append(MergeConflict(*key))  # one took it away, and the other changed it
        return there
    made = {}
    for name in later:
        old = base.get(name) if base else None
        made[name] = later[name] if later[name] != old else earlier[name]
        if later[name] != old and earlier[name] not in (old, later[name]):
            both.append(MergeConflict(*key, name, earlier[name]))
    return made


def _give_pages_back(made: Parts, sides: Iterable[Parts]) -> None:
    """The pages of blocks that stay, if somebody took them away; a dashboard has one at least."""
    wanted = {settings["place"]["page"] for (kind, _), settings in made.items() if kind == "block"}
    for side in sides:
        for key, settings in side.items():
            has_none = not any(kind == "page" for kind, _ in made)
            if key[0] == "page" and key not in made and (key[1] in wanted or has_none):
                made[key] = settings


def _order(base: list[str], earlier: list[str], later: list[str]) -> list[str]:
    """The order of ids after a merge: the later one's if they changed it, else the earlier one's.

    An id that only the other has follows its predecessor there."""
    # Only entries that all three have can be moved: of [a, b], the later [b, a] wins over the earlier [a, c, b], and c
    # still follows a: [b, a, c].
    common = set(base) & set(earlier) & set(later)
    is_moved = [name for name in later if name in common] != [name for name in base if name in common]
    first, second = (later, earlier) if is_moved else (earlier, later)
    order = list(first)
    for place, name in enumerate(second):
        if name not in order:
            before = second[place - 1] if place else ""
            order.insert(order.index(before) + 1 if before in order else 0, name)
    return order


def _build(made: Parts, orders: Mapping[str, list[str]]) -> DashboardDefinition:
    def of(kind: str) -> list[Settings]:
        return [made[kind, name] for name in orders[kind] if (kind, name) in made]

    blocks = of("block")
    pages = [page | {"blocks": _filter_by_page(page, blocks)} for page in of("page")]
    if all(page["hidden"] for page in pages):
        pages[0]["hidden"] = False
    definition = load_dashboard(
        made["dashboard", ""] | {"pages": pages, "controls": of("control"), "filters": of("filter")}
    )
    return definition.model_copy(update={"pages": tuple(_normalise_page(page) for page in definition.pages)})


def _filter_by_page(page: Settings, blocks: list[Settings]) -> list[Settings]:
    """The blocks of a page, within its columns if it flows.

    A block whose group is elsewhere or gone stands by itself."""
    there = [block for block in blocks if block["place"]["page"] == page["id"]]
    held = {block["id"] for block in there if block["kind"] == "group"}
    placed = []
    for block in there:
        place = {name: value for name, value in block["place"].items() if name != "page"}
        if place["group"] not in held or block["kind"] == "group":
            place["group"] = ""
        if page["kind"] == "flowing":
            place["w"] = min(place["w"], COLUMNS)
            place["x"] = min(place["x"], COLUMNS - place["w"])
        placed.append({name: value for name, value in block.items() if name != "place"} | place)
    return placed


def _normalise_page(page: Page) -> Page:
    """A page that flows with its blocks as high as they can be."""
    return page if page.kind == "fixed" else page.model_copy(update={"blocks": groups.normalise(page.blocks)})
