"""Answer a query: filters, grain, keep, totals, sort, limit, in the order the guide's page on calculation gives."""

from __future__ import annotations

import datetime as dt
from typing import Any

import polars as pl

from veduta.core.data.fields import Aggregate, Kind, NumberFormat, Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.check import Checked
from veduta.core.formula.functions import Level
from veduta.core.formula.measures import ParameterValue
from veduta.core.model.model import ROW, Model, Table
from veduta.core.query.cache import results
from veduta.core.query.cells import Engine
from veduta.core.query.filters import (
    Context,
    DatesFilter,
    Filter,
    ListFilter,
    MeasureFilter,
    MembershipFilter,
    PointsFilter,
    RelativeFilter,
    ValuesFilter,
    grouping_words,
    narrow,
    typed,
    value_words,
)
from veduta.core.query.grains import Grain, Grouping, group_expression, period_end, period_start
from veduta.core.query.measures import Keep, Measure, measure_format, measure_node, measure_words, total_of
from veduta.core.query.places import Place, key_of
from veduta.core.query.query import Column, Query, Result, Sort

OTHER, ALIGNED = "Other", "__aligned"


def context_for(table: Table, schema: Schema, today: dt.date) -> Context:
    """The context with the latest date of every date field of the table."""
    latest = {}
    for field in schema:
        if field.kind.is_date and (highest := table.facts(field.id).highest):
            latest[field.id] = dt.date.fromisoformat(str(highest)[:10])
    return Context(today, latest)


def answer(query: Query, table: Table, schema: Schema, context: Context) -> Result:
    """The query's result over a model, or over the single table. Raises DefinitionProblem if the query does not fit."""
    model = Model.of_one(table, schema)
    if model.key is None:
        return _Answer(query, model, context).result()
    key = (model.answers_depend_on(), query, context.today)
    return results.get(key, lambda: _Answer(query, model, context).result())


