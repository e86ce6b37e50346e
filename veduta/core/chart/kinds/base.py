"""What every kind of drawing declares, and the registry of kinds."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar, Literal, TypeVar

from pydantic import Field, ValidationError

from veduta.core.calendar import Grouping
from veduta.core.chart.definition import ChartDefinition, Layer
from veduta.core.chart.drawing.layer_context import Stacking
from veduta.core.chart.drawing.picture import Drawing, Picture, Settings
from veduta.core.chart.drawing.shades import STEPS_WORDS
from veduta.core.chart.sentence_parts import SentencePart, join_parts
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.additivity import adds_up
from veduta.core.model.model import Model
from veduta.core.phrases import pluralise
from veduta.core.query.filters import Filter
from veduta.core.query.measures import (
    Measure,
    list_counted_tables,
    measure_format,
    measure_heading,
    measure_kind,
    measure_node,
)
from veduta.core.query.query import Query, Sort

MANY_MARKS = 20_000
"""Marks of kinds that can still be read when there are very many."""
THEMES = ("To read", "To compare", "Over time", "Relations", "Shares", "Distributions", "Places", "Your own")
MOST_SERIES = 12
"""Series that can be told apart."""


class ChartShape:
    """What a chart asks for, as far as kinds of drawing need to know it; of panels, what each does."""

    def __init__(self, definition: ChartDefinition, model: Model) -> None:
        self.definition, self.model = definition, model
        self.groups, self.measures = definition.drawn, definition.measures

    @property
    def first(self) -> Grouping | None:
        """The dimension that is drawn along."""
        return self.definition.by[0] if self.definition.by else next(iter(self.groups), None)

    @property
    def has_series(self) -> bool:
        return len(self.groups) > 1 or len(self.measures) > 1

    @cached_property
    def numbers(self) -> bool:
        """Whether all measures are numbers, which have a height."""
        kinds = [measure_kind(measure, self.model.schema, self.model.parameters) for measure in self.measures]
        return all(kind.is_number for kind in kinds)

    @cached_property
    def same_unit(self) -> bool:
        """Whether all measures are money of one currency, or all are shares."""
        formats = {measure_format(measure, self.model.schema) for measure in self.measures}
        units = {(each.style, each.currency if each.style == "currency" else "") for each in formats}
        return len(units) == 1 and units != {("number", "")}

    def explain_no_whole(self, positions: Sequence[int] | None = None) -> str:
        """Why the groups' values are not parts of a whole, or "" if they are.

        Only parts of a whole can be stacked or have a share of it. Looks at all measures, or some by their positions.
        """
        measures = self.measures if positions is None else [self.measures[i] for i in positions]
        by_dimension = len(self.groups) > 1 or len(measures) == 1
        over_time = by_dimension and bool(self.groups) and self.groups[-1].is_time_axis
        tables = set()
        for measure in measures:
            node = measure_node(measure, self.model.schema, self.model.parameters)
            if not adds_up(node, over_time):
                name = measure_heading(measure, self.model.schema)
                periods = " over periods" if over_time and adds_up(node) else ""
                return f"Values of “{name}” do not add up to a whole{periods}."
            tables |= {*list_counted_tables(node, self.model)}
        return "Measures of different tables are no parts of one whole." if len(tables) > 1 else ""

    def count_values(self, group: Grouping) -> int:
        """How many values of a dimension the chart has at most."""
        definition, field = self.definition, group.field
        facts = self.model.get_facts(field)
        counts = [facts.distinct]
        if group.width is not None and facts.lowest is not None:
            counts.append(int((facts.highest - facts.lowest) / group.width) + 1)
        for filter_ in definition.only:
            most = filter_.count_most_values(field)
            counts += [most] if most is not None else []
        keep, kept = definition.keep, None
        if keep:
            kept = definition.split if keep.of == "split" else next(iter(definition.by), None)
        if keep and kept and kept.field == field:
            counts.append(keep.count + keep.rest)
        return min(counts)


@dataclass(frozen=True)
class FitScore:
    """How well a kind suits what is asked, from 0 to 1, and why in a few words, as "periods in order, so a line"."""

    score: float
    why: str


class ChartKind:
    """A kind of drawing.

    Subclasses declare what it is called and good for, how many measures and dimensions it needs (least and most, None
    for any), whether the first dimension is to be a date, its settings, and how it is drawn.

    `glyph` is the small drawn picture of it: SVG on a ground of 32 by 24. `shows_rows` kinds show the chart's rows
    themselves. Parts of those that are `dressed` can be set to look otherwise; tables draw `in_cells` bars, shades or
    lines. `panels` are drawn each, or told as further dimensions, or there can be none. Of more than `most_groups`
    groups the others are left out, and said. A plan and what came of it are counted over the `same_periods`, unless the
    drawing is to hold a part against a whole."""

    name: ClassVar[str]
    title: ClassVar[str]
    article: ClassVar[str] = "a "
    theme: ClassVar[str]
    use: ClassVar[str]
    glyph: ClassVar[str]
    measures: ClassVar[tuple[int, int | None]] = (1, None)
    dimensions: ClassVar[tuple[int, int | None]] = (1, None)
    dated: ClassVar[bool] = False
    highest_first: ClassVar[bool] = False
    numbers: ClassVar[bool] = True
    shows_rows: ClassVar[bool] = False
    panels: ClassVar[Literal["drawn", "told", "none"]] = "drawn"
    has_subtotals: ClassVar[bool] = False
    dressed: ClassVar[bool] = True
    in_cells: ClassVar[tuple[str, ...]] = ()
    groups_headings: ClassVar[bool] = False
    same_periods: ClassVar[bool] = True
    most_groups: ClassVar[int] = 5_000
    settings: ClassVar[type[Settings]] = Settings

    def explain_unsupported(self, asked: ChartShape) -> str:
        """Why it cannot draw what is asked, or "" if it can."""
        if asked.definition.panels and self.panels == "none":
            return "It is not drawn in panels."
        for there, (least, most), name in (
            (len(asked.definition.groups if self.panels == "told" else asked.groups), self.dimensions, "dimension"),
            (len(asked.measures), self.measures, "measure"),
        ):
            if there < least:
                return f"It needs {'a' if least == 1 else least} {name}{'s' if least > 1 else ''}."
            if most is not None and there > most:
                return f"It shows at most {pluralise(most, name)}." if most else f"It has no {name}s."
        if self.numbers and not asked.numbers:
            return "Dates and text as measures are shown in a table."
        return self.check_extra_constraints(asked)

    def check_extra_constraints(self, asked: ChartShape) -> str:
        """What else keeps it from drawing what is asked."""
        return ""

    def fit_score(self, asked: ChartShape) -> FitScore | None:
        """How well it suits what is asked, which it can draw; None for a kind that is only drawn when chosen."""
        return None

    def describe(self, definition: ChartDefinition) -> str:
        """What it is called in the sentence."""
        return self.title

    def start(self, definition: ChartDefinition, measures: list[str]) -> list[SentencePart]:
        """How the sentence begins: the measures, and what they are drawn as."""
        return [
            *join_parts(measures, "show"),
            SentencePart(f" as {self.article}"),
            SentencePart(self.describe(definition), "as"),
        ]

    def list_layers(self, definition: ChartDefinition) -> tuple[Layer, ...]:
        """The layers that it is made of; none for a kind that is not drawn in layers."""
        return ()

    def list_coloured_groups(self, definition: ChartDefinition) -> tuple[Grouping, ...]:
        """The dimensions whose values its colours stand for; none where they stand for measures too."""
        return () if self.in_cells or len(definition.measures) > 1 else definition.drawn[1:]

    def shows_references(self, definition: ChartDefinition) -> bool:
        """Whether it has an axis on which lines and bands to compare with can stand."""
        return bool(self.list_layers(definition))

    def count_across(self, definition: ChartDefinition) -> int:
        """How many of the last dimensions stand across as columns."""
        return 0

    def lies(self, definition: ChartDefinition) -> bool:
        """Whether its first dimension goes down, not across."""
        return getattr(self.set(definition), "direction", "") == "lying"

    def sort(self, definition: ChartDefinition) -> Sort | None:
        """The usual order of a first dimension that is not a date: by the first measure, as it is kept, or by name."""
        if self.highest_first:
            return Sort(by="measure", descending=True)
        if definition.keep and definition.keep.of == "by":
            return Sort(by="measure", measure=definition.keep.by, descending=definition.keep.end == "top")
        return Sort(by="name")

    def list_totals(self, definition: ChartDefinition) -> tuple[tuple[int, ...], ...]:
        """The totals it shows, as `Query.totals`."""
        return ()

    def list_unseen_measures(self, definition: ChartDefinition) -> tuple[Measure, ...]:
        """What is worked out for the drawing besides the chart's measures."""
        return ()

    def build_secondary_query(
        self, definition: ChartDefinition, model: Model, extra: tuple[Filter, ...] = ()
    ) -> Query | None:
        """A second question whose answer the drawing needs, such as coordinates of places.

        The `extra` filters apply to it too."""
        return None

    def list_offered_settings(self, asked: ChartShape) -> list[str]:
        """The names of its settings that say something about what is asked."""
        return list(self.settings.model_fields)

    def set(self, definition: ChartDefinition) -> Any:
        """The settings as a chart has them.

        A setting from another kind that this one does not know falls back to the default."""
        known = {name: value for name, value in definition.settings.items() if name in self.settings.model_fields}
        while True:
            try:
                return self.settings.model_validate(known)
            except ValidationError as error:
                for problem in error.errors():
                    known.pop(str(problem["loc"][0]), None)

    def adapt_definition(self, asked: ChartShape) -> tuple[ChartDefinition, str]:
        """The definition with what is left to Veduta settled for what is asked, and what is to be said of that."""
        return asked.definition, ""

    def draw(self, picture: Picture) -> Drawing:
        raise NotImplementedError


