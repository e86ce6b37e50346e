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
from veduta.core.calendar import Grain, label_period
from veduta.core.chart.definition import ChartDefinition, load_definition, sort_of_column
from veduta.core.chart.drilling import Drilled, apply_drill_steps
from veduta.core.chart.palettes import Paints
from veduta.core.chart.question import AnsweredChart, OwnSelection, set_off
from veduta.core.chart.sentence import write_default_title
from veduta.core.chart.texts import strip_placeholders
from veduta.core.dashboard.block_filters import (
    BlockFilters,
    collect_block_filters,
    collect_parameter_values,
    get_choice,
    list_choosers,
)
from veduta.core.dashboard.chart_overrides import make_block_chart
from veduta.core.dashboard.choosers import apply_choices
from veduta.core.dashboard.clicks import fill_address
from veduta.core.dashboard.control_defaults import with_defaults
from veduta.core.dashboard.controls import Control
from veduta.core.dashboard.definition import DashboardBlock, DashboardDefinition, Selection, ViewState, load_state
from veduta.core.dashboard.filters import DashboardFilter
from veduta.core.data.fields import Schema
from veduta.core.errors import VedutaError
from veduta.core.model.model import Model
from veduta.core.number_format import EMPTY, label_value
from veduta.core.query.answer import answer_membership
from veduta.core.query.batch import ModelQuery, answer_all
from veduta.core.query.filters import Filter, ListFilter, MembershipFilter, convert_point_value, label_grouping
from veduta.core.query.query import Result
from veduta.web.accounts.models import User
from veduta.web.charts.drawn import DrawnChart
from veduta.web.charts.render import render_rows
from veduta.web.charts.services import build_question, draw_over, find_underlying_rows
from veduta.web.common.client_disconnect import watch_client
from veduta.web.dashboards.access import find_dashboard
from veduta.web.dashboards.favourites import set_last
from veduta.web.dashboards.models import Dashboard
from veduta.web.dashboards.publishing import freeze_charts
from veduta.web.dashboards.row_access import filter_definition, filter_state
from veduta.web.datasets.dataset_cache import get_datasets
from veduta.web.datasets.models import Dataset
from veduta.web.datasets.row_access import collect_attributes
from veduta.web.modelling.services import apply_values, load_model_for, load_whole_model, make_current_context
from veduta.web.palettes.models import load_paints

charts: Cache[ChartDefinition] = Cache(1_000)
"""By the text they are stored as."""
Given = Callable[[], Result]
UnderlyingRows = tuple[Dataset, tuple[Filter, ...], str, dict[str, Any]]
"""What gives records: a dataset, filters, the table of its model, and what parameters are set to."""