class _Answer:
    """One question on its way through the steps."""

    def __init__(self, query: Query, model: Model, context: Context) -> None:
        self.query, self.model, self.schema, self.context = query, model, model.schema, context
        self.notes: list[str] = []
        self.rest = ""
        self.dropped = False
        filters, self.conditions = settled(query.filters, model, context)
        self.keep = settled_keep(query.keep, model) if query.groups else None
        self.nodes = [self._node(measure) for measure in query.measures]
        self.groups = tuple(dict.fromkeys(query.groups))  # one that stands there twice is worked out once
        self.place = Place(self.groups)
        self.keys = [key_of(group) for group in self.groups]
        self.engine = Engine(model, filters, context, self.groups)

    def _node(self, measure: Measure) -> Checked:
        return measure_node(measure, self.schema, self.model.parameters)

    def result(self) -> Result:
        query, engine = self.query, self.engine
        at_once = [*self.nodes, *(self._node(each.measure) for each in self.conditions)]
        aligned = self._node(Measure(formula=f"since({query.aligned})")) if query.aligned else None
        at_once += [aligned] if aligned else []
        ranked = [self._node(measure) for measure in self._ranked_here()]
        engine.gather((node, self.place) for node in [*at_once, *ranked] or [measure_node(Measure(), self.schema, {})])
        home = engine.home(at_once[0], self.place) if at_once else ""
        cells = engine.cells[self.place]
        cells.frame = (
            cells.frame.with_columns(engine.rows_in(self.place, home).alias("rows"))
            if not query.groups
            else self._with_rows(home)
        )
        for condition in self.conditions:
            column = engine.column(self._node(condition.measure), self.place)
            cells.frame = cells.frame.filter(_between(pl.col(column), condition))
        names = [engine.column(node, self.place) for node in self.nodes]
        if aligned:
            column = pl.col(engine.column(aligned, self.place))
            cells.frame = cells.frame.with_columns(column.alias(ALIGNED)).filter(pl.col(ALIGNED).is_not_null())
        frame = self._kept(cells.frame, names)
        self.context.check_wanted()
        rows_read = int(frame["rows"].fill_null(0).sum())
        totals = self._totals(frame, names)
        frame = self._sorted(frame, names)
        groups = frame.height
        if groups > query.limit:
            self.notes.append(f"Showing {query.limit:,} of {groups:,} groups.")
            frame = frame.head(query.limit)
        if not rows_read and query.filters:
            self.notes += self._why_nothing()
        found = self._named(frame, names)
        return Result(
            columns=result_columns(query, self.schema, self.nodes),
            frame=found,
            totals=totals,
            rows_read=rows_read,
            rows_there=self.model.rows_of(home),
            groups=groups,
            unfinished=_unfinished(query, found, self.context),
            notes=[*self.notes, *engine.notes],
        )

    def _with_rows(self, home: str) -> pl.DataFrame:
        engine = self.engine
        frame, rows = engine.cells[self.place].frame, engine.rows_in(self.place, home)
        column = rows.name
        return (
            frame.with_columns(pl.col(column).alias("rows"))
            if column in frame.columns
            else frame.with_columns(rows=pl.lit(0))
        )

    def _named(self, frame: pl.DataFrame, names: list[str]) -> pl.DataFrame:
        axis = self.engine.axis(self.place) if self.query.aligned else None
        keys = [ALIGNED if group == axis else key_of(group) for group in self.query.groups]
        dimensions = [pl.col(key).alias(f"d{i}") for i, key in enumerate(keys)]
        return frame.select(*dimensions, *(pl.col(name).alias(f"m{i}") for i, name in enumerate(names)))

    def _total_engine(self, frame: pl.DataFrame, narrowed: bool) -> Engine:
        """Works values out of fewer dimensions, over these cells of the chart."""
        return Engine(
            self.model, self.engine.filters, self.context, self.groups,
            kept=frame.select(self.keys), finer=self.engine, narrowed=narrowed,
        )  # fmt: skip

    # Keep.

    def _ranked_here(self) -> list[Measure]:
        """Measures that order the cells themselves."""
        found = []
        if self.keep and (len(self.keys) == 1 or self.keep.of == "within"):
            found.append(self.keep.by)
        if len(self.keys) == 1 and self._sort().by == "measure":
            found.append(self._sort_measure())
        return found

    def _kept(self, frame: pl.DataFrame, names: list[str]) -> pl.DataFrame:
        keep = self.keep
        self.dropped = bool(self.conditions or self.query.aligned)
        if not keep or not self.keys:
            return frame
        position = len(self.keys) - 1 if keep.of == "within" else self.groups.index(self.query.groups[self.query.keep_group])
        key, group = self.keys[position], self.groups[position]
        name = grouping_words(group, self.schema)
        if len(self.keys) == 1 or keep.of == "within":
            ranked = frame.with_columns(by=self._column_in(self.engine, self._node(keep.by), self.place, frame))
            within = [other for other in self.keys if other != key] if keep.of == "within" else []
        else:
            totals = self._total_engine(frame, self.dropped)
            place = Place((group,))
            totals.gather([(self._node(keep.by), place)])
            column = totals.column(self._node(keep.by), place)
            ranked, within = totals.cells[place].frame.select(key, by=pl.col(column)), []
        best = _best(ranked, keep, key, within, name, self.notes)
        on = [*within, key]
        kept = frame.join(best.select(on), on=on, how="semi", nulls_equal=True)
        dropped = frame.join(best.select(on), on=on, how="anti", nulls_equal=True)
        if keep.rest and dropped.height:
            return pl.concat([kept, self._rest(dropped, names, position)], how="diagonal_relaxed")
        self.dropped = self.dropped or bool(dropped.height)
        return kept

    def _rest(self, dropped: pl.DataFrame, names: list[str], position: int) -> pl.DataFrame:
        """All that was not kept as one value, worked out anew from its rows. Of windows only shares are given: they add up."""
        group = self.groups[position]
        if self.schema[group.field].kind is not Kind.TEXT:
            raise DefinitionProblem("Only values of text can be gathered in “Other”.", hint="Keep without the others.")
        engine = self._total_engine(dropped, True)
        place = Place(tuple(each for i, each in enumerate(self.groups) if i != position))
        engine.gather((node, place) for node in self.nodes)
        keys = [key_of(each) for each in place.groups]
        windows = {name: node for name, node in zip(names, self.nodes, strict=True) if node.level is Level.WINDOW}
        anew = [
            pl.col(engine.column(node, place)).alias(name)
            for name, node in zip(names, self.nodes, strict=True) if name not in windows
        ]  # fmt: skip
        found = engine.cells[place].frame.select(*keys, *anew)
        summed = [pl.col("rows").sum()]
        for name, node in windows.items():
            is_share = node.function is not None and node.function.name == "share"
            adds_up = pl.when(pl.col(name).count() > 0).then(pl.col(name).sum())
            summed.append((adds_up if is_share else pl.lit(None, dtype=dropped.schema[name])).alias(name))
        if keys:
            found = found.join(dropped.group_by(keys).agg(summed), on=keys, how="left", nulls_equal=True)
        else:
            found = pl.concat([found, dropped.select(summed)], how="horizontal")
        self.rest = OTHER
        return found.with_columns(pl.lit(OTHER).alias(self.keys[position])).select(*self.keys, *names, "rows")

    def _column_in(self, engine: Engine, node: Checked, place: Place, frame: pl.DataFrame) -> pl.Series:
        """A value for the rows of a frame that holds the place's cells."""
        column = engine.column(node, place)
        cells = engine.cells[place].frame.select(*self.keys, column)
        return frame.select(self.keys).join(cells, on=self.keys, how="left", nulls_equal=True, maintain_order="left")[column]

    # Totals.

    def _totals(self, frame: pl.DataFrame, names: list[str]) -> dict[tuple[int, ...], pl.DataFrame]:
        wanted = self.query.totals
        if not wanted:
            return {}
        rules = [total_of(measure, self.schema) for measure in self.query.measures]
        engine = self._total_engine(frame, self.dropped)
        places = {kept: Place(tuple(dict.fromkeys(self.query.groups[i] for i in kept))) for kept in wanted}
        again = [
            (node, place)
            for place in places.values()
            for node, rule in zip(self.nodes, rules, strict=True)
            if rule == "again"
        ]
        for place in places.values():
            engine.want(place, engine.home(self.nodes[0], place) if self.nodes else "")
        engine.gather(again)
        return {kept: self._total(engine, frame, names, rules, kept, place) for kept, place in places.items()}

    def _total(
        self, engine: Engine, frame: pl.DataFrame, names: list[str], rules: list[str], kept: tuple[int, ...], place: Place
    ):
        keys = [key_of(group) for group in place.groups]
        columns = [
            engine.column(node, place) if rule == "again" else "" for node, rule in zip(self.nodes, rules, strict=True)
        ]
        found = engine.cells[place].frame.select(*keys, *(pl.col(c).alias(f"m{i}") for i, c in enumerate(columns) if c))
        shown = [
            (pl.when(pl.col(name).count() > 0).then(getattr(pl.col(name), rule)()) if rule != "none" else pl.lit(None, dtype=frame.schema[name])).alias(f"m{i}")
            for i, (name, rule) in enumerate(zip(names, rules, strict=True)) if rule != "again"
        ]  # fmt: skip
        if shown and keys:
            found = found.join(frame.group_by(keys).agg(shown), on=keys, how="left", nulls_equal=True)
        elif shown:
            found = pl.concat([found, frame.select(shown)], how="horizontal")
        if self.dropped and keys:
            found = found.join(frame.select(keys).unique(), on=keys, how="semi", nulls_equal=True)
        dimensions = (pl.col(key_of(self.query.groups[i])).alias(f"d{i}") for i in kept)
        found = found.select(*dimensions, *(f"m{i}" for i in range(len(names))))
        return found.sort([f"d{i}" for i in kept], nulls_last=True) if keys else found

    # Sort.

    def _sort(self) -> Sort:
        if self.query.sort:
            return self.query.sort
        return Sort(by="time" if self.query.groups and self.query.groups[0].grain else "name")

    def _sort_measure(self) -> Measure:
        return self._sort().measure or (self.query.measures[0] if self.query.measures else Measure())

    def _sorted(self, frame: pl.DataFrame, names: list[str]) -> pl.DataFrame:
        if not self.keys:
            return frame
        if self.query.aligned:
            return frame.sort([ALIGNED, *self.keys], nulls_last=True)
        sort, keys = self._sort(), self.keys
        first, others = keys[0], [False] * (len(keys) - 1)
        last = [pl.col(first) == OTHER] if self.rest and self.query.keep_group == 0 else []
        down = [False] * len(last)
        own = self.schema[self.query.groups[0].field].sort_by
        if sort.by == "measure" or (sort.by == "name" and own and not self.query.groups[0].grain):
            by_field = sort.by == "name"
            measure = Measure(field=own, aggregate=Aggregate.MIN) if by_field else self._sort_measure()
            frame = frame.with_columns(order=self._order(frame, measure, names))
            return frame.sort(
                [*last, pl.col(first).is_null(), "order", *keys],
                descending=[*down, False, sort.descending, False, *others],
                nulls_last=True,
            )
        if sort.by == "own":
            field, grain = self.schema[self.query.groups[0].field], self.query.groups[0].grain
            values = [typed(value, field, grain) for value in sort.values]
            place = pl.DataFrame({first: pl.Series(values, dtype=frame[first].dtype), "order": range(len(values))}).unique(
                first
            )
            frame = frame.join(place, on=first, how="left")
            return frame.sort([*last, "order", *keys], descending=[*down, False, False, *others], nulls_last=True)
        if frame[first].dtype == pl.String:
            folded = [pl.col(first).str.to_lowercase(), *keys]
            return frame.sort(
                [*last, *folded], descending=[*down, sort.descending, sort.descending, *others], nulls_last=True
            )
        return frame.sort([*last, *keys], descending=[*down, sort.descending, *others], nulls_last=True)

    def _order(self, frame: pl.DataFrame, measure: Measure, names: list[str]) -> pl.Series:
        """The measure by which the first dimension is sorted, for each row."""
        if len(self.keys) == 1:
            shown = next((i for i, other in enumerate(self.query.measures) if other.same_number(measure)), None)
            if shown is not None:
                return frame[names[shown]]
        if len(self.keys) == 1 and self._sort().by == "measure":
            return self._column_in(self.engine, self._node(measure), self.place, frame)
        place = Place(self.query.groups[:1])
        engine = self._total_engine(frame, self.dropped)
        node = self._node(measure)
        engine.gather([(node, place)])
        column = engine.column(node, place)
        ranking = engine.cells[place].frame.select(self.keys[0], column)
        return frame.select(self.keys[0]).join(
            ranking, on=self.keys[0], how="left", nulls_equal=True, maintain_order="left"
        )[column]

    def _why_nothing(self) -> list[str]:
        """For filters on values that do not occur at all: say so."""
        found = []
        for filter_ in self.query.filters:
            if isinstance(filter_, ListFilter) and not filter_.exclude and not filter_.parameter:
                rows = self.model.scan([filter_.field], self.model.home_of({filter_.field}))
                if not narrow(rows, (filter_,), self.schema, self.context).select(pl.len()).collect().item():
                    found.append(f"Nothing matches: no row has {filter_.words(self.schema)}.")
        return found or ["No rows pass all the filters."]


