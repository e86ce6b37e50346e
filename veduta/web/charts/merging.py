"""What others saved of a chart, brought together with what somebody has on their page."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from veduta.core.chart.definition import ChartDefinition, load_definition
from veduta.core.chart.merging import ALL, Merged, brought_up, changed, merged
from veduta.core.words import listed
from veduta.web.accounts.access import must_build
from veduta.web.accounts.models import User, label_of
from veduta.web.charts.models import Chart, Revision
from veduta.web.together.log import Entry
from veduta.web.together.steps import steps

Edit = dict[str, Any]
Left = dict[str, Any]
ENTRIES = 200
"""How many of the newest saved states the log has."""


@dataclass(frozen=True)
class BroughtTogether:
    """Somebody's states with what others saved meanwhile: the first is the one now, which `is_saved` if nothing of it
    is this person's own. `who` saved last. `won` says what others changed too and is as this person has it, and
    `theirs` is the edit that takes it as the others have it; `lost` says what this person had saved and others have
    changed since, and `mine` is the edit that takes it as it was. `left` are, for each state, the parts that the step
    to it leaves, as others have changed them since, in words and by name."""

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
) -> BroughtTogether:
    """Bring a chart as it is on somebody's page, and the states to which undoing (so many as are `behind`) and redoing
    lead, the nearest last, together with what was saved since `base_revision`."""
    must_build(user)
    saved = chart.load()
    begun = chart.revisions.filter(number=base_revision).first()
    base = load_definition(begun.definition) if begun else saved
    made = [merged(base, saved, states[0]), *(brought_up(base, saved, each) for each in states[1:])]
    now, both = made[0].definition, made[0].both
    lost = _lost(user, chart, begun, saved) - changed(saved, now) if begun else set()
    who = label_of(chart.updated_by)
    return BroughtTogether(
        [each.definition for each in made],
        now == saved,
        who,
        _told(who, both, "as you have it"),
        _taking(saved, both),
        _told(who, lost, "as they have it"),
        _taking(base, lost),
        [None, *_left(who, made, states, behind)],
    )


def _left(who: str, made: Sequence[Merged], states: Sequence[ChartDefinition], behind: int) -> Iterator[Left | None]:
    """What the step to each state but the first leaves: what others changed since, of what the step changes."""
    for place, nearer in steps(len(states), behind):
        parts = changed(states[place], states[nearer]).intersection(made[place].both)
        yield {"words": _told(who, parts, "as they have it"), "settings": sorted(parts)} if parts else None


def _lost(user: User, chart: Chart, begun: Revision, saved: ChartDefinition) -> set[str]:
    """The parts that somebody set when they saved last, and that are otherwise now."""
    before = chart.revisions.filter(number__lt=begun.number).first()
    if begun.saved_by != user or before is None:
        return set()
    mine = load_definition(begun.definition)
    return changed(load_definition(before.definition), mine) & changed(mine, saved)


def _taking(other: ChartDefinition, parts: Collection[str]) -> Edit:
    return {"edit": "take_parts", "other": other.model_dump(mode="json"), "parts": sorted(parts)}


def _told(who: str, parts: Collection[str], so: str) -> str:
    return f"{who} changed {_words(parts)}, too. It is {so}." if parts else ""


def _words(parts: Collection[str]) -> str:
    return listed([words for part, words in ALL.items() if part in parts])


def log_of(chart: Chart) -> list[Entry]:
    """The saved states of a chart, the newest first, with what each changed."""
    revisions = list(chart.revisions.select_related("saved_by")[: ENTRIES + 1])
    definitions = [load_definition(each.definition) for each in revisions]
    entries = []
    for place, revision in enumerate(revisions[:ENTRIES]):
        is_first = place + 1 == len(revisions)
        parts = set() if is_first else changed(definitions[place + 1], definitions[place])
        said = _words(parts)
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
