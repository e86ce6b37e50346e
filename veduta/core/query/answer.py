"""Answer a query: filters, grain, keep, totals, sort, limit, in the order the guide's page on calculation gives."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Iterable
from dataclasses import dataclass
from typing import cast

import polars as pl

from veduta.core.cache import Cache
from veduta.core.calendar import (
    PERIODS,
    Grain,
    Grouping,
    independent,
    period_end,
    period_start,
)
from veduta.core.data.fields import Kind, NumberFormat, Schema, Total
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.check import Checked
from veduta.core.formula.functions import Level
from veduta.core.model.model import Model
from veduta.core.query.engine import Engine
from veduta.core.query.engine.places import Place, key_of
from veduta.core.query.filters import (
    Context,
    Filter,
    MeasureFilter,
    grouping_words,
    narrow,
    typed,
)
from veduta.core.query.measures import Keep, Measure, measure_format, measure_node, measure_words, total_of
from veduta.core.query.query import Column, Query, Rest, Result, Sort
from veduta.core.words import in_sentence


def _size(result: Result) -> float:
    """What an answer takes in memory, in bytes."""
    return sum(frame.estimated_size() for frame in (result.frame, *result.totals.values())) + 2_000


answers: Cache[Result] = Cache(128 * 1024 * 1024, _size)
"""The answers that are kept, by the model, the question and today."""
ALIGNED, REST = "__aligned", "rest"
REST_NAMES = ("Other", "All others", "Everything else")


def context_for(model: Model, today: dt.date) -> Context:
    """The context with the latest date of every date field of the model."""
    latest = {}
    for field in model.schema:
        if field.kind.is_date and (highest := model.facts(field.id).highest):
            latest[field.id] = dt.date.fromisoformat(str(highest)[:10])
    return Context(today, latest, model.schema.fiscal_month)


def answer(query: Query, model: Model, context: Context) -> Result:
    """The query's result over a model. Raises DefinitionProblem if the query does not fit it."""
    if model.key is None:
        return _Answer(query, model, context).result()
    key = (model.answers_depend_on(), query, context.today)
    return answers.get(key, lambda: _Answer(query, model, context).result())