def _between(value: pl.Expr, condition: MeasureFilter) -> pl.Expr:
    low = value >= condition.low if condition.low is not None else value.is_not_null()
    return low & (value <= condition.high) if condition.high is not None else low


def settled(filters: tuple[Filter, ...], model: Model, context: Context) -> tuple[tuple[Filter, ...], list[MeasureFilter]]:
    """Filters on rows with their parameters' values and memberships worked out, and apart from them those on groups."""
    rows: list[Filter] = []
    members: list[MembershipFilter] = []
    groups: list[MeasureFilter] = []
    for filter_ in filters:
        filter_ = _with_parameters(filter_, model)
        if isinstance(filter_, MeasureFilter):
            groups.append(filter_)
        elif isinstance(filter_, MembershipFilter):
            members.append(filter_)
        elif filter_ is not None:
            rows.append(filter_)
    found = [_members(filter_, tuple(rows), model, context) for filter_ in members]
    return (*rows, *found), groups


def _with_parameters(filter_: Filter, model: Model) -> Filter | None:
    """The filter with its parameters' values; None if they say no limit."""
    if isinstance(filter_, ListFilter) and filter_.parameter:
        values = _parameter(filter_.parameter, model).values
        if values is None:
            return None
        plain = tuple(value.isoformat() if isinstance(value, dt.date) else value for value in values)
        return filter_.model_copy(update={"values": plain, "parameter": ""})
    changes: dict[str, Any] = {}
    for end in ("low", "high"):
        if name := getattr(filter_, f"{end}_parameter", ""):
            values = _parameter(name, model).values
            changes |= {end: float(values[0]) if values else None, f"{end}_parameter": ""}
    return filter_.model_copy(update=changes) if changes else filter_


