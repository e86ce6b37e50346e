"""The heart of an answer: formulas worked out over cells.

A `Place` says which cells a value stands in: the dimensions, and whether the time axis' filters are replaced by periods.
A formula is walked twice. The first walk notes which sums and counts each place needs of which table; these are then
read together, one pass over a table for each place that cannot be put together from a finer one. The second walk works
out the formula over the places' small frames. Functions of time ask for values in other places, in both walks alike."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Iterator
from dataclasses import replace

import polars as pl

from veduta.core.data.fields import Kind
from veduta.core.formula.check import Checked, Per, operand_of
from veduta.core.formula.compile import _Compiler
from veduta.core.formula.functions import Level, Operand, Window
from veduta.core.formula.problems import FormulaProblem
from veduta.core.query.filters import (
    DatesFilter,
    PointsFilter,
    RelativeFilter,
)
from veduta.core.query.grains import (
    Grain,
    Grouping,
    group_expression,
)
from veduta.core.query.measures import Measure, measure_node
from veduta.core.query.periods import At
from veduta.core.query.places import COMBINE, Part, Periods, Place, key_of
from veduta.core.query.reading import Reader, attached_name

LARGEST_WHOLE = 2**63 - 1


class Engine(Reader):
    """Works formulas out under some filters, over the cells of places."""

    # Both walks.

    def gather(self, nodes: Iterable[tuple[Checked, Place]]) -> None:
        """The first walk over all that will be asked, then reading the rows."""
        self.gathering = True
        for node, place in nodes:
            self.column(node, place)
        self._read()
        self.gathering = False

    def value(self, node: Checked, place: Place) -> pl.Expr:
        """The node's value over the place's cells. Raises FormulaProblem where the formula does not fit the dimensions."""
        if node.field:
            raise FormulaProblem(
                "This is a value of each row.", start=node.at.start, end=node.at.end, hint="Make it an aggregate."
            )
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
            if node.function.name == "today":
                return pl.lit(self.context.today)
            operands = [a and operand_of(a, self.value(a, place)) for a in node.arguments]
            return node.function.build(*operands)
        except FormulaProblem as problem:
            if problem.end:
                raise
            raise FormulaProblem(problem.message, start=node.at.start, end=node.at.end, hint=problem.hint) from None

    def column(self, node: Checked, place: Place) -> str:
        """The node's value as a column of the place's cells."""
        if self.gathering:
            self.want(place, self.home(node, place))
        expression = finished(self.value(node, place), node.kind)
        return self._put(expression, place)

    def _put(self, expression: pl.Expr, place: Place) -> str:
        name = f"v{len(self.columns)}"
        self.columns[name] = name
        if not self.gathering:
            cells = self.cells[place]
            cells.frame = cells.frame.with_columns(expression.alias(name))
        return name

    def home(self, node: Checked, place: Place) -> str:
        """The table whose rows a value is about; of a mere number, that of the dimensions."""
        names = node.fields
        if not names and node.level is Level.ROW:
            names = {group.field for group in place.groups}
        try:
            return self.model.home_of(names, node) if names else ""
        except FormulaProblem:
            return next((home for home in self.model.tables if home in {self.schema[name].table for name in names}), "")

    def rows_in(self, place: Place, home: str) -> pl.Series:
        """How many rows of a table passed the filters, for each cell."""
        frame = (
            self.cells[place].homes[home][1]
            if home in self.cells[place].homes
            else next(iter(self.cells[place].homes.values()))[1]
        )
        return frame[next(part.name for part in self.parts.values() if part.how == "len" and part.name in frame.columns)]

    # Aggregates of rows.

    def _aggregate(self, node: Checked, place: Place) -> pl.Expr:
        argument = node.arguments[0] if node.arguments else None
        if argument is not None and argument.level is Level.GRAIN:
            return self._over_cells(node, argument, place)
        home = self.model.home_of(node.fields, node)
        parts = {how: self._part(node, how, place, home) for how in node.function.parts or ("own",)}
        if self.gathering:
            return pl.lit(None, dtype=node.kind.dtype if node.kind else None)
        columns = {how: pl.col(part.name) for how, part in parts.items()}
        name = node.function.name
        if name == "sum":
            return pl.when(columns["count"] > 0).then(columns["sum"])
        if name == "mean":
            return pl.when(columns["count"] > 0).then(columns["sum"].cast(pl.Float64) / columns["count"])
        if node.function.parts == ("count",):
            reached = self._reached(home, place)
            count = columns["count"].cast(pl.Int64)
            return count.fill_null(0) if len(reached) == len(place.groups) else count
        return columns.get("own", next(iter(columns.values())))

    def _part(self, node: Checked, how: str, place: Place, home: str) -> Part:
        key = (node.function.name if how == "own" else how, node.arguments, node.where, home)
        part = self.parts.get(key)
        if part is None:
            part = self.parts[key] = self._made_part(node, how, home, f"p{len(self.parts)}")
        self.wanted.setdefault(place, {}).setdefault(home, {})[part.name] = part
        return part

    def _made_part(self, node: Checked, how: str, home: str, name: str) -> Part:
        argument = node.arguments[0] if node.arguments else None
        attached: list[Checked] = []
        compiler = _RowCompiler(attached, self.context.today)
        value = compiler.expression(argument) if argument else None
        column, expression = "", None
        if argument is not None and argument.field and node.where is None:
            column = argument.field
        else:
            column = f"i{len(self.parts)}"
            expression = value if value is not None else pl.lit(1, dtype=pl.Int64)
            if node.where is not None:
                expression = pl.when(compiler.expression(node.where)).then(expression)
            elif argument is None:
                return Part(name, "len", "", None, pl.len(), frozenset())
        fields = frozenset().union(*(each.fields for each in (argument, node.where) if each))
        source = pl.col(column)
        if how == "count" and self._is_full(argument, node, home):
            return Part(name, "len", "", None, pl.len(), frozenset())
        if how == "sum":
            wide = argument.kind is Kind.WHOLE and self._may_overflow(argument, home)
            aggregate = source.cast(pl.Int128).sum().cast(pl.Float64) if wide else source.sum()
        elif how in COMBINE:
            aggregate = getattr(source, how)()
        else:
            rest = [operand_of(a, pl.lit(a.value)) for a in node.arguments[1:] if a]
            aggregate = node.function.build(Operand(source, argument.kind if argument else Kind.WHOLE), *rest)
            how = f"own:{node.function.name}"
        fields -= {name for each in attached for name in each.fields} - _outside(argument) - _outside(node.where)
        return Part(name, how, column, expression, aggregate, fields, tuple(attached))

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
        at = replace(place, groups=self._groups_of(node.per, place), outer=place.shown)
        name = self.column(inner, at)
        keys = [key_of(group) for group in at.groups]
        missing = [group for group in at.groups if group not in place.groups]
        determined = {group: self._determined(inner, group, place) for group in missing}
        if self.gathering:
            return pl.lit(None, dtype=inner.kind.dtype if inner.kind else None)
        own = [pl.col(key_of(g)) if g in place.groups else determined[g] for g in at.groups]
        other = self.cells[at].frame.select(*keys, name).drop_nulls([key_of(group) for group in missing])
        return self._looked_up(place, own, other, keys, name)

    def _determined(self, node: Checked, group: Grouping, place: Place) -> pl.Expr:
        """A dimension's value in cells that do not show it, where all their rows have the same."""
        home = self.model.home_of(node.fields or {group.field}, node)
        if not self.model.reaches(home, group.field, group.grain or ""):
            home = self.model.home_of({group.field})
        ends = []
        for how in ("min", "max"):
            key = ("key", how, group, home)
            part = self.parts.get(key)
            if part is None:
                name = f"p{len(self.parts)}"
                value = group_expression(group, self.schema)
                part = self.parts[key] = Part(
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
        right = other.select(*(pl.col(k).alias(a) for k, a in zip(keys, asked, strict=True)), pl.col(name).alias("__found"))
        found = left.join(right, on=asked, how="left", nulls_equal=True, maintain_order="left")
        return pl.lit(found["__found"]) if found.height != 1 else pl.lit(found["__found"][0], dtype=found.schema["__found"])

    def _over_cells(self, node: Checked, argument: Checked, place: Place) -> pl.Expr:
        """An aggregate over the cells of a grain of its own, each once."""
        groups = tuple(dict.fromkeys(g for per in _pers(argument) for g in self._groups_of(per, place)))
        missing = tuple(group for group in place.groups if group not in groups)
        at = Place((*missing, *groups), place.periods, outer=place.shown)
        name = self.column(argument, at)
        if node.where is not None:
            raise FormulaProblem(
                "“where” looks at rows, and these are values of a grain.", start=node.where.at.start, end=node.where.at.end,
                hint="Put the condition inside, or use if(test, value).",
            )  # fmt: skip
        kind = node.kind.dtype if node.kind else None
        if self.gathering:
            return pl.lit(None, dtype=kind)
        keys = [key_of(group) for group in place.groups]
        frame = self.cells[at].frame.lazy()
        axis = self.axis(place)
        if place.upto and axis:
            starts = self.cells[at].frame.lazy().select(key_of(axis)).unique().drop_nulls()
            frame = self._exploded(frame, axis, place.upto, starts)
        rest = [operand_of(a, pl.lit(a.value)) for a in node.arguments[1:] if a]
        value = pl.col(name)
        order = [key_of(group) for group in at.groups if group not in place.groups]
        if node.function.name in ("first", "last") and order:
            value = value.sort_by(order, nulls_last=True)
        aggregate = node.function.build(Operand(value, argument.kind), *rest).alias("__value")
        found = (frame.group_by(keys).agg(aggregate) if keys else frame.select(aggregate)).collect()
        return self._looked_up(place, [pl.col(key) for key in keys], found, keys, "__value")

    # Windows.

    def _window(self, node: Checked, place: Place) -> pl.Expr:
        function = node.function
        axis = self.axis(place)
        for name in node.restart:
            if not any(group.field == name for group in place.groups):
                self._not_shown(name, node)
        if self.for_totals:
            return self._window_total(node, place)
        looks = function.looks_back and axis is not None and not node.along
        at = self._widened(place, axis) if looks else place
        operands = []
        for argument in node.arguments:
            if argument is None or argument.constant:
                operands.append(argument and operand_of(argument, pl.lit(argument.value)))
            else:
                operands.append(operand_of(argument, pl.col(self.column(argument, at))))
        order, ways = self._order(node, at, axis)
        if self.gathering:
            return pl.lit(None, dtype=node.kind.dtype if node.kind else None)
        keys = self.cells[at].keys
        if node.restart:
            parts = [key_of(group) for group in at.groups if group.field in node.restart]
        else:
            parts = [key for key in keys if key not in order] if function.restarts else []
        frame = self.cells[at].frame
        ordered = frame.sort(order, descending=ways, nulls_last=True, maintain_order=True) if order else frame
        name = f"v{len(self.columns)}"
        self.columns[name] = name
        ordered = ordered.with_columns(function.build(*operands, window=Window((), False, tuple(parts))).alias(name))
        self.cells[at].frame = (
            frame.join(ordered.select(*keys, name), on=keys, how="left", nulls_equal=True, maintain_order="left")
            if keys
            else ordered
        )
        if at == place:
            return pl.col(name)
        return self._looked_up(place, [pl.col(key) for key in keys], self.cells[at].frame.select(*keys, name), keys, name)

    def _order(self, node: Checked, at: Place, axis: Grouping | None) -> tuple[list[str], list[bool]]:
        """The columns that a window runs along, and which of them downwards."""
        if not node.along:
            first = axis or next(iter(at.groups), None)
            return ([key_of(first)] if first else []), [False] * bool(first)
        order, ways = [], []
        for name, down in node.along:
            keys = [key_of(group) for group in at.groups if group.field == name]
            if not keys:
                field = self.schema[name]
                if field.role != "measure":
                    self._not_shown(name, node)
                measured = measure_node(Measure(field=name, aggregate=field.aggregate), self.schema, self.model.parameters)
                keys = [self.column(measured, at)]
            order += keys
            ways += [down] * len(keys)
        return order, ways

    def _not_shown(self, name: str, node: Checked) -> None:
        shown = ", ".join(self.schema[group.field].name for group in self.groups) or "none"
        raise FormulaProblem(
            f"{node.function.name} runs along “{self.schema[name].name}”, which the chart does not show.",
            start=node.at.start, end=node.at.end, hint=f"Its dimensions are: {shown}.",
        )  # fmt: skip

    def _window_total(self, node: Checked, place: Place) -> pl.Expr:
        """In a total there are no rows around: a share is of itself, everything else is empty."""
        empty = pl.lit(None, dtype=node.kind.dtype if node.kind else None)
        if node.function.name != "share":
            return empty
        value = self.value(node.arguments[-1], place)
        return empty if self.gathering else pl.when(value != 0).then(1.0)

    # Time.

    def _time(self, node: Checked, place: Place) -> pl.Expr:
        at = At(self, place, node)
        arguments = [
            operand_of(argument) if argument and (declared.options or declared.constant) else argument
            for argument, declared in zip(node.arguments, node.function.takes, strict=True)
        ]
        return node.function.build(at, *arguments)

    def _widened(self, place: Place, axis: Grouping) -> Place:
        """The same cells without the filters on their time axis."""
        if place.periods or not any(self._is_on(filter_, axis.field) for filter_ in self.filters):
            return place
        return replace(place, periods=Periods(axis.field))

    def current(self, place: Place, node: Checked) -> Periods:
        """The periods a place without a time axis stands for: those the chart shows, else what its date filter says.

        Raises FormulaProblem if nothing says which."""
        if place.periods:
            return place.periods
        if self.for_totals and (axis := next((group for group in self.groups if group.is_time_axis), None)):
            starts = self.kept[key_of(axis)].drop_nulls().unique().sort().to_list()
            return Periods(axis.field, axis.grain, tuple(starts))
        return self._filtered(node)

    def _filtered(self, node: Checked) -> Periods:
        ranges = [f for f in self.filters if isinstance(f, DatesFilter | RelativeFilter) and all(f.bounds(self.context))]
        marks = [
            f for f in self.filters
            if isinstance(f, PointsFilter) and not f.exclude and len(f.groups) == 1 and f.groups[0].is_time_axis
        ]  # fmt: skip
        days = ranges[0].bounds(self.context) if ranges else None
        if marks:
            group = marks[0].groups[0]
            starts = tuple(dt.date.fromisoformat(str(point[0])[:10]) for point in marks[0].points if point[0])
            if days and ranges[0].field == group.field:
                starts = tuple(s for s in starts if days[0] <= s <= days[1])
            return Periods(group.field, group.grain, starts)
        if days is None:
            raise FormulaProblem(
                f"{node.function.name} compares periods, and this question has no date.", start=node.at.start, end=node.at.end,
                hint="Add a date to the dimensions, or a filter from one day to another.",
            )  # fmt: skip
        return Periods(ranges[0].field, Grain.DAY, None, days)


class _RowCompiler(_Compiler):
    """Compiles what is inside an aggregate; values at a grain of their own stand in columns that are attached to the rows."""

    def __init__(self, attached: list[Checked], today: dt.date) -> None:
        super().__init__()
        self.attached, self.today = attached, today

    def expression(self, node: Checked) -> pl.Expr:
        if node.per is not None:
            self.attached.append(node)
            return pl.col(attached_name(node))
        if node.function is not None and node.function.name == "today":
            return pl.lit(self.today)
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
