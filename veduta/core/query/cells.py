"""The heart of an answer: formulas worked out over cells.

A `Place` says which cells a value stands in: the dimensions, and whether the time axis' filters are replaced
by periods. A formula is walked twice. The first walk notes which sums and counts each place needs of which
table; these are then read together, one pass over a table for each place that cannot be put together from a
finer one. The second walk works out the formula over the places' small frames. Functions of time ask for
values in other places, in both walks alike."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from functools import reduce

import polars as pl

from veduta.core.calendar import (
    PERIODS,
    Days,
    Grain,
    Grouping,
    common_days,
    group_expression,
    independent,
    period_end,
    period_start,
    periods_between,
)
from veduta.core.data.fields import Aggregate, Kind
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.check import Checked, Per, operand_of
from veduta.core.formula.compile import Compiler
from veduta.core.formula.functions import Function, Level, Operand, Times, Window
from veduta.core.formula.problems import FormulaProblem
from veduta.core.query.filters import EVER, MeasureFilter
from veduta.core.query.measures import Measure, counted_tables, measure_node, measure_words
from veduta.core.query.periods import At
from veduta.core.query.places import COMBINE, Part, Periods, Place, key_of
from veduta.core.query.reading import Reader, attached_name

LARGEST_WHOLE = 2**63 - 1
NOTHING = pl.lit(None)


@dataclass(frozen=True)
class Order:
    """How a window goes through the cells: the columns and which of them downwards, and the keys that are not parts in
    which it starts anew."""

    columns: tuple[str, ...] = ()
    downwards: tuple[bool, ...] = ()
    keys: tuple[str, ...] = ()

    def of(self, frame: pl.DataFrame, keys: Iterable[str]) -> pl.DataFrame:
        """Cells in this order; those that tie stay in that of their names."""
        columns = [*self.columns, *(key for key in keys if key not in self.columns)]
        downwards = [*self.downwards, *[False] * (len(columns) - len(self.columns))]
        return frame.sort(columns, descending=downwards, nulls_last=True) if columns else frame


class Engine(Reader):
    """Works formulas out under some filters, over the cells of places. `conditions` are filters on the chart's
    groups, with the formulas they judge by."""

    conditions: tuple[tuple[Checked, MeasureFilter], ...] = ()
    judging = False

    @property
    def times(self) -> Times:
        return Times(self.context.today, self.schema.fiscal_month)

    # Both walks.

    def gather(self, nodes: Iterable[tuple[Checked, Place]]) -> None:
        """The first walk over all that will be asked, then reading the rows."""
        self.gathering = True
        for node, place in nodes:
            self.column(node, place)
        self.gathering = False
        self._read()

    def value(self, node: Checked, place: Place) -> pl.Expr:
        """The node's value over the place's cells; on the first walk nothing, but its parts are noted. Raises
        FormulaProblem where the formula does not fit the dimensions."""
        if node.field:
            raise FormulaProblem("This is a value of each row.", at=node.at, hint="Make it an aggregate.")
        if node.per is not None:
            return self._at_grain(node, place)
        if node.function is None:
            return pl.lit(node.value, dtype=node.kind.dtype if node.kind else None)
        if node.function.level is Level.AGGREGATE:
            return self._aggregate(node, place)
        try:
            if node.function.level is Level.TIME:
                return self._time(node, place)
            if node.function.level is Level.WINDOW:
                return self._window(node, place)
            values = [argument and self.value(argument, place) for argument in node.arguments]
            if self.gathering:
                return NOTHING
            operands = [a and operand_of(a, value) for a, value in zip(node.arguments, values, strict=True)]
            return node.function.expression(operands, self.times)
        except FormulaProblem as problem:
            if problem.at.end:
                raise
            raise FormulaProblem(problem.message, at=node.at, hint=problem.hint) from None

    def column(self, node: Checked, place: Place) -> str:
        """The node's value as a column of the place's cells."""
        if not self.gathering:
            return self.put_columns([node], place)[0]
        home = self.home(node, place)
        self.want(place, home)
        self.value(node, place)
        if self._is_of_one_table(node, home):
            self.simple.setdefault((place, home), {})[node] = self._new_name()
        return ""

    def put_columns(self, nodes: Iterable[Checked], place: Place) -> list[str]:
        """The nodes' values as columns of the place's cells, added in one go."""
        nodes = list(nodes)
        worked_out = self.ready.get(place, {})
        names = [worked_out.get(node) or self._new_name() for node in nodes]
        missing = [(node, name) for node, name in zip(nodes, names, strict=True) if node not in worked_out]
        if missing:
            expressions = [finished(self.value(node, place), node.kind).alias(name) for node, name in missing]
            cells = self.cells[place]
            cells.frame = cells.frame.with_columns(expressions)
        return names

    def _put(self, expression: pl.Expr, place: Place) -> str:
        name = self._new_name()
        cells = self.cells[place]
        cells.frame = cells.frame.with_columns(expression.alias(name))
        return name

    def _new_name(self) -> str:
        return f"v{next(self.numbers)}"

    def _is_of_one_table(self, node: Checked, home: str) -> bool:
        """Whether a value needs nothing but sums and the like of one table's rows in its own cells."""
        if node.per is not None or node.field:
            return False
        if node.function is None:
            return True
        if node.function.level is Level.AGGREGATE:
            cells = any(argument and argument.level is Level.GRAIN for argument in node.arguments)
            return not cells and self.tables_of(node) == [home]
        return node.function.level is Level.ROW and all(
            a is None or self._is_of_one_table(a, home) for a in node.arguments
        )

    def _at_once(self, place: Place, home: str) -> list[pl.Expr]:
        found = self.ready[place] = self.simple.pop((place, home), {})
        values = self.prepared.values
        for node in found:
            if node not in values:
                values[node] = finished(self.value(node, place), node.kind)
        return [values[node].alias(name) for node, name in found.items()]

    def tables_of(self, node: Checked) -> list[str]:
        """The tables whose rows a value aggregates."""
        tables = self.prepared.tables
        if node not in tables:
            tables[node] = counted_tables(node, self.model)
        return tables[node]

    def home(self, node: Checked, place: Place) -> str:
        """The table whose rows a value is about; of a mere number, that of the dimensions."""
        homes = self.tables_of(node)
        if not homes and (names := {group.field for group in place.groups}):
            try:
                return self.model.home_of(names, node)
            except FormulaProblem:
                homes = [self.schema[name].table for name in names]
        return next((home for home in self.model.tables if home in homes), "")

    def passing(self, place: Place) -> str:
        """Whether the chart's groups pass the filters on them, as a column of their cells, perhaps in other periods; ""
        where nothing is dropped. The filters themselves look at all groups."""
        if not self.conditions or self.judging or place.groups != self.groups:
            return ""
        self.judging = True
        passes = pl.lit(True)
        for node, condition in self.conditions:
            if node.kind is None or not node.kind.is_number:
                name = measure_words(condition.measure, self.schema)
                raise DefinitionProblem(
                    f"“{name}” is not a number, so groups cannot be filtered by it.",
                    hint="Choose a number, or filter rows.",
                )
            passes &= condition.bounds_of(pl.col(self.column(node, place)))
        self.judging = False
        return "" if self.gathering else self._put(passes.fill_null(False), place)

    def rows_in(self, place: Place, home: str) -> pl.Series:
        """How many rows of a table passed the filters, for each cell."""
        homes = self.cells[place].homes
        frame = (homes[home] if home in homes else next(iter(homes.values())))[1]
        return frame[self.prepared.rows_of(home).name]

    # Aggregates of rows.

    def _aggregate(self, node: Checked, place: Place) -> pl.Expr:
        argument = node.arguments[0] if node.arguments else None
        if argument is not None and argument.level is Level.GRAIN:
            return self._over_cells(node, argument, place)
        home = self.tables_of(node)[0]
        parts = {how: self._part(node, how, place, home) for how in node.function.parts or ("own",)}
        if self.gathering:
            return NOTHING
        columns = {how: pl.col(part.name) for how, part in parts.items()}
        if node.call.of_parts:
            return node.call.of_parts(columns)
        value = columns.get("own", next(iter(columns.values())))
        if not node.function.counts:
            return value
        reached = self._reached(home, place)
        return value.cast(pl.Int64).fill_null(0) if len(reached) == len(place.groups) else value.cast(pl.Int64)

    def _part(self, node: Checked, how: str, place: Place, home: str) -> Part:
        key = (node.function.name if how == "own" else how, node.arguments, node.where, node.along, home)
        parts = self.prepared.parts
        part = parts.get(key) or parts.setdefault(key, self._made_part(node, how, home))
        self.wanted.setdefault(place, {}).setdefault(home, {})[part.name] = part
        return part

    def _made_part(self, node: Checked, how: str, home: str) -> Part:
        argument = node.arguments[0] if node.arguments else None
        if (argument is None and node.where is None) or (how == "count" and self._is_full(argument, node, home)):
            return self.prepared.rows_of(home)
        name = self.prepared.new_name()
        attached: list[Checked] = []
        compiler = _RowCompiler(attached, self.times)
        value = compiler.expression(argument) if argument else None
        column, expression = "", None
        if argument is not None and argument.field and node.where is None:
            column = argument.field
        else:
            column = f"i{name}"
            expression = value if value is not None else pl.lit(1, dtype=pl.Int64)
            if node.where is not None:
                expression = pl.when(compiler.expression(node.where)).then(expression)
        order = self._order_of_rows(node, home)
        fields = frozenset(name for name, _ in order).union(*(each.fields for each in (argument, node.where) if each))
        source = pl.col(column)
        if order:
            source = _sorted_by(source, order, node.call)
        if how == "sum":
            wide = argument.kind is Kind.WHOLE and self._may_overflow(argument, home)
            aggregate = source.cast(pl.Int128).sum().cast(pl.Float64) if wide else source.sum()
        elif how in COMBINE:
            aggregate = getattr(source, how)()
        else:
            rest = [operand_of(a, pl.lit(a.value)) for a in node.arguments[1:] if a]
            aggregate = node.function.build(Operand(source, argument.kind if argument else Kind.WHOLE), *rest)
        fields -= {name for each in attached for name in each.fields} - _outside(argument) - _outside(node.where)
        return Part(
            name,
            how,
            column,
            expression,
            aggregate,
            fields,
            tuple(attached),
            node.call.name,
            node.call.so_far,
            _share_of(node),
        )

    def _order_of_rows(self, node: Checked, home: str) -> tuple[tuple[str, bool], ...]:
        """By which fields an aggregate that depends on order looks at a table's rows: its own date, if not told."""
        if not node.function.ordered or node.along:
            return node.along
        own = (field for field in self.schema if field.table == home and field.kind.is_date and not field.formula)
        return tuple((field.id, False) for field in own)[:1]

    def _is_full(self, argument: Checked | None, node: Checked, home: str) -> bool:
        """Whether a field is known to have no empties, so that counting its values is counting rows."""
        if argument is None or not argument.field or node.where is not None:
            return False
        field = self.schema[argument.field]
        return not field.formula and field.table == home and not self.model.facts(field.id).empties

    def _may_overflow(self, argument: Checked, home: str) -> bool:
        if not argument.field or self.schema[argument.field].formula:
            return True
        facts = self.model.facts(argument.field)
        bounds = [abs(bound) for bound in (facts.lowest, facts.highest) if bound is not None]
        return max(bounds, default=0) * self.model.tables[home].rows > LARGEST_WHOLE

    # Values at a grain of their own.

    def _at_grain(self, node: Checked, place: Place) -> pl.Expr:
        inner = node.arguments[0]
        at = self.place_of(node.per, place)
        name = self.column(inner, at)
        keys = [key_of(group) for group in at.groups]
        there = self.coarser(list(at.groups), place, [key_of(group) for group in place.groups], partly=True)
        missing = [group for group, value in zip(at.groups, there, strict=True) if value is None]
        determined = {group: self._determined(inner, group, place) for group in missing}
        if self.gathering:
            return NOTHING
        own = [determined[group] if value is None else value for group, value in zip(at.groups, there, strict=True)]
        other = self.cells[at].frame.select(*keys, name).drop_nulls([key_of(group) for group in missing])
        return self._looked_up(place, own, other, keys, name)

    def _determined(self, node: Checked, group: Grouping, place: Place) -> pl.Expr:
        """A dimension's value in cells that do not show it, where all their rows have the same."""
        home = next(iter(self.tables_of(node)), None) or self.model.home_of({group.field}, node)
        if not self.model.reaches(home, group.field, group.grain or ""):
            home = self.model.home_of({group.field})
        ends = []
        for how in ("min", "max"):
            key = ("key", how, group, home)
            part = self.prepared.parts.get(key)
            if part is None:
                name = self.prepared.new_name()
                value = group_expression(group, self.schema)
                part = self.prepared.parts[key] = Part(
                    name, how, f"i{name}", value, getattr(pl.col(f"i{name}"), how)(), frozenset({group.field})
                )
            self.wanted.setdefault(place, {}).setdefault(home, {})[part.name] = part
            ends.append(pl.col(part.name))
        return pl.when(ends[0] == ends[1]).then(ends[0])

    def _looked_up(self, place: Place, own: list[pl.Expr], other: pl.DataFrame, keys: list[str], name: str) -> pl.Expr:
        """A column of another place beside this place's cells, found by the values that `own` gives for its keys."""
        frame = self.cells[place].frame
        if not keys:
            value = other[name][0] if other.height else None
            return pl.lit(value, dtype=other.schema[name])
        asked = [f"__ask{i}" for i in range(len(own))]
        left = frame.select(e.alias(a) for e, a in zip(own, asked, strict=True)).with_columns(
            pl.col(a).cast(other.schema[k]) for a, k in zip(asked, keys, strict=True)
        )
        right = other.select(
            *(pl.col(k).alias(a) for k, a in zip(keys, asked, strict=True)), pl.col(name).alias("__found")
        )
        found = left.join(right, on=asked, how="left", nulls_equal=True, maintain_order="left")
        return (
            pl.lit(found["__found"])
            if found.height != 1
            else pl.lit(found["__found"][0], dtype=found.schema["__found"])
        )

    def _over_cells(self, node: Checked, argument: Checked, place: Place) -> pl.Expr:
        """An aggregate over the cells of a grain of its own, each once."""
        inner = [self.place_of(per, place).groups for per in _pers(argument)]
        groups = independent((*place.groups, *(group for each in inner for group in each)))
        at = replace(place, groups=groups, upto=None, unbroken=False, outer=place.shown)
        name = self.column(argument, at)
        if node.where is not None:
            raise FormulaProblem(
                "“where” looks at rows, and these are values of a grain.",
                at=node.where.at,
                hint="Put the condition inside, or use if(test, value).",
            )
        if self.gathering:
            return NOTHING
        keys = [key_of(group) for group in place.groups]
        own = self.coarser(list(place.groups), at, [key_of(group) for group in groups])
        frame = self.cells[at].frame.with_columns(value.alias(key) for value, key in zip(own, keys, strict=True)).lazy()
        axis = self.axis(place)
        if place.upto and axis:
            later = self.cells[at].frame.lazy().select(own[keys.index(key_of(axis))].alias("__later"))
            frame = self._exploded(frame, axis, place.upto, later.unique().drop_nulls())
        rest = [operand_of(a, pl.lit(a.value)) for a in node.arguments[1:] if a]
        value = pl.col(name)
        if node.function.ordered:
            named = [(key_of(g), down) for field, down in node.along for g in groups if g.field == field]
            order = named or [(key_of(group), False) for group in groups if group not in place.groups]
            value = _sorted_by(value, order, node.call) if order else value
        aggregate = node.function.build(Operand(value, argument.kind), *rest).alias("__value")
        found = (frame.group_by(keys).agg(aggregate) if keys else frame.select(aggregate)).collect()
        return self._looked_up(place, [pl.col(key) for key in keys], found, keys, "__value")

    # Windows.

    def _window(self, node: Checked, place: Place) -> pl.Expr:
        if self.for_totals and not self.ranks:
            return self._window_total(node, place)
        for name in node.restart:
            if not any(group.field == name for group in place.groups):
                self._not_shown(name, node)
        function, axis, at = node.function, self.axis(place), place
        if axis is not None and not node.along and function.looks_back:
            at = replace(self._widened(place, axis), unbroken=function.by_period)
        values = [self._window_argument(argument, at) for argument in node.arguments]
        order = self._order(node, at, axis)
        passes = self.passing(at)
        if self.gathering:
            return NOTHING
        cells = self.cells[at]
        seen = cells.frame
        if passes and at.unbroken:  # a period that a filter dropped keeps its place and is empty
            values = [
                value if argument is None or argument.constant else pl.when(pl.col(passes)).then(value)
                for value, argument in zip(values, node.arguments, strict=True)
            ]
        elif passes:
            seen = seen.filter(pl.col(passes))
        operands = [
            argument and operand_of(argument, value) for argument, value in zip(node.arguments, values, strict=True)
        ]
        parts = self._window_parts(node, at, order)
        name = self._new_name()
        seen = order.of(seen, cells.keys).with_columns(
            function.build(*operands, window=Window((), False, tuple(parts))).alias(name)
        )
        if not cells.keys:
            cells.frame = seen
            return pl.col(name)
        cells.frame = cells.frame.join(
            seen.select(*cells.keys, name), on=cells.keys, how="left", nulls_equal=True, maintain_order="left"
        )
        if at == place:
            return pl.col(name)
        keys = [pl.col(key) for key in cells.keys]
        return self._looked_up(place, keys, cells.frame.select(*cells.keys, name), cells.keys, name)

    def _window_argument(self, argument: Checked | None, at: Place) -> pl.Expr:
        if argument is None or argument.constant:
            return pl.lit(argument.value if argument else None)
        return pl.col(self.column(argument, at))

    def _window_parts(self, node: Checked, at: Place, order: Order) -> list[str]:
        """The columns for each of whose values a window starts anew."""
        if node.restart:
            return [key_of(group) for group in at.groups if group.field in node.restart]
        return [key for key in self.cells[at].keys if key not in order.keys] if node.function.restarts else []

    def _order(self, node: Checked, at: Place, axis: Grouping | None) -> Order:
        """The order in which a window goes through the cells: along the time axis,
        else the first dimension, or as it says.

        Along a measure it goes through all that is shown."""
        if not node.along:
            first = axis or next(iter(at.groups), None)
            # Periods of one date that do not make each other up, such as weeks and months, go along together.
            groups = [g for g in at.groups if g == first or (axis and g.is_time_axis and g.field == axis.field)]
            groups.sort(key=lambda group: group != first)
            ordered = [(column, False) for group in groups for column in self._order_columns(group, at)]
            return Order(tuple(c for c, _ in ordered), tuple(d for _, d in ordered), tuple(map(key_of, groups)))
        columns: list[tuple[str, bool]] = []
        keys: list[str] = []
        for name, down in node.along:
            groups = [group for group in at.groups if group.field == name]
            if groups:
                columns += [(column, down) for group in groups for column in self._order_columns(group, at)]
                keys += map(key_of, groups)
                continue
            field = self.schema[name]
            if field.role != "measure":
                self._not_shown(name, node)
            measured = measure_node(Measure(field=name, aggregate=field.aggregate), self.schema, self.model.parameters)
            columns.append((self.column(measured, at), down))
            keys = [key_of(group) for group in at.groups]
        return Order(tuple(c for c, _ in columns), tuple(d for _, d in columns), tuple(keys))

    def _order_columns(self, group: Grouping, at: Place) -> list[str]:
        """The columns in whose order a dimension's values stand: its sort field, if it has one, then itself."""
        node = self.sort_node(group)
        return [*([self.column(node, at)] if node else []), key_of(group)]

    def sort_node(self, group: Grouping) -> Checked | None:
        """The value of a dimension's sort field, the same wherever its value stands; None without one."""
        field = self.schema[group.field]
        if not field.sort_by or group.grain or field.sort_by not in self.schema:
            return None
        measure = Measure(field=field.sort_by, aggregate=Aggregate.MIN)
        lowest = measure_node(measure, self.schema, self.model.parameters, any_kind=True)
        per = Per(((group.field, ""),))
        return Checked(lowest.kind, lowest.at, level=Level.GRAIN, arguments=(lowest,), per=per)

    def _not_shown(self, name: str, node: Checked) -> None:
        shown = ", ".join(self.schema[group.field].name for group in self.groups) or "none"
        raise FormulaProblem(
            f"{node.function.name} runs along “{self.schema[name].name}”, which the chart does not show.",
            at=node.at,
            hint=f"Its dimensions are: {shown}.",
        )

    def _window_total(self, node: Checked, place: Place) -> pl.Expr:
        """In a total there are no rows around: a share is of itself, everything else is empty."""
        empty = pl.lit(None, dtype=node.kind.dtype if node.kind else None)
        if not node.call.adds_up or node.restart:
            return empty
        value = self.value(node.arguments[-1], place)
        return empty if self.gathering else pl.when(value != 0).then(1.0)

    # Time.

    def _time(self, node: Checked, place: Place) -> pl.Expr:
        at = At(self, place, node)
        arguments = [
            operand_of(argument) if argument and (declared.options or declared.constant) else argument
            for argument, declared in zip(node.arguments, node.function.takes, strict=False)
        ]
        return node.function.build(at, *arguments)

    def _widened(self, place: Place, axis: Grouping) -> Place:
        """The same cells without the filters on their time axis, and with the periods that were not kept."""
        dates = self.model.same_dates(axis.field)
        narrowed = self.narrowed or any(filter_.in_other_periods(dates) is not filter_ for filter_ in self.filters)
        if place.periods or not narrowed:
            return place
        return replace(place, periods=Periods(axis.field))

    def chart_axis(self) -> Grouping | None:
        """The time axis of the chart, where this works out its totals."""
        return self.axis(Place(self.groups)) if self.for_totals else None

    def current(self, place: Place, node: Checked) -> Periods:
        """The periods a place without a time axis stands for: those the chart shows, else what its filters on a date
        let pass. Raises FormulaProblem if nothing says which."""
        if place.periods:
            return place.periods
        if axis := self.chart_axis():
            starts = self.kept[key_of(axis)].drop_nulls().unique().sort().to_list()
            return Periods(axis.field, axis.grain, tuple(starts))
        return self._filtered(place, node)

    def _filtered(self, place: Place, node: Checked) -> Periods:
        """What the filters on the first date that is filtered let pass together."""
        filters = self._filters_at(place)
        named = (name for filter_ in filters for name, _ in sorted(filter_.needs()))
        for name in dict.fromkeys(name for name in named if self.schema[name].kind.is_date):
            dates = self.model.same_dates(name)
            ranges = [days for filter_ in filters if (days := filter_.days(dates, self.context)) is not None]
            if ranges and (days := self._bounded(reduce(common_days, ranges), name)) is not None:
                grains = [grain for filter_ in filters if (grain := filter_.period_grain(dates))]
                return self._as_periods(name, days, grains)
        raise FormulaProblem(
            f"{node.function.name} compares periods, and this question has no date.",
            at=node.at,
            hint="Add a date to the dimensions, or a filter on one.",
        )

    def _bounded(self, days: list[Days], name: str) -> list[Days] | None:
        """Ranges that are open at an end go as far as there are dates; None if they are open at both."""
        first, last = (days[0][0], days[-1][1]) if days else (None, None)
        if (first, last) == EVER:
            return None
        if first == EVER[0]:
            lowest = self.model.facts(name).lowest
            first = dt.date.fromisoformat(str(lowest)[:10]) if lowest else EVER[0]
        if last == EVER[1]:
            last = self.context.latest.get(name, self.context.today)
        return common_days(days, [(first, last)]) if days else []

    def _as_periods(self, name: str, days: list[Days], grains: list[Grain]) -> Periods:
        """Ranges of days as periods of the finest grain that was chosen, where they are made up of such."""
        grain = max(grains, key=PERIODS.index, default=None)
        fiscal = self.schema.fiscal_month
        if grain and all(
            period_start(a, grain, fiscal) == a and period_end(period_start(b, grain, fiscal), grain) == b
            for a, b in days
        ):
            starts = [s for a, b in days for s in periods_between(a, period_start(b, grain, fiscal), grain)]
            return Periods(name, grain, tuple(starts))
        return Periods(name, Grain.DAY, None, tuple(days))