def _parameter(name: str, model: Model) -> ParameterValue:
    if name not in model.parameters:
        raise DefinitionProblem(
            f"There is no parameter :{name} any more.", where=name, hint="Choose another one, or write the value."
        )
    return model.parameters[name]


def settled_keep(keep: Keep | None, model: Model) -> Keep | None:
    """What to keep with its parameter's value; None if that is no limit."""
    if keep is None or not keep.parameter:
        return keep
    values = _parameter(keep.parameter, model).values
    if values is None:
        return None
    return keep.model_copy(update={"count": min(max(int(values[0]), 1), 10_000), "parameter": ""})


def _members(filter_: MembershipFilter, others: tuple[Filter, ...], model: Model, context: Context) -> ValuesFilter:
    """A membership with its values worked out."""
    condition = filter_.condition()
    own = (*filter_.filters, *(others if filter_.follows else ()), *([condition] if condition else []))
    measures = (filter_.keep.by,) if filter_.keep else (filter_.measure,) if filter_.measure else ()
    field = model.schema[filter_.field]
    group = Grouping(field=field.id, grain=Grain.DAY if field.kind.is_date else None)
    query = Query(
        groups=(group,),
        measures=measures,
        filters=own,
        keep=filter_.keep and filter_.keep.model_copy(update={"rest": False}),
        limit=10_000_000,
    )
    found = _Answer(query, model, context).result().frame["d0"]
    return ValuesFilter(field=field.id, found=found, exclude=filter_.exclude, said=filter_.words(model.schema))