class _Answer:
    """One question on its way through the steps. `groups` are the dimensions shown, each once; `place` leaves out those
    that follow from another one, as a year does from the month beside it."""

    def __init__(self, query: Query, model: Model, context: Context) -> None:
        self.query, self.model, self.schema, self.context = query, model, model.schema, context
        self.notes: list[str] = []
        self.dropped = False
        filters, self.conditions = settled(query.filters, model, context)
        self.keep = query.keep.settled(model.parameters) if query.keep and query.groups else None
        self.nodes = [self._node(measure) for measure in query.measures]
        self.groups = tuple(dict.fromkeys(query.groups))
        self.place = _place_of(self.groups)
        self.keys = [key_of(group) for group in self.groups]
        judged = tuple((self._node(each.measure), each) for each in self.conditions)
        self.engine = Engine(model, filters, context, self.place.groups, conditions=judged)
        self.gathered: _Gathered | None = None
        self.columns: dict[Checked, str] = {}

    def _node(self, measure: Measure) -> Checked:
        return measure_node(measure, self.schema, self.model.parameters)

    def result(self) -> Result:
        query, engine = self.query, self.engine
        at_once = [*self.nodes, *(node for node, _ in engine.conditions)]
        aligned = self._node(Measure(formula=f"since({query.aligned})")) if query.aligned else None
        at_once += [aligned] if aligned else []
        ranked = [self._node(measure) for measure in self._ranked_here()]
        ordering = [node for group in self.groups if (node := engine.sort_node(group))]
        wanted = [*at_once, *ranked, *ordering] or [measure_node(Measure(), self.schema, {})]
        engine.gather((node, self.place) for node in wanted)
        home = engine.home(at_once[0], self.place) if at_once else ""
        valued = list(dict.fromkeys([*self.nodes, *ranked, *ordering]))
        self.columns = dict(zip(valued, engine.put_columns(valued, self.place), strict=True))
        self.rows = self._rows_in(home)
        names = [self.columns[node] for node in self.nodes]
        frame = self._shown(aligned)
        frame = self._kept(frame, names)
        self.context.check_wanted()
        rows_read = int(frame[self.rows].sum() or 0)
        totals = self._totals(frame, names)
        frame = self._sorted(frame, names)
        groups = frame.height
        if groups > query.limit:
            self.notes.append(f"Showing {query.limit:,} of {groups:,} groups.")
            frame = frame.head(query.limit)
        if not rows_read and query.filters:
            self.notes += self._why_nothing()
        shown = self._named(frame, names)
        return Result(
            columns=result_columns(query, self.schema, self.nodes),
            frame=shown,
            totals=totals,
            rows_read=rows_read,
            rows_there=self.model.rows_of(home),
            groups=groups,
            unfinished=_unfinished(query, shown, self.model, self.context),
            rest=self.gathered.rest if self.gathered else None,
            notes=[*self.notes, *engine.notes],
        )

    def _rows_in(self, home: str) -> str:
        """The column with how many rows of a table passed the filters, for each cell."""
        cells = self.engine.cells[self.place]
        name = self.engine.rows_in(self.place, home).name
        if name not in cells.frame.columns:
            cells.frame = cells.frame.with_columns(pl.lit(0).alias(name))
        return name

    def _shown(self, aligned: Checked | None) -> pl.DataFrame:
        """The cells that the filters on groups let pass, with all dimensions."""
        engine = self.engine
        passes = engine.passing(self.place)
        start = engine.column(aligned, self.place) if aligned else ""
        frame = engine.cells[self.place].frame
        if passes:
            frame = frame.filter(pl.col(passes))
        if start:
            frame = frame.with_columns(pl.col(start).alias(ALIGNED)).filter(pl.col(ALIGNED).is_not_null())
        if self.groups == self.place.groups:
            return frame
        values = engine.told_by(self.groups, self.place)
        return frame.with_columns(value.alias(key_of(group)) for group, value in values.items() if value is not None)

    def _named(self, frame: pl.DataFrame, names: list[str]) -> pl.DataFrame:
        axis = self.engine.axis(self.place) if self.query.aligned else None
        keys = [ALIGNED if group == axis else key_of(group) for group in self.query.groups]
        sources = {f"d{i}": key for i, key in enumerate(keys)} | {f"m{i}": name for i, name in enumerate(names)}
        return _taken(frame, sources | ({REST: REST} if self.gathered else {}))

    def _total_engine(self, frame: pl.DataFrame, narrowed: bool, ranks: bool = False) -> Engine:
        """Works values out of fewer dimensions, over these cells of the chart."""
        return Engine(
            self.model,
            self.engine.filters,
            self.context,
            self.place.groups,
            kept=frame[self.keys],
            finer=self.engine,
            narrowed=narrowed,
            ranks=ranks,
        )

    # Keep.

    def _ranked_here(self) -> list[Measure]:
        """Measures that order the cells themselves."""
        measures = []
        if self.keep and (len(self.keys) == 1 or self.keep.of == "within"):
            measures.append(self.keep.by)
        if len(self.keys) == 1 and self._sort().by == "measure":
            measures.append(self._sort_measure())
        return measures

    def _kept(self, frame: pl.DataFrame, names: list[str]) -> pl.DataFrame:
        keep = self.keep
        self.dropped = bool(self.conditions or self.query.aligned)
        if not keep or not self.keys:
            return frame
        position = (
            len(self.keys) - 1 if keep.of == "within" else self.groups.index(self.query.groups[self.query.keep_group])
        )
        key, group = self.keys[position], self.groups[position]
        name = grouping_words(group, self.schema)
        by, within = self.columns.get(self._node(keep.by), ""), []
        on_cells = len(self.keys) == 1 or keep.of == "within"
        if on_cells:
            ranked = frame
            within = [other for other in self.keys if other != key] if keep.of == "within" else []
        else:
            totals = self._total_engine(frame, self.dropped, ranks=True)
            place = Place((group,))
            totals.gather([(self._node(keep.by), place)])
            by = totals.column(self._node(keep.by), place)
            ranked = totals.cells[place].frame
        best = _best(ranked, keep, by, key, within, name, self.notes)
        on = [*within, key]
        kept = best[frame.columns] if on_cells else frame.join(best[on], on=on, how="semi", nulls_equal=True)
        if kept.height == frame.height:
            return kept
        if keep.rest:
            dropped = frame.join(best[on], on=on, how="anti", nulls_equal=True)
            return pl.concat([kept, self._gather_rest(kept, dropped, names, position)], how="diagonal_relaxed")
        self.dropped = True
        return kept

    def _gather_rest(self, kept: pl.DataFrame, dropped: pl.DataFrame, names: list[str], position: int) -> pl.DataFrame:
        """All that was not kept as one value, worked out anew from its rows. Of
        windows only shares are given: they add up."""
        group, key = self.groups[position], self.keys[position]
        values = (
            {str(value).casefold() for value in self.engine.cells[self.place].frame[key].unique()}
            if not group.grain
            else set()
        )
        free = [name for name in REST_NAMES if name.casefold() not in values]
        said = free[0] if free else f"{REST_NAMES[0]} ({dropped[key].n_unique():,})"
        self.gathered = _Gathered(position, Rest(f"d{self.query.groups.index(group)}", said), kept, dropped)
        engine = self._total_engine(dropped, True)
        place = _place_of(tuple(each for each in self.groups if each != group))
        engine.gather((node, place) for node in self.nodes)
        keys = [key_of(each) for each in place.shown]
        windows = {name: node for name, node in zip(names, self.nodes, strict=True) if node.level is Level.WINDOW}
        anew = [
            pl.col(engine.column(node, place)).alias(name)
            for name, node in zip(names, self.nodes, strict=True)
            if name not in windows
        ]
        rest = self._with_keys(engine, place).select(*keys, *anew)
        summed = [pl.col(self.rows).sum()]
        for name, node in windows.items():
            adds_up = node.function is not None and node.function.adds_up
            sum_of_all = pl.when(pl.col(name).count() > 0).then(pl.col(name).sum())
            summed.append((sum_of_all if adds_up else pl.lit(None, dtype=dropped.schema[name])).alias(name))
        if keys:
            rest = rest.join(dropped.group_by(keys).agg(summed), on=keys, how="inner", nulls_equal=True)
        else:
            rest = pl.concat([rest, dropped.select(summed)], how="horizontal")
        none = pl.lit(None, dtype=dropped.schema[key]).alias(key)
        return rest.with_columns(none, pl.lit(True).alias(REST)).select(*self.keys, *names, self.rows, REST)

    def _with_keys(self, engine: Engine, place: Place) -> pl.DataFrame:
        """A place's cells with all the dimensions it shows, also those that follow from another."""
        if place.shown == place.groups:
            return engine.cells[place].frame
        values = engine.told_by(place.shown, place)
        told = [value.alias(key_of(group)) for group, value in values.items() if value is not None]
        return engine.cells[place].frame.with_columns(told)

    # Totals.

    def _totals(self, frame: pl.DataFrame, names: list[str]) -> dict[tuple[int, ...], pl.DataFrame]:
        rules = [total_of(measure, self.schema) for measure in self.query.measures]
        for measure, node, rule in zip(self.query.measures, self.nodes, rules, strict=True):
            if self.query.totals and rule in ("sum", "mean") and not (node.kind is None or node.kind.is_number):
                raise DefinitionProblem(
                    f"The {rule} of “{measure_words(measure, self.schema)}” cannot be a total: it holds"
                    f" {node.kind.words} values.",
                    hint="Choose another rule for its totals.",
                )
        gathered = self.gathered
        if gathered is None:
            return self._totals_over(frame, frame, self.query.totals, names, rules, self.dropped)
        dimension = self.groups[gathered.position]
        apart = [kept for kept in self.query.totals if dimension in [self.query.groups[i] for i in kept]]
        behind = pl.concat([gathered.kept.select(self.keys), gathered.dropped.select(self.keys)])
        others = [kept for kept in self.query.totals if kept not in apart]
        totals = self._totals_over(behind, frame, others, names, rules, self.dropped)
        main = self._totals_over(gathered.kept, frame.filter(~pl.col(REST).fill_null(False)), apart, names, rules, True)
        rests = {kept: tuple(i for i in kept if self.query.groups[i] != dimension) for kept in apart}
        rest = self._totals_over(
            gathered.dropped, frame.filter(pl.col(REST)), list(dict.fromkeys(rests.values())), names, rules, True
        )
        for kept in apart:
            lines = rest[rests[kept]].with_columns(pl.lit(True).alias(REST))
            totals[kept] = pl.concat([main[kept], lines], how="diagonal_relaxed")
        return {kept: totals[kept] for kept in self.query.totals}

    def _totals_over(
        self,
        cells: pl.DataFrame,
        shown: pl.DataFrame,
        wanted: Iterable[tuple[int, ...]],
        names: list[str],
        rules: list[Total],
        narrowed: bool,
    ) -> dict[tuple[int, ...], pl.DataFrame]:
        """Totals over these cells of the chart, which are shown as the rows of `shown`."""
        wanted = tuple(wanted)
        if not wanted:
            return {}
        engine = self._total_engine(cells, narrowed)
        places = {kept: _place_of(tuple(dict.fromkeys(self.query.groups[i] for i in kept))) for kept in wanted}
        again = [
            (node, place)
            for place in places.values()
            for node, rule in zip(self.nodes, rules, strict=True)
            if rule == "again"
        ]
        for place in places.values():
            engine.want(place, engine.home(self.nodes[0], place) if self.nodes else "")
        engine.gather(again)
        return {kept: self._total(engine, shown, names, rules, kept, place, narrowed) for kept, place in places.items()}

    def _total(
        self,
        engine: Engine,
        frame: pl.DataFrame,
        names: list[str],
        rules: list[Total],
        kept: tuple[int, ...],
        place: Place,
        narrowed: bool,
    ) -> pl.DataFrame:
        again = [i for i, rule in enumerate(rules) if rule == "again"]
        columns = engine.put_columns([self.nodes[i] for i in again], place)
        keys = {f"d{i}": key_of(self.query.groups[i]) for i in kept}
        measures = {f"m{i}": column for i, column in zip(again, columns, strict=True)}
        total = _taken(self._with_keys(engine, place), keys | measures)
        shown = [
            _of_shown(frame, name, rule).alias(f"m{i}")
            for i, (name, rule) in enumerate(zip(names, rules, strict=True))
            if rule != "again"
        ]
        own = [pl.col(key).alias(name) for name, key in keys.items()]
        if shown and keys:
            total = total.join(frame.group_by(own).agg(shown), on=list(keys), how="left", nulls_equal=True)
        elif shown:
            total = pl.concat([total, frame.select(shown)], how="horizontal")
        if narrowed and keys:
            total = total.join(frame.select(own).unique(), on=list(keys), how="semi", nulls_equal=True)
        total = total[[*keys, *(f"m{i}" for i in range(len(names)))]]
        return total.sort(list(keys), nulls_last=True) if keys else total

    # Sort.

    def _sort(self) -> Sort:
        if self.query.sort:
            return self.query.sort
        return Sort(by="time" if self.query.groups and self.query.groups[0].grain else "name")

    def _sort_measure(self) -> Measure:
        return self._sort().measure or (self.query.measures[0] if self.query.measures else Measure())

    def _sorted(self, frame: pl.DataFrame, names: list[str]) -> pl.DataFrame:
        """The rows in order: the first dimension as the sort says, the others by their own order. Empties come last in
        each, and what was not kept after them."""
        if not self.keys:
            return frame
        if self.query.aligned:
            return frame.sort([ALIGNED, *self.keys], nulls_last=True)
        by: list[tuple[pl.Expr, bool]] = []
        for i, group in enumerate(self.groups):
            if self.gathered and self.gathered.position == i:
                by.append((pl.col(REST).fill_null(False), False))
            if i == 0:
                frame, first = self._first_order(frame, names)
                by += first
            elif node := self.engine.sort_node(group):
                by.append((pl.col(self.columns[node]), False))
            by.append(
                (pl.col(self.keys[i]), i == 0 and self._sort().by in ("name", "time") and self._sort().descending)
            )
        if frame.height < 2:
            return frame
        return frame.sort([each for each, _ in by], descending=[down for _, down in by], nulls_last=True)

    def _first_order(self, frame: pl.DataFrame, names: list[str]) -> tuple[pl.DataFrame, list[tuple[pl.Expr, bool]]]:
        """What the first dimension is sorted by, besides its values."""
        sort, group, first = self._sort(), self.groups[0], pl.col(self.keys[0])
        if sort.by == "measure":
            frame, order = self._with_order(frame, self._sort_measure(), names)
            return frame, [(first.is_null(), False), (pl.col(order), sort.descending)]
        if sort.by == "own":
            values = [typed(value, self.schema[group.field], group.grain) for value in sort.values]
            orders = pl.DataFrame(
                {self.keys[0]: pl.Series(values, dtype=frame[self.keys[0]].dtype), "__order": range(len(values))}
            )
            frame = frame.join(orders.unique(self.keys[0]), on=self.keys[0], how="left")
            return frame, [(pl.col("__order"), False)]
        if node := self.engine.sort_node(group):
            return frame, [(first.is_null(), False), (pl.col(self.columns[node]), sort.descending)]
        if frame[self.keys[0]].dtype == pl.String:
            return frame, [(first.str.to_lowercase(), sort.descending)]
        return frame, []

    def _with_order(self, frame: pl.DataFrame, measure: Measure, names: list[str]) -> tuple[pl.DataFrame, str]:
        """The rows with the measure by which the first dimension is sorted, and the name of its column."""
        if len(self.keys) == 1:
            shown = next((i for i, other in enumerate(self.query.measures) if other.same_number(measure)), None)
            return frame, names[shown] if shown is not None else self.columns[self._node(measure)]
        place = Place(self.groups[:1])
        engine = self._total_engine(frame, self.dropped, ranks=True)
        node = self._node(measure)
        engine.gather([(node, place)])
        column = engine.column(node, place)
        ranking = _taken(engine.cells[place].frame, {self.keys[0]: self.keys[0], "__order": column})
        return frame.join(ranking, on=self.keys[0], how="left", nulls_equal=True), "__order"

    def _why_nothing(self) -> list[str]:
        """For filters on values that do not occur at all: say so."""
        reasons = []
        for filter_ in self.query.filters:
            if field := filter_.named_values():
                rows = self.model.scan([field], self.model.home_of({field}))
                if not narrow(rows, (filter_,), self.schema, self.context).select(pl.len()).collect().item():
                    reasons.append(f"Nothing matches: no row has {filter_.words(self.schema)}.")
        return reasons or ["No rows pass all the filters."]