CHART_KINDS: dict[str, ChartKind] = {}
"""All kinds by their names, in the order in which they are offered."""
Declared = TypeVar("Declared", bound=type[ChartKind])


def register_kind(declared: Declared) -> Declared:
    """Register a kind. Raises ValueError for one whose name is taken, or that is not declared whole."""
    if declared.name in CHART_KINDS:
        raise ValueError(f"Two kinds are named {declared.name}.")
    if declared.theme not in THEMES or not declared.use.endswith(".") or not declared.glyph:
        raise ValueError(f"The kind {declared.name} is not declared whole.")
    CHART_KINDS[declared.name] = declared()
    return declared


def get_kind(name: str) -> ChartKind:
    """Raises DefinitionProblem if there is none."""
    try:
        return CHART_KINDS[name]
    except KeyError:
        raise DefinitionProblem(
            f"Veduta knows no kind of drawing named “{name}”.", where="kind", hint="Choose another one."
        ) from None


def make_setting(label: str, default: Any, words: dict[str, str] | None = None, **limits: Any) -> Any:
    """A setting with how it is asked for: its label, and the words of its choices."""
    extra: dict[str, Any] = {"words": words or {}}
    return Field(default, title=label, json_schema_extra=extra, **limits)


STACKING = {"usual": "As it suits the measures", "stacked": "Stacked", "grouped": "Side by side", "full": "To 100%"}