def result_columns(query: Query, schema: Schema, nodes: list[Checked]) -> list[Column]:
    """The columns that the query's result will have, dimensions first; `nodes` are its measures, checked."""
    columns = []
    for i, group in enumerate(query.groups):
        field = schema[group.field]
        words = grouping_words(group, schema)
        if query.aligned and group.is_time_axis:
            counted = f"{group.grain.words.capitalize()}s since the first"
            columns.append(Column(f"d{i}", counted, Kind.WHOLE, Grouping(field=group.field), NumberFormat(decimals=0)))
            continue
        columns.append(Column(f"d{i}", words[0].upper() + words[1:], field.kind, group, field.format))
    for i, (measure, node) in enumerate(zip(query.measures, nodes, strict=True)):
        words = measure_words(measure, schema)
        said = words[0].upper() + words[1:] if not measure.formula or measure.name else words
        kind = Kind.DECIMAL if node.kind is None else node.kind
        columns.append(Column(f"m{i}", said, kind, None, measure_format(measure, schema, node), total_of(measure, schema)))
    return columns


def _best(ranked: pl.DataFrame, keep: Keep, key: str, within: list[str], name: str, notes: list[str]) -> pl.DataFrame:
    """The rows that are kept by their value in "by", overall or `within` each group; ties at the edge go to the first in
    order unless ties are kept, and are said."""
    ranked = ranked.filter(pl.col("by").is_not_null())
    ranked = ranked.sort(
        [*within, "by", key], descending=[*[False] * len(within), keep.end == "top", False], nulls_last=True
    )
    over = {"partition_by": within} if within else {"partition_by": pl.lit(1)}
    places = ranked.with_columns(
        __row=pl.int_range(pl.len()).over(**over),
        __rank=pl.col("by").rank("min", descending=keep.end == "top").over(**over),
    )
    with_ties = places.filter(pl.col("__rank") <= keep.count)
    kept = with_ties if keep.ties else places.filter(pl.col("__row") < keep.count)
    if tied := with_ties.height - kept.height:
        notes.append(f"{tied:,} more of {name} tie{'s' * (tied == 1)} with the last one kept.")
    elif keep.ties and (more := int((with_ties["__row"] >= keep.count).sum())):
        notes.append(f"{more:,} more of {name} {'is' if more == 1 else 'are'} kept because of ties.")
    return kept


