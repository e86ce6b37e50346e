"""A dashboard as it is read: its blocks answered under the reader's state, its trail, its rows behind."""

from __future__ import annotations

import datetime as dt
import json
import uuid
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace
from functools import cached_property, partial
from typing import Any

from django.http import Http404

from veduta.core.cache import Cache
from veduta.core.calendar import Grain, period_words
from veduta.core.chart.definition import ChartDefinition, load_definition, sort_of_column
from veduta.core.chart.drilling import Drilled, drilled
from veduta.core.chart.paints import Paints
from veduta.core.chart.question import Answered, set_off
from veduta.core.chart.question import Selection as OwnSelection
from veduta.core.chart.sentence import default_title
from veduta.core.chart.texts import without_values
from veduta.core.dashboard.choosers import rechosen
from veduta.core.dashboard.clicks import address_for
from veduta.core.dashboard.controls import Control
from veduta.core.dashboard.definition import Block, DashboardDefinition, Selection, ViewState, load_state
from veduta.core.dashboard.filters import DashboardFilter
from veduta.core.dashboard.firsts import begun
from veduta.core.dashboard.following import (
    Following,
    choice_of,
    chosen_for,
    filters_for_block,
    parameter_values,
)
from veduta.core.dashboard.own import chart_of
from veduta.core.data.fields import Schema
from veduta.core.errors import VedutaError
from veduta.core.formats import EMPTY, value_words
from veduta.core.model.model import Model
from veduta.core.query.answer import members
from veduta.core.query.batch import Question, answer_all
from veduta.core.query.filters import Filter, ListFilter, MembershipFilter, grouping_words, typed
from veduta.core.query.query import Result
from veduta.web.accounts.models import User
from veduta.web.charts.render import chart_data, rows_table
from veduta.web.charts.services import answer_over, question_over, records_behind
from veduta.web.colours.models import paints_now
from veduta.web.common.leaving import still_there
from veduta.web.dashboards.access import find_dashboard
from veduta.web.dashboards.favourites import set_last
from veduta.web.dashboards.models import Dashboard
from veduta.web.dashboards.publishing import frozen
from veduta.web.dashboards.withholding import seen_definition, seen_state
from veduta.web.datasets.binding import attributes_of
from veduta.web.datasets.known import known
from veduta.web.datasets.models import Dataset
from veduta.web.modelling.services import context_now, model_for, model_of, with_values

charts: Cache[ChartDefinition] = Cache(1_000)
"""By the text they are stored as."""
Given = Callable[[], Result]
Behind = tuple[Dataset, tuple[Filter, ...], str, dict[str, Any]]
"""What gives records: a dataset, filters, the table of its model, and what parameters are set to."""


