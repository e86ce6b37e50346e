"""What several people did to one chart at the same time, brought together.

A three-way merge, part by part: of a definition that two people began with, and what each made of it. A part that one
of the two changed is taken from them; of one that both changed the later one's holds, but lists to which both added
have what both added. Layers, orders and the like name measures and dimensions by their places: where one took some away
or moved them, and the other changed what names them, the later one's holds for all of these.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Any, Final

from veduta.core.chart.definition import ChartDefinition, load_definition
from veduta.core.errors import DefinitionProblem

LOOK: Final = "look."
"""Before the name of a part of the look: these are kept one by one."""
PARTS: Final[dict[str, str]] = {
    "kind": "how it is drawn",
    "settings": "settings of how it is drawn",
    "layers": "its layers",
    "show": "what it shows",
    "by": "what it is by",
    "split": "what it is split by",
    "panels": "its panels",
    "only": "its filters",
    "keep": "which values it keeps",
    "sort": "its order",
    "series_order": "the order of its series",
    "totals": "its totals",
    "references": "what it is compared with",
    "aligned": "where its time begins",
    "own_periods": "which periods its tables cover",
    "values": "what its parameters are set to",
    "drill": "where it may be drilled",
    "colours": "colours of its values",
    "own_colours": "whether it takes the workspace's colours",
    "specification": "its own specification",
    "conditional": "its conditional formats",
    "look.title": "the look of its title",
    "look.along": "the axis of its first dimension",
    "look.value": "the axis of its values",
    "look.second": "the second axis of its values",
    "look.legend": "its legend",
    "look.labels": "labels of its marks",
    "look.whole": "how the whole of it looks",
    "look.table": "how its table looks",
    "look.columns": "how its columns look",
    "look.names": "names of its values",
    "look.series": "how its series look",
    "look.dates": "how its dates are written",
    "look.values": "how its values look",
}
"""All parts but its data and its texts, which a block has of its own, in words."""
TEXTS: Final = {"title": "its title", "note": "the words below its title", "foot": "the note at its foot"}
ALL: Final[dict[str, str]] = TEXTS | PARTS
LISTS: Final = ("show", "by", "only", "references", "conditional", "colours")
"""Lists to which several people can add."""
NAMED: Final = ("show", "by", "split")
NAMES: Final = ("layers", "references", "settings", "look.columns")
"""Parts that name measures and dimensions by their places."""
Data = dict[str, Any]


@dataclass(frozen=True)
class MergedChart:
    """`both` are the parts that both changed, and which are as the later one has them."""

    definition: ChartDefinition
    both: tuple[str, ...] = ()


def get_part(data: Mapping[str, Any], part: str) -> Any:
    return data["look"][part.removeprefix(LOOK)] if part.startswith(LOOK) else data[part]


def put_part(data: Data, part: str, value: Any) -> None:
    into = data["look"] if part.startswith(LOOK) else data
    into[part.removeprefix(LOOK)] = value


def find_changed_parts(before: ChartDefinition, after: ChartDefinition) -> set[str]:
    """The parts in which two definitions differ."""
    old, new = before.model_dump(mode="json"), after.model_dump(mode="json")
    return {part for part in ALL if get_part(old, part) != get_part(new, part)}


def replace_parts(definition: ChartDefinition, other: ChartDefinition, parts: Collection[str]) -> ChartDefinition:
    """A definition with some parts of another. Raises DefinitionProblem where these do not go together."""
    data, source = definition.model_dump(mode="json"), other.model_dump(mode="json")
    for part in parts:
        put_part(data, part, get_part(source, part))
    return load_definition(data)


def merge_definitions(base: ChartDefinition, earlier: ChartDefinition, later: ChartDefinition) -> MergedChart:
    """What two people made of one base definition.

    Where both changed one part, the `later` one wins."""
    old, first, second = (each.model_dump(mode="json") for each in (base, earlier, later))
    made = later.model_dump(mode="json")
    both = []
    by_place = _list_positional_parts(old, first, second)
    for part in ALL:
        before, theirs, mine = (get_part(each, part) for each in (old, first, second))
        if theirs in (before, mine):
            continue
        if part in by_place:
            both.append(part)
        elif mine == before:
            put_part(made, part, theirs)
        elif (joined := _merge_lists(part, before, theirs, mine, (old, first, second))) is not None:
            put_part(made, part, joined)
        else:
            both.append(part)
    try:
        return MergedChart(load_definition(made), tuple(both))
    except DefinitionProblem:  # each part fits, but not all together
        return MergedChart(later, tuple(sorted(find_changed_parts(base, earlier))))


def rebase_definition(base: ChartDefinition, saved: ChartDefinition, state: ChartDefinition) -> MergedChart:
    """An undo state with everything that others have made of its `base` since.

    Where both changed one part, it holds theirs."""
    return merge_definitions(base, state, saved)


def _list_positional_parts(old: Data, first: Data, second: Data) -> tuple[str, ...]:
    """The parts that hold together because one person moved what the other one named by its place."""

    def moved(data: Data) -> bool:
        return any(not _begins_with(data[part], old[part]) for part in NAMED)

    is_mixed = (moved(first) and _names_positions(second, old)) or (moved(second) and _names_positions(first, old))
    return (*NAMED, *NAMES) if is_mixed else ()


def _names_positions(data: Data, old: Data) -> bool:
    """Whether something that names measures and dimensions by their places is other than it was."""
    return any(get_part(data, part) != get_part(old, part) for part in NAMES)


def _begins_with(after: Any, before: Any) -> bool:
    """Whether nothing that was there has another place."""
    if not isinstance(before, list):
        return before is None or bool(after == before)
    return [_identify(each) for each in after[: len(before)]] == [_identify(each) for each in before]


def _identify(item: Any) -> Any:
    """What a measure or dimension is of, however it is written."""
    return {name: item.get(name) for name in ("field", "formula", "aggregate")} if isinstance(item, dict) else item


def _merge_lists(part: str, before: Any, theirs: Any, mine: Any, whole: tuple[Data, Data, Data]) -> list[Any] | None:
    """A list that both changed with what both did; None where that is not clear."""
    if part not in LISTS:
        return None
    # Of [a, b], one person's [A, b] and the other's [a, B] make [A, B]; [a, b, c] and [a, b, d] make [a, b, c, d].
    # Where one removed an entry, or both changed the same one, the later person's list holds as a whole.
    here = len(before)
    if len(theirs) == len(mine) == here:
        places = list(zip(before, theirs, mine, strict=True))
        if any(one != old != other != one for old, one, other in places):
            return None
        return [other if other != old else one for old, one, other in places]
    if theirs[:here] != before or mine[:here] != before:
        return None
    return _merge_additions(part, before, theirs[here:], mine[here:], whole)


def _merge_additions(
    part: str, before: list[Any], theirs: list[Any], mine: list[Any], whole: tuple[Data, Data, Data]
) -> list[Any] | None:
    """A list with what both added to it: first what is named by its place, if one of the two named some."""
    old, first, second = whole
    is_theirs_named, is_mine_named = (part in NAMED and _names_positions(data, old) for data in (first, second))
    if is_theirs_named and is_mine_named:
        return None
    sooner, after = (mine, theirs) if is_mine_named else (theirs, mine)
    return [*before, *sooner, *(each for each in after if each not in sooner)]