def _unfinished(query: Query, found: pl.DataFrame, context: Context) -> dt.date | None:
    """The last day with data, where the latest period shown goes on after it."""
    place = next((i for i, group in enumerate(query.groups) if group.is_time_axis), None)
    if place is None or not found.height or (last := found[f"d{place}"].max()) is None:
        return None
    group = query.groups[place]
    latest = context.latest.get(group.field)
    for filter_ in query.filters:
        if isinstance(filter_, DatesFilter | RelativeFilter) and filter_.field == group.field:
            end = filter_.bounds(context)[1]
            latest = min(latest, end) if latest and end else latest
    if latest and group.grain is not Grain.DAY and period_start(latest, group.grain) == last:
        return latest if latest < period_end(last, group.grain) else None
    return None


def group_values(
    table: Table, schema: Schema, grouping: Grouping, search: str = "", limit: int = 200, selected: tuple[Any, ...] = ()
) -> tuple[list[tuple[Any, str, int]], int]:
    """A dimension's values as (value, words, rows), most frequent first (dates in order), and how many there are.

    `search` ignores case; at most `limit` are returned, the `selected` ones first.
    """
    field = schema[grouping.field]
    value = group_expression(grouping, schema).alias("v")
    model = Model.of_one(table, schema)
    counted = model.scan([field.id], model.home_of({field.id})).group_by(value).agg(n=pl.len()).collect()
    if search:
        if field.kind is Kind.TEXT:
            counted = counted.filter(pl.col("v").str.to_lowercase().str.contains(search.lower(), literal=True))
        else:
            said = [search.lower() in value_words(v, field, grouping.grain).lower() for v in counted["v"]]
            counted = counted.filter(pl.Series(said, dtype=pl.Boolean))
    by = ["v"] if grouping.grain else ["n", "v"]
    chosen = pl.col("v").is_in(pl.Series(list(selected), dtype=counted["v"].dtype).implode(), nulls_equal=True)
    counted = counted.with_columns(chosen=chosen).sort(
        ["chosen", *by], descending=[True, *([False] if len(by) == 1 else [True, False])], nulls_last=True
    )
    shown = counted.head(limit)
    rows = [(v, value_words(v, field, grouping.grain), n) for v, n, _ in shown.iter_rows()]
    return rows, counted.height


def rows_behind(
    table: Table,
    schema: Schema,
    filters: tuple[Filter | PointsFilter, ...],
    context: Context,
    columns: list[str],
    sort: tuple[str, bool] | None = None,
    search: str = "",
    home: str = "",
) -> pl.LazyFrame:
    """The records of a table that pass the filters which reach it, with their row number as "row" and these columns, lazily.

    `sort` is a column and whether it descends; empties come last both ways. `search` looks in all text columns.
    """
    model = Model.of_one(table, schema)
    narrowing, _ = settled(filters, model, context)
    rows = Engine(model, narrowing, context).rows(home, Place(), {*columns, ROW}, ())
    if search:
        texts = [pl.col(name) for name in columns if schema[name].kind is Kind.TEXT]
        others = [pl.col(name).cast(pl.String) for name in columns if schema[name].kind is not Kind.TEXT]
        found = [
            text.str.to_lowercase().str.contains(search.lower(), literal=True).fill_null(False) for text in texts + others
        ]
        rows = rows.filter(pl.any_horizontal(found)) if found else rows
    order, down = ([sort[0], ROW], [sort[1], False]) if sort else ([ROW], [False])
    return rows.sort(order, descending=down, nulls_last=True).select(pl.col(ROW).alias("row"), *columns)