class Reading:
    """One dashboard, in its published or draft form, read under one state."""

    def __init__(self, dashboard: Dashboard, definition: DashboardDefinition, state: ViewState, reader: User) -> None:
        self.dashboard, self.definition, self.state, self.reader = dashboard, definition, state, reader
        self._datasets: dict[str, Dataset] = {}
        self._schemas: dict[str, Schema] = {}
        self._models: dict[str, Model] = {}
        self._drilled: dict[str, Drilled] = {}
        self._asked: dict[str, tuple[Model, Following]] = {}
        self._others: dict[str, Reading | None] = {}
        self._members: dict[str, ListFilter | None] = {}
        self.kept: dict[str, Any] = {}
        """What was worked out once for all parts of a page, by the names that these give it."""
        if any(control.first != "set" for control in definition.controls) and reader is not None:
            last = load_state({"controls": set_last(reader, dashboard)}).controls
            had = {name: choice for name, choice in last.items() if choice}
            self.definition = begun(definition, attributes_of(reader), had, self._highest)
        seen = seen_state(self)
        if seen != state:
            self.state = seen
            self._drilled.clear()

    def _highest(self, control: Control) -> Any:
        """The latest or highest value of a control's field that the reader may see; None if there is none."""
        try:
            highest = self.model(self.dataset(control.dataset)).facts(control.field).highest
        except VedutaError:
            return None
        return str(highest)[:10] if control.field_kind.is_date and highest is not None else highest

    @classmethod
    def of(cls, dashboard: Dashboard, state: ViewState, reader: User, draft: bool = False) -> Reading:
        """Raises Http404 if there is no published version yet and the draft is not wanted."""
        if draft:
            return cls(dashboard, frozen(dashboard.load_draft()), state, reader)
        if dashboard.published is None:
            raise Http404
        reading = cls(dashboard, dashboard.published.load(), state, reader)
        reading.definition = seen_definition(reading)
        return reading

    def dataset(self, pk: str) -> Dataset:
        """Raises VedutaError for a dataset that is gone."""
        if pk not in self._datasets:
            there = known([pk])
            if pk not in there:
                raise VedutaError("The dataset of this block does not exist any more.")
            self._datasets[pk] = there[pk]
        return self._datasets[pk]

    def schema(self, dataset: Dataset) -> Schema:
        key = str(dataset.pk)
        if key not in self._schemas:
            self._schemas[key] = model_of(dataset).schema
        return self._schemas[key]

    def schema_of(self, dataset: str) -> Schema:
        """Raises VedutaError for a dataset that is gone."""
        return self.schema(self.dataset(dataset))

    def model(self, dataset: Dataset) -> Model:
        """A dataset's model as the reader may see it; its blocks set its parameters."""
        key = str(dataset.pk)
        if key not in self._models:
            self._models[key] = model_for(dataset, self.reader)
        return self._models[key]

    @property
    def datasets(self) -> list[str]:
        """The ids of the datasets of the dashboard's charts."""
        found = ((block.definition or {}).get("dataset", "") for block in self.definition.charts)
        return [pk for pk in dict.fromkeys(found) if pk]

    def words_of_rules(self) -> list[str]:
        """Of which datasets the reader sees only some rows, by which rules."""
        words: list[str] = []
        for pk in self.datasets:
            try:
                words += self.model(self.dataset(pk)).ruling.words()
            except VedutaError:
                continue  # its blocks say what is wrong
        return list(dict.fromkeys(words))

    def chart(self, block: Block) -> ChartDefinition:
        """A block's chart as the reader has drilled it, in the reader's order. Raises DefinitionProblem for a
        definition that is not usable."""
        return self.drilled(block).chart

    def drilled(self, block: Block) -> Drilled:
        """The same with the steps of the reader that it allows."""
        if block.id not in self._drilled:
            text = json.dumps(block.definition)
            chart = charts.get(text, lambda: load_definition(text))
            chart = chart_of(chart, block, self.definition.letters)
            chart = rechosen(chart, chosen_for(self.definition, self.state, block.id))
            made = Drilled(chart)
            if steps := self.state.drills.get(block.id):
                made = drilled(chart, steps, self.model(self.dataset(chart.dataset)))
            if sort := sort_of_column(made.chart, self.state.sorts.get(block.id, "")):
                made = replace(made, chart=made.chart.model_copy(update={"sort": sort}))
            self._drilled[block.id] = made
        return self._drilled[block.id]

    def block(self, block_id: str) -> Block:
        """A block with a chart. Raises Http404 for any other."""
        block = self.definition.block(block_id)
        if block is None or block.kind != "chart":
            raise Http404
        return block

    def chart_of(self, block_id: str, number: int | None) -> tuple[Block, ChartDefinition]:
        """A block and its chart or, of a text, that of one of its numbers. Raises Http404 for what is not there."""
        if number is None:
            return self.block(block_id), self.chart(self.block(block_id))
        block = self.definition.block(block_id)
        if block is None or number >= len(block.numbers):
            raise Http404
        return block, block.numbers[number].chart

    def members_of(self, fixed: DashboardFilter) -> ListFilter | None:
        """The values that a filter by a question names in its own data now, under what else narrows these."""
        if fixed.id not in self._members:
            others = tuple(each for each in self.definition.filters if each.id != fixed.id)
            beside = self._filters_on(fixed.dataset, self.definition.model_copy(update={"filters": others}))
            values = parameter_values(self.definition, self.state, fixed.dataset, "")
            model = with_values(self.model(self.dataset(fixed.dataset)), values)
            assert isinstance(fixed.filter, MembershipFilter)
            self._members[fixed.id] = members(fixed.filter, beside, model, context_now(model))
        return self._members[fixed.id]

    def _filters_on(self, dataset: str, narrowing: DashboardDefinition) -> tuple[Filter, ...]:
        """What of a dashboard's filters and controls narrows a dataset, whatever block shows it."""
        chart, state = ChartDefinition(dataset=dataset), self.state.model_copy(update={"selections": ()})
        of = (self.source_of, self.schema_of)
        return tuple(filters_for_block("", chart, self.schema_of(dataset), narrowing, state, *of).filters)

    def filters_beside(self, control: Control) -> tuple[Filter, ...]:
        """What narrows the values that a control offers: the dashboard's filters and the other controls, as far as its
        data follow them."""
        others = tuple(each for each in self.definition.controls if each.id != control.id)
        return self._filters_on(control.dataset, self.definition.model_copy(update={"controls": others}))

    def control(self, control_id: str) -> Control:
        control = next((control for control in self.definition.controls if control.id == control_id), None)
        if control is None:
            raise Http404
        return control

    def source(self, block_id: str) -> tuple[ChartDefinition, Schema] | None:
        """The chart and schema of a block, or None if it has none that can be used."""
        block = self.definition.block(block_id)
        if block is None or not block.definition:
            return None
        try:
            chart = self.chart(block)
            return chart, self.schema(self.dataset(chart.dataset))
        except VedutaError:
            return None

    def source_of(self, selection: Selection) -> tuple[ChartDefinition, Schema] | None:
        """The chart and schema that a selection is of, on this dashboard or another that the reader may see; of a
        chart that was drilled since, as it was then."""
        if selection.dashboard in ("", str(self.dashboard.pk)):
            source, block = self.source(selection.block), self.definition.block(selection.block)
            if source is None or block is None:
                return None
            made = self.drilled(block)
            return max((made.chart, *made.stages), key=selection.depth_in), source[1]
        if selection.dashboard not in self._others:
            self._others[selection.dashboard] = _other_reading(selection.dashboard, self.reader)
        other = self._others[selection.dashboard]
        return other.source(selection.block) if other else None

    def following(self, block: Block, chart: ChartDefinition) -> tuple[Dataset, Following]:
        """The dataset of a chart in a block, and what narrows it there."""
        dataset = self.dataset(chart.dataset)
        schema = self.schema(dataset)
        of = (self.source_of, self.schema_of, self.members_of)
        return dataset, filters_for_block(block.id, chart, schema, self.definition, self.state, *of)

    def name_of(self, block: Block) -> str:
        """What a chart block is called: its own title, the chart's, or the chart's sentence, before it is drilled."""
        if block.title:
            return block.title
        try:
            made = self.drilled(block)
            chart = made.stages[0] if made.stages else made.chart
            return without_values(chart.title) or default_title(chart, self.schema_of(chart.dataset))
        except VedutaError:
            return "Chart"

    @cached_property
    def paints(self) -> Paints:
        """The colours of its palettes, the same for all blocks; of a version that has kept none, those in use."""
        kept = self.definition.palettes_kept
        return Paints.of(kept) if kept else paints_now()

    def answer(
        self, block: Block, chart: ChartDefinition, rows_from: int = 0, result: Result | None = None
    ) -> tuple[Answered, Following]:
        """Work out a chart in a block, of a long table the rows from one on; `result` is its answer where that was
        given together with others. Raises VedutaError with what does not fit."""
        model, following = self.asked(block, chart)
        own = next((s for s in self.state.selections if s.block == block.id and not s.dashboard), None)
        points = own.own_points(chart) if own else ()
        selection = OwnSelection(points, own.mode == "leave_out") if own and points else None
        filters = tuple(following.filters)
        if following.highlights and not selection:
            selection = set_off(chart, model, context_now(model), filters, tuple(following.highlights))
        answered = answer_over(
            model,
            chart,
            self.reader,
            filters,
            selection,
            dashboard=self.definition,
            rows_from=rows_from,
            paints=self.paints,
            result=result,
        )
        return answered, following

    def asked(self, block: Block, chart: ChartDefinition) -> tuple[Model, Following]:
        """The model that a chart in a block asks, and what narrows it there; worked out once for a block's own."""
        if block.id not in self._drilled or chart is not self._drilled[block.id].chart:
            return self._asked_by(block, chart)
        if block.id not in self._asked:
            self._asked[block.id] = self._asked_by(block, chart)
        return self._asked[block.id]

    def _asked_by(self, block: Block, chart: ChartDefinition) -> tuple[Model, Following]:
        dataset, following = self.following(block, chart)
        return with_values(self.model(dataset), chart.values | self.values(block, chart)), following

    def answer_all(self, blocks: Iterable[Block]) -> Iterator[tuple[Block, list[Given]] | None]:
        """The questions of blocks, asked together: each block, as soon as all of it is worked out, with what gives the
        result of its chart, or those of the numbers of a text, or raises their problems; None before it waits."""
        asked = [(block, number) for block in blocks for number in self._numbers_of(block)]
        questions = [partial(self.question, block, number) for block, number in asked]
        given: dict[str, dict[int | None, Given]] = defaultdict(dict)
        left = Counter(block.id for block, _ in asked)
        for answer in answer_all(questions):
            if answer is None:
                yield None
                continue
            position, give = answer
            block, number = asked[position]
            given[block.id][number] = give
            left[block.id] -= 1
            if not left[block.id]:
                yield block, [given[block.id][each] for each in self._numbers_of(block)]

    @staticmethod
    def _numbers_of(block: Block) -> list[int | None]:
        """The questions of a block: its chart's (None), or those of the numbers of a text, by their places."""
        return [None] if block.kind == "chart" else list(range(len(block.numbers)))

    def question(self, block: Block, number: int | None) -> Question:
        """What a block asks, or one of the numbers of a text. Raises VedutaError with what does not fit."""
        _, chart = self.chart_of(block.id, number)
        model, following = self.asked(block, chart)
        return question_over(model, chart, tuple(following.filters), self._left)

    def values(self, block: Block, chart: ChartDefinition) -> dict[str, Any]:
        """What the controls set the parameters of the model of a chart in a block to."""
        return parameter_values(self.definition, self.state, chart.dataset, block.id)

    @cached_property
    def _left(self) -> Callable[[], bool]:
        """Whether the person who asked has left."""
        is_there = still_there()
        return lambda: not is_there()

    def block_data(
        self, block: Block, as_table: bool = False, rows_from: int = 0, result: Result | None = None
    ) -> dict[str, Any]:
        """A block as the page needs it, of a long table the rows from one on; `result` is its answer where that was
        given together with others. Raises VedutaError with what does not fit."""
        answered, following = self.answer(block, self.chart(block), rows_from, result)
        data = chart_data(answered)
        data["not_followed"] = following.not_followed
        data["title_look"]["hidden"] |= "title" not in block.look.parts
        data["summary"] = _summary(answered, self.name_of(block))
        if as_table and data.get("spec"):
            data["table"] = rows_table(answered)
        return data

    def numbers(self, block: Block) -> list[str]:
        """The numbers in a text, as they stand there."""
        return next(self.numbers_said(*each) for each in self.answer_all([block]) if each) if block.numbers else []

    def numbers_said(self, block: Block, given: Sequence[Given]) -> list[str]:
        """The numbers in a text, as they stand there, from what gives their results; a dash for one that cannot be
        worked out."""
        said = []
        for number, give in zip(block.numbers, given, strict=True):
            try:
                said.append(self.answer(block, number.chart, result=give())[0].title)
            except VedutaError:
                said.append(EMPTY)
        return said

    def filters_behind(self, block: Block, chart: ChartDefinition, marks: Sequence[Filter] = ()) -> Behind:
        """What gives the records behind a chart in a block or some of its marks."""
        dataset, following = self.following(block, chart)
        values = chart.values | self.values(block, chart)
        filters, home = records_behind(dataset, chart, self.reader, tuple(following.filters), tuple(marks), values)
        return dataset, filters, home, values

    def filters_behind_selection(self, selection: Selection) -> Behind:
        """What gives the records behind the marks that are selected in a block. Raises Http404 if it is gone."""
        block, source = self.block(selection.block), self.source_of(selection)
        if source is None:
            raise Http404
        made = selection.model_copy(update={"mode": "focus"}).filter(source[0])
        return self.filters_behind(block, source[0], [made] if made else [])

    def address_of(self, block: Block, point: list[Any]) -> str:
        """Where a click on a mark of a block leads, by the mark's point; "" where it leads nowhere."""
        source = self.source(block.id)
        if source is None or block.click.does != "address":
            return ""
        chart, schema = source
        values = {
            grouping_words(group, schema): value_words(
                typed(value, schema[group.field], group.grain), schema[group.field], group.grain
            )
            for group, value in zip(chart.groups, point, strict=False)
        }
        return address_for(block.click.address, values)

    @property
    def is_as_published(self) -> bool:
        """Whether everything stands as whoever made the dashboard set it."""
        as_set = all(choice_of(each, self.state) == getattr(each, each.kind) for each in self.definition.controls)
        return as_set and not self.state.selections and not self.state.sorts and not self.state.drills

    @cached_property
    def latest(self) -> str:
        """The latest date in the data of the dashboard's controls or charts, in words."""
        days: list[dt.date] = []
        for pk in {control.dataset for control in self.definition.controls} | {*self.datasets}:
            try:
                day = context_now(self.model(self.dataset(pk))).latest_of_first
            except VedutaError:
                continue
            days += [day] if day else []
        return period_words(max(days), Grain.DAY) if days else ""


def _summary(answered: Answered, name: str) -> list[dict[str, Any]]:
    """The figures that a block says large, if it is one of these."""
    figures, result = answered.drawing.figures or [], answered.result
    if result.dimensions or not result.frame.height:
        return []
    values = [result.frame[column.key][0] for column in result.measures]
    return [
        {"name": figure.name if len(figures) > 1 else name, "value": float(value), "text": figure.text}
        for figure, value in zip(figures, values, strict=False)
        if isinstance(value, int | float) and not isinstance(value, bool)
    ]


def _other_reading(pk: str, reader: User) -> Reading | None:
    """Another dashboard as it is published, if the reader may see it."""
    try:
        dashboard = find_dashboard(reader, uuid.UUID(pk))
        return Reading.of(dashboard, ViewState(), reader)
    except (ValueError, Http404):
        return None


def block_name(block: Block) -> str:
    """What a block of a draft is called where its chart is not worked out."""
    return block.title or block.text.strip().split("\n")[0][:100] or {"chart": "A chart"}.get(block.kind, "")