class DashboardSession:
    """One dashboard, in its published or draft form, read under one state."""

    def __init__(self, dashboard: Dashboard, definition: DashboardDefinition, state: ViewState, reader: User) -> None:
        self.dashboard, self.definition, self.state, self.reader = dashboard, definition, state, reader
        self._datasets: dict[str, Dataset] = {}
        self._whole_models: dict[str, Model] = {}
        self._models: dict[str, Model] = {}
        self._drilled: dict[str, Drilled] = {}
        self._asked: dict[str, tuple[Model, BlockFilters]] = {}
        self._others: dict[str, DashboardSession | None] = {}
        self._members: dict[str, ListFilter | None] = {}
        self.kept: dict[str, Any] = {}
        """What was worked out once for all parts of a page, by the names that these give it."""
        if any(control.first != "set" for control in definition.controls) and reader is not None:
            last = load_state({"controls": set_last(reader, dashboard)}).controls
            had = {name: choice for name, choice in last.items() if choice}
            self.definition = with_defaults(definition, collect_attributes(reader), had, self._find_highest)
        seen = filter_state(self)
        if seen != state:
            self.state = seen
            self._drilled.clear()

    def _find_highest(self, control: Control) -> Any:
        """The latest or highest value of a control's field that the reader may see; None if there is none."""
        try:
            highest = self.get_model(self.get_dataset(control.dataset)).get_facts(control.field).highest
        except VedutaError:
            return None
        return str(highest)[:10] if control.field_kind.is_date and highest is not None else highest

    @classmethod
    def open(cls, dashboard: Dashboard, state: ViewState, reader: User, draft: bool = False) -> DashboardSession:
        """Raises Http404 if there is no published version yet and the draft is not wanted."""
        if draft:
            return cls(dashboard, freeze_charts(dashboard.load_draft()), state, reader)
        if dashboard.published is None:
            raise Http404
        reading = cls(dashboard, dashboard.published.load(), state, reader)
        reading.definition = filter_definition(reading)
        return reading

    def get_dataset(self, pk: str) -> Dataset:
        """Raises VedutaError for a dataset that is gone."""
        if pk not in self._datasets:
            there = get_datasets([pk])
            if pk not in there:
                raise VedutaError("The dataset of this block does not exist any more.")
            self._datasets[pk] = there[pk]
        return self._datasets[pk]

    def get_schema(self, dataset: Dataset) -> Schema:
        return self._get_whole_model(dataset).schema

    def _get_whole_model(self, dataset: Dataset) -> Model:
        key = str(dataset.pk)
        if key not in self._whole_models:
            self._whole_models[key] = load_whole_model(dataset)
        return self._whole_models[key]

    def get_schema_by_id(self, dataset: str) -> Schema:
        """Raises VedutaError for a dataset that is gone."""
        return self.get_schema(self.get_dataset(dataset))

    def get_model(self, dataset: Dataset) -> Model:
        """A dataset's model as the reader may see it; its blocks set its parameters."""
        key = str(dataset.pk)
        if key not in self._models:
            self._models[key] = load_model_for(dataset, self.reader, whole=self._get_whole_model(dataset))
        return self._models[key]

    @property
    def datasets(self) -> list[str]:
        """The ids of the datasets of the dashboard's charts."""
        found = ((block.definition or {}).get("dataset", "") for block in self.definition.charts)
        return [pk for pk in dict.fromkeys(found) if pk]

    def describe_row_rules(self) -> list[str]:
        """Of which datasets the reader sees only some rows, by which rules."""
        words: list[str] = []
        for pk in self.datasets:
            try:
                words += self.get_model(self.get_dataset(pk)).ruling.describe()
            except VedutaError:
                continue  # its blocks say what is wrong
        return list(dict.fromkeys(words))

    def get_chart(self, block: DashboardBlock) -> ChartDefinition:
        """A block's chart as the reader has drilled it, in the reader's order.

        Raises DefinitionProblem for a definition that is not usable."""
        return self.apply_drills(block).chart

    def apply_drills(self, block: DashboardBlock) -> Drilled:
        """The same with the steps of the reader that it allows."""
        if block.id not in self._drilled:
            text = json.dumps(block.definition)
            chart = charts.get(text, lambda: load_definition(text))
            chart = make_block_chart(chart, block, self.definition.letters)
            chart = apply_choices(chart, list_choosers(self.definition, self.state, block.id))
            made = Drilled(chart)
            if steps := self.state.drills.get(block.id):
                made = apply_drill_steps(chart, steps, self.get_model(self.get_dataset(chart.dataset)))
            if sort := sort_of_column(made.chart, self.state.sorts.get(block.id, "")):
                made = replace(made, chart=made.chart.model_copy(update={"sort": sort}))
            self._drilled[block.id] = made
        return self._drilled[block.id]

    def get_block(self, block_id: str) -> DashboardBlock:
        """A block with a chart. Raises Http404 for any other."""
        block = self.definition.find_block(block_id)
        if block is None or block.kind != "chart":
            raise Http404
        return block

    def get_block_chart(self, block_id: str, number: int | None) -> tuple[DashboardBlock, ChartDefinition]:
        """A block and its chart or, of a text, that of one of its numbers. Raises Http404 for what is not there."""
        if number is None:
            return self.get_block(block_id), self.get_chart(self.get_block(block_id))
        block = self.definition.find_block(block_id)
        if block is None or number >= len(block.numbers):
            raise Http404
        return block, block.numbers[number].chart

    def answer_membership(self, fixed: DashboardFilter) -> ListFilter | None:
        """The values that a filter by a question names in its own data now, under what else narrows these."""
        if fixed.id not in self._members:
            others = tuple(each for each in self.definition.filters if each.id != fixed.id)
            beside = self._list_filters_on(fixed.dataset, self.definition.model_copy(update={"filters": others}))
            values = collect_parameter_values(self.definition, self.state, fixed.dataset, "")
            model = apply_values(self.get_model(self.get_dataset(fixed.dataset)), values)
            assert isinstance(fixed.filter, MembershipFilter)
            self._members[fixed.id] = answer_membership(fixed.filter, beside, model, make_current_context(model))
        return self._members[fixed.id]

    def _list_filters_on(self, dataset: str, narrowing: DashboardDefinition) -> tuple[Filter, ...]:
        """What of a dashboard's filters and controls narrows a dataset, whatever block shows it."""
        chart, state = ChartDefinition(dataset=dataset), self.state.model_copy(update={"selections": ()})
        of = (self.find_selection_source, self.get_schema_by_id)
        return tuple(collect_block_filters("", chart, self.get_schema_by_id(dataset), narrowing, state, *of).filters)

    def list_other_filters(self, control: Control) -> tuple[Filter, ...]:
        """What filters the values that a control offers.

        The dashboard's filters and the other controls, as far as its data follow them."""
        others = tuple(each for each in self.definition.controls if each.id != control.id)
        return self._list_filters_on(control.dataset, self.definition.model_copy(update={"controls": others}))

    def get_control(self, control_id: str) -> Control:
        control = next((control for control in self.definition.controls if control.id == control_id), None)
        if control is None:
            raise Http404
        return control

    def find_source(self, block_id: str) -> tuple[ChartDefinition, Schema] | None:
        """The chart and schema of a block, or None if it has none that can be used."""
        block = self.definition.find_block(block_id)
        if block is None or not block.definition:
            return None
        try:
            chart = self.get_chart(block)
            return chart, self.get_schema(self.get_dataset(chart.dataset))
        except VedutaError:
            return None

    def find_selection_source(self, selection: Selection) -> tuple[ChartDefinition, Schema] | None:
        """The chart and schema that a selection is of.

        On this dashboard or another that the reader may see; a chart that was drilled since is taken as it was then."""
        if selection.dashboard in ("", str(self.dashboard.pk)):
            source, block = self.find_source(selection.block), self.definition.find_block(selection.block)
            if source is None or block is None:
                return None
            made = self.apply_drills(block)
            return max((made.chart, *made.stages), key=selection.find_depth), source[1]
        if selection.dashboard not in self._others:
            self._others[selection.dashboard] = _open_other(selection.dashboard, self.reader)
        other = self._others[selection.dashboard]
        return other.find_source(selection.block) if other else None

    def find_block_filters(self, block: DashboardBlock, chart: ChartDefinition) -> tuple[Dataset, BlockFilters]:
        """The dataset of a chart in a block, and what narrows it there."""
        dataset = self.get_dataset(chart.dataset)
        schema = self.get_schema(dataset)
        of = (self.find_selection_source, self.get_schema_by_id, self.answer_membership)
        return dataset, collect_block_filters(block.id, chart, schema, self.definition, self.state, *of)

    def name_of(self, block: DashboardBlock) -> str:
        """What a chart block is called: its own title, the chart's, or the chart's sentence, before it is drilled."""
        if block.title:
            return block.title
        try:
            made = self.apply_drills(block)
            chart = made.stages[0] if made.stages else made.chart
            return strip_placeholders(chart.title) or write_default_title(chart, self.get_schema_by_id(chart.dataset))
        except VedutaError:
            return "Chart"

    @cached_property
    def paints(self) -> Paints:
        """The colours of its palettes, the same for all blocks; of a version that has kept none, those in use."""
        kept = self.definition.palettes_kept
        return Paints.from_palettes(kept) if kept else load_paints()

    def draw(
        self, block: DashboardBlock, chart: ChartDefinition, rows_from: int = 0, result: Result | None = None
    ) -> tuple[DrawnChart, BlockFilters]:
        """Answer and draw the chart of a block.

        Of a long table, rows from `rows_from` on; `result` is its answer where that was computed together with others.
        Raises VedutaError with what does not fit."""
        model, following = self.prepare(block, chart)
        own = next((s for s in self.state.selections if s.block == block.id and not s.dashboard), None)
        points = own.list_own_points(chart) if own else ()
        selection = OwnSelection(points, own.mode == "leave_out") if own and points else None
        filters = tuple(following.filters)
        if following.highlights and not selection:
            selection = set_off(chart, model, make_current_context(model), filters, tuple(following.highlights))
        drawn = draw_over(
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
        return drawn, following

    def prepare(self, block: DashboardBlock, chart: ChartDefinition) -> tuple[Model, BlockFilters]:
        """The model that a chart in a block asks, and what narrows it there; worked out once for a block's own."""
        if block.id not in self._drilled or chart is not self._drilled[block.id].chart:
            return self._prepare_for(block, chart)
        if block.id not in self._asked:
            self._asked[block.id] = self._prepare_for(block, chart)
        return self._asked[block.id]

    def _prepare_for(self, block: DashboardBlock, chart: ChartDefinition) -> tuple[Model, BlockFilters]:
        dataset, following = self.find_block_filters(block, chart)
        return apply_values(self.get_model(dataset), chart.values | self.collect_values(block, chart)), following

    def answer_all(self, blocks: Iterable[DashboardBlock]) -> Iterator[tuple[DashboardBlock, list[Given]] | None]:
        """Yields each block with its results, as soon as all of it is computed; blocks' questions are asked together.

        What comes gives the result of its chart, or those of the numbers of a text, or raises their problems; None
        before it waits."""
        asked = [(block, number) for block in blocks for number in self._list_number_positions(block)]
        questions = [partial(self.build_question, block, number) for block, number in asked]
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
                yield block, [given[block.id][each] for each in self._list_number_positions(block)]

    @staticmethod
    def _list_number_positions(block: DashboardBlock) -> list[int | None]:
        """The questions of a block: its chart's (None), or those of the numbers of a text, by their places."""
        return [None] if block.kind == "chart" else list(range(len(block.numbers)))

    def build_question(self, block: DashboardBlock, number: int | None) -> ModelQuery:
        """What a block asks, or one of the numbers of a text. Raises VedutaError with what does not fit."""
        _, chart = self.get_block_chart(block.id, number)
        model, following = self.prepare(block, chart)
        return build_question(model, chart, tuple(following.filters), self._left)

    def collect_values(self, block: DashboardBlock, chart: ChartDefinition) -> dict[str, Any]:
        """What the controls set the parameters of the model of a chart in a block to."""
        return collect_parameter_values(self.definition, self.state, chart.dataset, block.id)

    @cached_property
    def _left(self) -> Callable[[], bool]:
        """Whether the person who asked has left."""
        is_there = watch_client()
        return lambda: not is_there()

    def make_block_data(
        self, block: DashboardBlock, as_table: bool = False, rows_from: int = 0, result: Result | None = None
    ) -> dict[str, Any]:
        """A block's data for the page.

        Of a long table, rows from `rows_from` on; `result` is its answer where that was computed together with others.
        Raises VedutaError with what does not fit."""
        drawn, following = self.draw(block, self.get_chart(block), rows_from, result)
        data = drawn.data
        data["not_followed"] = following.not_followed
        hides_title = data["title_look"]["hidden"] or "title" not in block.look.parts
        data["title_look"] = data["title_look"] | {"hidden": hides_title}
        data["summary"] = _summarise(drawn.answered, self.name_of(block))
        if as_table and data.get("spec"):
            data["table"] = render_rows(drawn.answered)
        return data

    def compute_numbers(self, block: DashboardBlock) -> list[str]:
        """The numbers in a text, as they stand there."""
        return next(self.format_numbers(*each) for each in self.answer_all([block]) if each) if block.numbers else []

    def format_numbers(self, block: DashboardBlock, given: Sequence[Given]) -> list[str]:
        """The numbers in a text, in order, from what gives their results.

        A dash for one that cannot be computed."""
        said = []
        for number, give in zip(block.numbers, given, strict=True):
            try:
                said.append(self.draw(block, number.chart, result=give())[0].answered.title)
            except VedutaError:
                said.append(EMPTY)
        return said

    def find_underlying_rows(
        self, block: DashboardBlock, chart: ChartDefinition, marks: Sequence[Filter] = ()
    ) -> UnderlyingRows:
        """What gives the records behind a chart in a block or some of its marks."""
        dataset, following = self.find_block_filters(block, chart)
        values = chart.values | self.collect_values(block, chart)
        filters, home = find_underlying_rows(
            dataset, chart, self.reader, tuple(following.filters), tuple(marks), values
        )
        return dataset, filters, home, values

    def find_rows_of_selection(self, selection: Selection) -> UnderlyingRows:
        """What gives the records behind the marks that are selected in a block. Raises Http404 if it is gone."""
        block, source = self.get_block(selection.block), self.find_selection_source(selection)
        if source is None:
            raise Http404
        made = selection.model_copy(update={"mode": "focus"}).filter(source[0])
        return self.find_underlying_rows(block, source[0], [made] if made else [])

    def build_click_address(self, block: DashboardBlock, point: list[Any]) -> str:
        """Where a click on a mark of a block leads, by the mark's point; "" where it leads nowhere."""
        source = self.find_source(block.id)
        if source is None or block.click.does != "address":
            return ""
        chart, schema = source
        values = {
            label_grouping(group, schema): label_value(
                convert_point_value(value, schema[group.field], group.grain), group.grain
            )
            for group, value in zip(chart.groups, point, strict=False)
        }
        return fill_address(block.click.address, values)

    @property
    def is_as_published(self) -> bool:
        """Whether everything stands as whoever made the dashboard set it."""
        as_set = all(get_choice(each, self.state) == getattr(each, each.kind) for each in self.definition.controls)
        return as_set and not self.state.selections and not self.state.sorts and not self.state.drills

    @cached_property
    def latest(self) -> str:
        """The latest date in the data of the dashboard's controls or charts, in words."""
        days: list[dt.date] = []
        for pk in {control.dataset for control in self.definition.controls} | {*self.datasets}:
            try:
                day = make_current_context(self.get_model(self.get_dataset(pk))).latest_of_first
            except VedutaError:
                continue
            days += [day] if day else []
        return label_period(max(days), Grain.DAY) if days else ""


def _summarise(answered: AnsweredChart, name: str) -> list[dict[str, Any]]:
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


def _open_other(pk: str, reader: User) -> DashboardSession | None:
    """Another dashboard as it is published, if the reader may see it."""
    try:
        dashboard = find_dashboard(reader, uuid.UUID(pk))
        return DashboardSession.open(dashboard, ViewState(), reader)
    except (ValueError, Http404):
        return None


def block_name(block: DashboardBlock) -> str:
    """What a block of a draft is called where its chart is not worked out."""
    return block.title or block.text.strip().split("\n")[0][:100] or {"chart": "A chart"}.get(block.kind, "")
