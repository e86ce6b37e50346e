"""What others saved of a chart, brought together with what somebody has on their page."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from veduta.core.chart.definition import ChartDefinition, load_definition
from veduta.core.chart.merging import ALL, MergedChart, find_changed_parts, merge_definitions, rebase_definition
from veduta.core.phrases import join_names
from veduta.web.accounts.access import must_build
from veduta.web.accounts.models import User, label_of
from veduta.web.charts.models import Chart, Revision
from veduta.web.collaboration.log import Entry
from veduta.web.collaboration.steps import iterate_steps

Edit = dict[str, Any]
Left = dict[str, Any]
ENTRIES = 200
"""How many of the newest saved states the log has."""


@dataclass(frozen=True)
class MergedSave:
    """Somebody's states merged with what others saved meanwhile.

    The first is the one now, which `is_saved` if nothing of it is this person's own. `who` saved last. `won` says what
    others changed too and is as this person has it, and `theirs` is the edit that takes it as the others have it;
    `lost` says what this person had saved and others have changed since, and `mine` is the edit that takes it as it
    was. `left` are, for each state, the parts that the step to it leaves, as others have changed them since, in words
    and by name."""

    states: list[ChartDefinition]
    is_saved: bool
    who: str
    won: str
    theirs: Edit
    lost: str
    mine: Edit
    left: list[Left | None]


def bring_together(
    user: User, chart: Chart, base_revision: int, states: Sequence[ChartDefinition], behind: int = 0
) -> MergedSave:
    """Merge the chart on somebody's page, and its undo states, with what was saved since `base_revision`.

    The states to which undoing (so many as are `behind`) and redoing lead are listed with the nearest last."""
    must_build(user)
    saved = chart.load()
    begun = chart.revisions.filter(number=base_revision).first()
    base = load_definition(begun.definition) if begun else saved
    made = [merge_definitions(base, saved, states[0]), *(rebase_definition(base, saved, each) for each in states[1:])]
    now, both = made[0].definition, made[0].both
    lost = _find_lost(user, chart, begun, saved) - find_changed_parts(saved, now) if begun else set()
    who = label_of(chart.updated_by)
    return MergedSave(
        [each.definition for each in made],
        now == saved,
        who,
        _describe_conflict(who, both, "as you have it"),
        _make_edit(saved, both),
        _describe_conflict(who, lost, "as they have it"),
        _make_edit(base, lost),
        [None, *_iterate_left(who, made, states, behind)],
    )


def _iterate_left(
    who: str, made: Sequence[MergedChart], states: Sequence[ChartDefinition], behind: int
) -> Iterator[Left | None]:
    """What the step to each state but the first leaves: what others changed since, of what the step changes."""
    for place, nearer in iterate_steps(len(states), behind):
        parts = find_changed_parts(states[place], states[nearer]).intersection(made[place].both)
        yield {"words": _describe_conflict(who, parts, "as they have it"), "settings": sorted(parts)} if parts else None


def _find_lost(user: User, chart: Chart, begun: Revision, saved: ChartDefinition) -> set[str]:
    """The parts that somebody set when they saved last, and that are otherwise now."""
    before = chart.revisions.filter(number__lt=begun.number).first()
    if begun.saved_by != user or before is None:
        return set()
    mine = load_definition(begun.definition)
    return find_changed_parts(load_definition(before.definition), mine) & find_changed_parts(mine, saved)


def _make_edit(other: ChartDefinition, parts: Collection[str]) -> Edit:
    return {"edit": "take_parts", "other": other.model_dump(mode="json"), "parts": sorted(parts)}


def _describe_conflict(who: str, parts: Collection[str], so: str) -> str:
    return f"{who} changed {_label_parts(parts)}, too. It is {so}." if parts else ""


def _label_parts(parts: Collection[str]) -> str:
    return join_names([words for part, words in ALL.items() if part in parts])


def log_of(chart: Chart) -> list[Entry]:
    """The saved states of a chart, the newest first, with what each changed."""
    revisions = list(chart.revisions.select_related("saved_by")[: ENTRIES + 1])
    definitions = [load_definition(each.definition) for each in revisions]
    entries = []
    for place, revision in enumerate(revisions[:ENTRIES]):
        is_first = place + 1 == len(revisions)
        parts = set() if is_first else find_changed_parts(definitions[place + 1], definitions[place])
        said = _label_parts(parts)
        entries.append(
            Entry(
                who=label_of(revision.saved_by),
                began=revision.saved_at,
                ended=revision.saved_at,
                first=revision.number,
                last=revision.number,
                saves=1,
                changes=None if is_first else [(f"{said[:1].upper()}{said[1:]}", "changed")] if parts else [],
            )
        )
    return entries