@dataclass(frozen=True)
class _Gathered:
    """What became of a dimension (its position) whose values were not all kept: the cells kept, and those gathered."""

    position: int
    rest: Rest
    kept: pl.DataFrame
    dropped: pl.DataFrame


def _place_of(groups: tuple[Grouping, ...]) -> Place:
    """The place of these dimensions: those that follow from another one are shown only."""
    own = independent(groups)
    return Place(own, outer=groups if own != groups else None)


def settled(
    filters: tuple[Filter, ...], model: Model, context: Context
) -> tuple[tuple[Filter, ...], list[MeasureFilter]]:
    """Filters on rows with their parameters' values, and what they ask worked out; apart from them those on groups."""
    now_set = [now for filter_ in filters if (now := filter_.settled(model.parameters)) is not None]
    groups = [filter_ for filter_ in now_set if isinstance(filter_, MeasureFilter)]
    rows = [filter_ for filter_ in now_set if not filter_.is_on_groups]
    plain = tuple(filter_ for filter_ in rows if filter_.question() is None)
    return tuple(_answered(filter_, plain, model, context) for filter_ in rows), groups


def _answered(filter_: Filter, others: tuple[Filter, ...], model: Model, context: Context) -> Filter:
    """A filter with the values that the question it needs returns; some questions follow the other filters."""
    asked = filter_.question()
    if asked is None:
        return filter_
    condition = asked.condition()
    own = (*asked.filters, *(others if asked.follows else ()), *([condition] if condition else []))
    measures = (asked.keep.by,) if asked.keep else (asked.measure,) if asked.measure else ()
    query = Query(
        groups=(asked.grouping(model.schema),),
        measures=measures,
        filters=own,
        keep=asked.keep and asked.keep.model_copy(update={"rest": False, "of": "by"}),
        limit=10_000_000,
    )
    return filter_.answered(_Answer(query, model, context).result().frame["d0"], model.schema)