def _share_of(node: Checked) -> float:
    """Of a quantile, the share of the values that lie below it."""
    share_below = node.call.share_below
    return share_below(*(argument.value for argument in node.arguments[1:] if argument)) if share_below else 0


def _sorted_by(value: pl.Expr, order: Iterable[tuple[str, bool]], function: Function) -> pl.Expr:
    """A column in the order of others. Rows without a place in it are looked at only where there are no others."""
    columns, downwards = zip(*order, strict=True)
    return value.sort_by(
        columns, descending=list(downwards), nulls_last=function.takes_end == "first", maintain_order=True
    )


class _RowCompiler(Compiler):
    """Compiles what is inside an aggregate; values at a grain of their own stand in
    columns that are attached to the rows."""

    def __init__(self, attached: list[Checked], times: Times) -> None:
        super().__init__(times)
        self.attached = attached

    def expression(self, node: Checked) -> pl.Expr:
        if node.per is not None:
            self.attached.append(node)
            return pl.col(attached_name(node))
        return super().expression(node)


def _outside(node: Checked | None) -> set[str]:
    """The fields a node reads of the rows themselves, not at a grain of its own."""
    if node is None or node.per is not None:
        return set()
    found = {node.field} if node.field else set()
    return found.union(*(_outside(argument) for argument in (*node.arguments, node.where)))


def _pers(node: Checked) -> Iterator[Per]:
    if node.per is not None:
        yield node.per
        return
    for argument in node.arguments:
        if argument:
            yield from _pers(argument)


def finished(expression: pl.Expr, kind: Kind | None) -> pl.Expr:
    """A value as its kind; what is too large or undefined is empty."""
    if kind is Kind.DECIMAL:
        expression = expression.cast(pl.Float64)
        return pl.when(expression.is_finite()).then(expression)
    return expression