class StackingSettings(Settings):
    """Those of kinds whose series can share a place."""

    stacking: Literal["usual", "stacked", "grouped", "full"] = make_setting("Several series", "usual", STACKING)

    @property
    def stacked_as(self) -> Stacking:
        """The way in which they do, where none is chosen that of one measure."""
        return "stacked" if self.stacking == "usual" else self.stacking


def apply_stacking(kind: ChartKind, asked: ChartShape) -> tuple[ChartDefinition, str]:
    """The definition with the way in which its layers of bars share a place, and why.

    Only parts of a whole are stacked; several measures may be a figure and its target, so they are stacked only if
    somebody says so."""
    definition, chosen = asked.definition, kind.set(asked.definition).stacking
    bars = [layer.measures for layer in kind.list_layers(definition) if layer.how == "bar"]
    several = [measures for measures in bars if len(asked.groups) > 1 or len(measures) > 1]
    if not several or chosen == "grouped":
        return definition, ""
    why_not = next(filter(None, map(asked.explain_no_whole, several)), "")
    if chosen == "usual":
        chosen = "grouped" if why_not or any(len(measures) > 1 for measures in several) else "stacked"
        return _set_stacking(definition, chosen), ""
    return (
        (_set_stacking(definition, "grouped"), f"{why_not} They stand side by side.") if why_not else (definition, "")
    )


def _set_stacking(definition: ChartDefinition, how: str) -> ChartDefinition:
    return definition.model_copy(update={"settings": {**definition.settings, "stacking": how}})


class ShadeSettings(Settings):
    """Those of kinds that show a measure by shade."""

    steps: Literal["0", "3", "5", "7"] = make_setting("Shades", "0", STEPS_WORDS)