def result_columns(query: Query, schema: Schema, nodes: list[Checked]) -> list[Column]:
    """The columns that the query's result will have, dimensions first; `nodes` are its measures, checked."""
    columns = []
    for i, group in enumerate(query.groups):
        field = schema[group.field]
        words = grouping_words(group, schema)
        if query.aligned and group.is_time_axis:
            counted = f"{group.period.words.capitalize()}s since the first"
            columns.append(Column(f"d{i}", counted, Kind.WHOLE, Grouping(field=group.field), NumberFormat(decimals=0)))
            continue
        columns.append(Column(f"d{i}", words[0].upper() + words[1:], field.kind, group, field.format))
    for i, (measure, node) in enumerate(zip(query.measures, nodes, strict=True)):
        words = measure_words(measure, schema)
        said = words[0].upper() + words[1:] if not measure.formula or measure.name else words
        kind = Kind.DECIMAL if node.kind is None else node.kind
        columns.append(
            Column(f"m{i}", said, kind, None, measure_format(measure, schema, node), total_of(measure, schema))
        )
    return columns


def _taken(frame: pl.DataFrame, sources: dict[str, str]) -> pl.DataFrame:
    """Columns of a frame under new names. (Faster than select, which goes through the query planner.)"""
    return pl.DataFrame([frame[source].alias(name) for name, source in sources.items()])


def _of_shown(frame: pl.DataFrame, name: str, rule: str) -> pl.Expr:
    """A total of the values shown; empty where there are none."""
    if rule == "none":
        return pl.lit(None, dtype=frame.schema[name])
    return pl.when(pl.col(name).count() > 0).then(getattr(pl.col(name), rule)())


def _best(
    ranked: pl.DataFrame, keep: Keep, by: str, key: str, within: list[str], name: str, notes: list[str]
) -> pl.DataFrame:
    """The rows that are kept by their value in a column, overall or `within` each group; ties at the edge go to the
    first in order unless ties are kept, and are said."""
    needed = [by] if keep.empties else [by, key]
    if any(ranked[column].null_count() for column in needed):
        ranked = ranked.drop_nulls(needed)
    downwards = [*[False] * len(within), keep.end == "top", False]
    ranked = ranked.sort([*within, by, key], descending=downwards, nulls_last=True)
    kept, tied = _first_of_each(ranked, keep, by, within) if within else _first_of(ranked, keep, by)
    if tied and keep.ties:
        notes.append(f"{tied:,} more of {name} {'is' if tied == 1 else 'are'} kept because of ties.")
    elif tied:
        notes.append(f"{tied:,} more of {name} tie{'s' * (tied == 1)} with the last one kept.")
    if kept[key].null_count() and kept.height < ranked.height:
        notes.append(f"An empty {in_sentence(name)} is among those kept.")
    return kept


def _first_of(ranked: pl.DataFrame, keep: Keep, by: str) -> tuple[pl.DataFrame, int]:
    """The first rows of a ranking, and how many more tie with the last of them;
    these are among the rows if ties are kept."""
    # At least one, and never a part of one: 10% of 25 are 3.
    count = max(1, math.ceil(ranked.height * min(keep.count, 100) / 100 - 1e-9)) if keep.percent else keep.count
    kept = ranked.head(count)
    tied = int((ranked[by][count:] == kept[by][-1]).sum()) if ranked.height > count else 0
    return (ranked.head(count + tied) if keep.ties else kept), tied


def _first_of_each(ranked: pl.DataFrame, keep: Keep, by: str, within: list[str]) -> tuple[pl.DataFrame, int]:
    """The same within each group."""
    count = pl.lit(keep.count)
    if keep.percent:
        count = (pl.len().over(within) * min(keep.count, 100) / 100 - 1e-9).ceil().clip(1)
    numbered = ranked.with_columns(
        __row=pl.int_range(pl.len()).over(within),
        __rank=pl.col(by).rank("min", descending=keep.end == "top").over(within),
        __count=count,
    )
    with_ties = numbered.filter(pl.col("__rank") <= pl.col("__count"))
    first = with_ties.filter(pl.col("__row") < pl.col("__count"))
    return (with_ties if keep.ties else first), with_ties.height - first.height


def _unfinished(query: Query, shown: pl.DataFrame, model: Model, context: Context) -> dt.date | None:
    """The last day with data, where the latest period shown goes on after it."""
    periods = [(i, group) for i, group in enumerate(query.groups) if group.is_time_axis]
    if not periods or not shown.height or query.aligned:
        return None
    first = periods[0][1].field
    position, group = max(periods, key=lambda each: (each[1].field == first, PERIODS.index(each[1].period)))
    last = cast("dt.date | None", shown[f"d{position}"].max())
    dates, latest = model.same_dates(group.field), context.latest.get(group.field)
    if last is None or latest is None or group.grain in (Grain.DAY, Grain.HOUR):
        return None
    for filter_ in query.filters:
        latest = min(latest, filter_.last_day(dates, context) or latest)
    is_shown_last = period_start(latest, group.period, context.fiscal_month) == last
    return latest if is_shown_last and latest < period_end(last, group.period) else None
