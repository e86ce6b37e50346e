"""The heart of an answer: formulas worked out over cells.

A `Place` says which cells a value stands in: the dimensions, and whether the time axis' filters are replaced by periods.
A formula is walked twice. The first walk notes which sums and counts each place needs of which table; these are then
read together, one pass over a table for each place that cannot be put together from a finer one. The second walk works
out the formula over the places' small frames. Functions of time ask for values in other places, in both walks alike."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from dataclasses import field as attribute
from typing import Any

import polars as pl

from veduta.core.data.fields import Kind
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.check import Checked, Per, operand_of
from veduta.core.formula.compile import _Compiler
from veduta.core.formula.functions import Level, Operand, Window
from veduta.core.formula.problems import FormulaProblem
from veduta.core.model.model import Model
from veduta.core.query.filters import Context, DatesFilter, Filter, ListFilter, PointsFilter, RelativeFilter, grouping_words
from veduta.core.query.grains import (
    NESTED,
    Grain,
    Grouping,
    enclosing,
    group_expression,
    moved,
    moved_days,
    period_end,
    period_start,
)
from veduta.core.query.measures import Measure, measure_node

LARGEST_WHOLE = 2**63 - 1
MOST_CELLS = 3_000_000
COMBINE = {"sum": "sum", "count": "sum", "len": "sum", "min": "min", "max": "max"}


@dataclass(frozen=True)
class Periods:
    """Stands in for the filters on a date: rows of these periods of a grain, or of these days, or of all."""

    field: str
    grain: Grain | None = None
    starts: tuple[dt.date, ...] | None = None
    days: tuple[dt.date, dt.date] | None = None

    def expression(self, schema, known: str) -> pl.Expr | None:
        if self.days:
            first, last = self.days
            if known:
                first = period_start(first, Grain(known), schema.fiscal_month)
            day = pl.col(self.field).cast(pl.Date)
            return (day >= first) & (day <= last)
        if self.starts is None:
            return None
        group = Grouping(field=self.field, grain=self.grain)
        return group_expression(group, schema).is_in(pl.Series(self.starts, dtype=pl.Date).implode())


@dataclass(frozen=True)
class Place:
    """Cells: one for each combination of the dimensions' values. `upto` adds all cells since the start of a period;
    inside a grain of its own, `outer` are the dimensions that the formula calls shown."""

    groups: tuple[Grouping, ...] = ()
    periods: Periods | None = None
    upto: Grain | None = None
    outer: tuple[Grouping, ...] | None = None

    @property
    def shown(self) -> tuple[Grouping, ...]:
        return self.groups if self.outer is None else self.outer


@dataclass(frozen=True)
class Part:
    """A sum, count and the like of an expression over rows, in a column of its own."""

    name: str
    how: str
    column: str
    expression: pl.Expr | None
    aggregate: pl.Expr
    fields: frozenset[str]
    attached: tuple[Checked, ...] = ()

    @property
    def combines(self) -> bool:
        return self.how in COMBINE


@dataclass
class Cells:
    """A place's cells with what was worked out in them; `homes` holds, by table, the dimensions that reach it and its parts."""

    frame: pl.DataFrame
    keys: list[str]
    homes: dict[str, tuple[list[str], pl.DataFrame]] = attribute(default_factory=dict)


def key_of(group: Grouping) -> str:
    return f"{group.field}@{group.grain or ''}"


class Engine:
    """Works formulas out under some filters. `groups` are the chart's dimensions; with `kept`, the cells that remain of
    them, the engine works out totals: values of fewer dimensions over those cells."""

    def __init__(
        self, model: Model, filters: tuple[Filter, ...], context: Context, groups: tuple[Grouping, ...] = (),
        kept: pl.DataFrame | None = None, finer: Engine | None = None, narrowed: bool = False,
    ) -> None:  # fmt: skip
        self.model, self.schema, self.filters, self.context = model, model.schema, filters, context
        self.groups, self.kept, self.finer = groups, kept, finer
        self.for_totals, self.narrowed = finer is not None, narrowed
        self.wanted: dict[Place, dict[str, dict[str, Part]]] = {}
        self.cells: dict[Place, Cells] = {}
        self.gathering = True
        self.columns: dict[Any, str] = {}
        self.parts: dict[Any, Part] = finer.parts if finer else {}
        self.notes: list[str] = finer.notes if finer else []

    # Both walks.

    def gather(self, nodes: Iterable[tuple[Checked, Place]]) -> None:
        """The first walk over all that will be asked, then reading the rows."""
        self.gathering = True
        for node, place in nodes:
            self.column(node, place)
        self._read()
        self.gathering = False

    def want(self, place: Place, home: str) -> None:
        """A place's cells are wanted even if nothing is worked out in them."""
        self.wanted.setdefault(place, {}).setdefault(home, {})

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

    # Reading rows.

    def _reached(self, home: str, place: Place) -> list[Grouping]:
        return [group for group in place.groups if self.model.reaches(home, group.field, group.grain or "")]

    def _read(self) -> None:
        """Read what the places want of each table, all in one go. A place that can be put together from a finer one is
        not read: the finer one reads what it needs too."""
        for place, homes in list(self.wanted.items()):
            self._complete(place)
            if place.upto:
                for home, parts in homes.items():
                    if all(part.combines for part in parts.values()):
                        self.wanted.setdefault(replace(place, upto=None), {}).setdefault(home, {}).update(parts)
        for place in list(self.wanted):
            self._complete(place)
        asked = [(place, home, parts) for place, homes in self.wanted.items() for home, parts in homes.items()]
        asked.sort(key=lambda each: (each[0].upto is not None, *(-n for n in _fineness(each[0]))))
        readings, derived = [], []
        for place, home, parts in asked:
            if self.finer and self._put_together(place, home, parts):
                continue
            host = self._host(place, home, parts, readings)
            if host is None:
                readings.append((place, home, dict(parts)))
            else:
                host.update({} if place.upto else parts)
                derived.append((place, home, parts))
        lazily = [self._lazy(place, home, parts) for place, home, parts in readings]
        frames = pl.collect_all(lazily) if len(lazily) > 1 else [each.collect() for each in lazily]
        for (place, home, _), frame in zip(readings, frames, strict=True):
            self._add_home(place, home, frame)
        for place, home, parts in derived:
            self._put_together(place, home, parts)
        for place in self.wanted:
            self._assemble(place)
        self.wanted = {}

    def _host(self, place: Place, home: str, parts: dict[str, Part], readings: list) -> dict[str, Part] | None:
        """The parts of a finer place that is going to be read, from which a place can be put together."""
        if not all(part.combines for part in parts.values()):
            return None
        reached = self._reached(home, place)
        for other, other_home, found in readings:
            fits = other_home == home and other.periods == place.periods and not other.upto
            keys = [key_of(group) for group in self._reached(home, other)] if fits else []
            if fits and self._coarser(reached, other, keys) is not None:
                return found
        return None

    def _complete(self, place: Place) -> None:
        """Each table's rows are counted in each place; a place whose dimensions reach none of its tables gets one they do."""
        homes = self.wanted[place]
        if place.groups and not any(len(self._reached(home, place)) == len(place.groups) for home in homes):
            own = list(
                dict.fromkeys([self.schema[g.field].table for g in place.groups if not self.schema[g.field].formula] + [""])
            )
            more = next((h for h in [*own, *self.model.tables] if len(self._reached(h, place)) == len(place.groups)), None)
            if more is None:
                names = " and ".join(grouping_words(group, self.schema) for group in place.groups)
                raise DefinitionProblem(
                    f"No table has all of {names}.",
                    hint="Take one of the dimensions out, or join their tables in the model.",
                )
            homes.setdefault(more, {})
        for home, parts in homes.items():
            if not any(part.how == "len" for part in parts.values()):
                part = self.parts.setdefault(
                    ("len", home), Part(f"p{len(self.parts)}", "len", "", None, pl.len(), frozenset())
                )
                parts[part.name] = part

    def _put_together(self, place: Place, home: str, parts: dict[str, Part]) -> bool:
        """Take a place's parts from a finer place that was read already, if they can be put together."""
        if not all(part.combines for part in parts.values()):
            return False
        reached = self._reached(home, place)
        for engine in filter(None, (self.finer, self)):
            for other, cells in engine.cells.items():
                if (other == place and engine is self) or other.periods != place.periods or other.upto:
                    continue
                if place.upto and engine is self.finer:
                    continue
                if home not in cells.homes or not set(parts) <= set(cells.homes[home][1].columns):
                    continue
                finer_keys, frame = cells.homes[home]
                keys = self._coarser(reached, other, finer_keys)
                if keys is None:
                    continue
                if engine is self.finer:
                    frame = self._only_kept(frame.lazy(), finer_keys).collect()
                self._add_home(place, home, _combined(frame, keys, parts))
                return True
        return False

    def _coarser(self, groups: list[Grouping], finer: Place, keys: list[str]) -> list[pl.Expr] | None:
        """The groups' values worked out from a finer place's keys, or None if they cannot be."""
        found = []
        for group in groups:
            if key_of(group) in keys:
                found.append(pl.col(key_of(group)))
                continue
            nests = next(
                (g for g in finer.groups if g.field == group.field and g.is_time_axis and group.is_time_axis and key_of(g) in keys
                 and group.grain in NESTED[g.grain] and g.grain is not Grain.WEEK), None,
            )  # fmt: skip
            if nests is None:
                return None
            start = enclosing(pl.col(key_of(nests)), nests.grain, group.grain, self.schema.fiscal_month)
            found.append(start.alias(key_of(group)))
        return found

    def rows(
        self, home: str, place: Place, names: set[str], keys: Iterable[Grouping], attached: Iterable[Checked] = ()
    ) -> pl.LazyFrame:
        """A table's rows that pass the filters that reach it, with these fields and the keys' values."""
        keys = list(keys)
        filters = [
            filter_ for filter_ in self.filters if not self._replaced(filter_, place) and self._follows(filter_, home)
        ]
        kept = self._kept_groups(home, place)
        needed = set(names) | {group.field for group in (*keys, *kept)} | {name for f in filters for name in f.fields()}
        periods = place.periods
        narrowing = None
        if periods and self.model.reaches(home, periods.field, periods.grain if periods.starts else "year"):
            narrowing = periods.expression(self.schema, self.model.known_grain(home, periods.field))
            needed |= {periods.field} if narrowing is not None else set()
        rows = self.model.scan(sorted(needed), home)
        conditions = [self._condition(filter_, home) for filter_ in filters]
        conditions += [narrowing] if narrowing is not None else []
        if conditions:
            rows = rows.filter(conditions)
        rows = rows.with_columns(group_expression(group, self.schema).alias(key_of(group)) for group in keys)
        for i, node in enumerate(attached):
            rows = self._attach(rows, node, i, place)
        if kept:
            own = {f"__kept{i}": group for i, group in enumerate(kept)}
            rows = rows.with_columns(group_expression(group, self.schema).alias(name) for name, group in own.items())
            cells = self.kept.lazy().select(key_of(group) for group in kept).unique()
            rows = rows.join(cells, left_on=list(own), right_on=[key_of(g) for g in kept], how="semi", nulls_equal=True)
        return rows

    def _attach(self, rows: pl.LazyFrame, node: Checked, i: int, place: Place) -> pl.LazyFrame:
        """The value at a grain of its own, beside each row."""
        inner = Engine(self.model, self.filters, self.context, self.groups)
        at = replace(place, groups=self._groups_of(node.per, place), upto=None, outer=place.shown)
        inner.gather([(node.arguments[0], at)])
        name = inner.column(node.arguments[0], at)
        cells, keys = inner.cells[at].frame, [key_of(group) for group in at.groups]
        if not keys:
            return rows.with_columns(pl.lit(cells[name][0], dtype=cells[name].dtype).alias(_attached(node)))
        own = [f"__{key}" for key in keys]
        rows = rows.with_columns(group_expression(g, self.schema).alias(k) for g, k in zip(at.groups, own, strict=True))
        wanted = cells.lazy().select(*keys, pl.col(name).alias(_attached(node)))
        return rows.join(wanted, left_on=own, right_on=keys, how="left", nulls_equal=True)

    def _lazy(self, place: Place, home: str, parts: dict[str, Part]) -> pl.LazyFrame:
        reached = self._reached(home, place)
        attached = list(dict.fromkeys(node for part in parts.values() for node in part.attached))
        names = {name for part in parts.values() for name in part.fields}
        names |= {g.field for node in attached for g in self._groups_of(node.per, place)}
        exploded = place.upto is not None and not all(part.combines for part in parts.values())
        late = {} if exploded else _from_finer(reached)
        rows = self.rows(home, replace(place, upto=None), names, [g for g in reached if g not in late], attached)
        made = {part.column: part.expression for part in parts.values() if part.expression is not None}
        rows = rows.with_columns(expression.alias(column) for column, expression in made.items())
        keys = [key_of(group) for group in reached if group not in late]
        if exploded:
            axis = self.axis(place)
            if axis and axis in reached:
                rows = self._exploded(rows, axis, place.upto, self._starts(home, place, axis).lazy())
        aggregates = [part.aggregate.alias(name) for name, part in parts.items()]
        rows = rows.group_by(keys).agg(aggregates) if keys else rows.select(aggregates)
        fiscal = self.schema.fiscal_month
        return rows.with_columns(
            enclosing(pl.col(key_of(finer)), finer.grain, group.grain, fiscal).alias(key_of(group))
            for group, finer in late.items()
        )

    def _starts(self, home: str, place: Place, axis: Grouping) -> pl.DataFrame:
        rows = self.rows(home, replace(place, upto=None), set(), [axis])
        return rows.select(pl.col(key_of(axis))).unique().drop_nulls().collect()

    def _exploded(self, rows: pl.LazyFrame, axis: Grouping, unit: Grain, starts: pl.LazyFrame) -> pl.LazyFrame:
        """Each row in its own period and in all later ones up to the end of the enclosing one."""
        key = key_of(axis)
        whole = enclosing(pl.col(key), axis.grain, unit, self.schema.fiscal_month).alias("__whole")
        later = starts.select(pl.col(key).alias("__later"), whole)
        rows = rows.with_columns(whole).join(later, on="__whole", how="inner").filter(pl.col("__later") >= pl.col(key))
        return rows.with_columns(pl.col("__later").alias(key))

    def _add_home(self, place: Place, home: str, frame: pl.DataFrame) -> None:
        if frame.height > MOST_CELLS:
            raise DefinitionProblem(
                f"This question has {frame.height:,} groups; at most {MOST_CELLS:,} are worked out.",
                hint="Take a dimension out, choose a coarser grain or filter first.",
            )
        cells = self.cells.setdefault(place, Cells(pl.DataFrame(), [key_of(group) for group in place.groups]))
        keys = [key_of(group) for group in self._reached(home, place)]
        if home in cells.homes:
            old = cells.homes[home][1]
            frame = frame.drop([name for name in frame.columns if name in old.columns and name not in keys])
            frame = (
                old.join(frame, on=keys, how="left", nulls_equal=True) if keys else pl.concat([old, frame], how="horizontal")
            )
        axis = self.axis(place)
        if place.upto and axis and key_of(axis) in keys:
            frame = self._upto(frame, axis, place.upto)
        cells.homes[home] = (keys, frame)

    def _upto(self, frame: pl.DataFrame, axis: Grouping, unit: Grain) -> pl.DataFrame:
        """Parts that can be put together, summed up since the start of the period; the others were read so."""
        combine = {
            part.name: COMBINE[part.how] for part in self.parts.values() if part.combines and part.name in frame.columns
        }
        if any(part.name in frame.columns and not part.combines for part in self.parts.values()):
            return frame  # read exploded
        keys = [name for name in frame.columns if name not in combine]
        starts = frame.lazy().select(key_of(axis)).unique().drop_nulls()
        rows = self._exploded(frame.lazy(), axis, unit, starts)
        return rows.group_by(keys).agg(getattr(pl.col(name), how)() for name, how in combine.items()).collect()

    def _assemble(self, place: Place) -> None:
        """Put the tables' cells side by side on the dimensions they share."""
        cells = self.cells[place]
        full = [frame for keys, frame in cells.homes.values() if keys == cells.keys]
        partial = [(home, keys, frame) for home, (keys, frame) in cells.homes.items() if keys != cells.keys]
        if not cells.keys:
            cells.frame = pl.concat([frame for _, frame in cells.homes.values()], how="horizontal")
            return
        kinds = {key: next(frame.schema[key] for frame in full) for key in cells.keys}
        found = full[0]
        for other in full[1:]:
            other = other.with_columns(pl.col(key).cast(kind) for key, kind in kinds.items())
            found = found.join(other, on=cells.keys, how="full", coalesce=True, nulls_equal=True)
        for home, keys, frame in partial:
            self._say_beyond(home, place, keys)
            if self.model.definition.beyond == "repeat" and keys:
                found = found.join(frame, on=keys, how="left", nulls_equal=True)
            elif self.model.definition.beyond == "repeat":
                found = found.join(frame, how="cross")
            else:
                empty = [pl.lit(None, dtype=frame.schema[name]).alias(name) for name in frame.columns if name not in keys]
                found = found.with_columns(empty)
        cells.frame = found

    def _say_beyond(self, home: str, place: Place, keys: list[str]) -> None:
        if place.groups != self.groups or self.for_totals:
            return
        missing = [g for g in place.groups if key_of(g) not in keys]
        said = " and ".join(grouping_words(group, self.schema) for group in missing)
        how = (
            "is repeated in each of its groups" if self.model.definition.beyond == "repeat" else "stays empty in its groups"
        )
        note = f"{self.model.table_name(home)} cannot be told apart by {said}, so what is measured there {how}."
        if note not in self.notes:
            self.notes.append(note)

    # Filters.

    def _follows(self, filter_: Filter, home: str) -> bool:
        """Whether a filter's fields reach a table; if not, that is said."""
        found = all(self.model.reaches(home, name, self._grain_of(filter_)) for name in filter_.fields())
        if not found:
            note = f"{self.model.table_name(home)} is not narrowed by “{filter_.words(self.schema)}”: it has no such field."
            if note not in self.notes:
                self.notes.append(note)
        return found

    def _grain_of(self, filter_: Filter) -> str:
        if isinstance(filter_, DatesFilter | RelativeFilter):
            return "year"
        if isinstance(filter_, ListFilter):
            return filter_.grain or ""
        if isinstance(filter_, PointsFilter):
            grains = [group.grain for group in filter_.groups if group.grain]
            return min(grains, key=list(Grain).index) if len(grains) == 1 else (Grain.DAY if grains else "")
        return ""

    def _condition(self, filter_: Filter, home: str) -> pl.Expr:
        """The filter on a table's rows; a table that knows only months takes all months that are touched."""
        if isinstance(filter_, DatesFilter | RelativeFilter) and (known := self.model.known_grain(home, filter_.field)):
            first, last = filter_.bounds(self.context)
            first = first and period_start(first, Grain(known), self.schema.fiscal_month)
            return DatesFilter(field=filter_.field, start=first, end=last).expression(self.schema, self.context)
        return filter_.expression(self.schema, self.context)

    def _replaced(self, filter_: Filter, place: Place) -> bool:
        """Whether a filter on dates gives way to the place's periods."""
        return bool(place.periods) and self._is_on(filter_, place.periods.field)

    def _is_on(self, filter_: Filter, field: str) -> bool:
        dated = isinstance(filter_, DatesFilter | RelativeFilter | ListFilter | PointsFilter)
        return dated and filter_.fields() == {field}

    def _only_kept(self, rows: pl.LazyFrame, keys: list[str]) -> pl.LazyFrame:
        shared = [key for key in keys if self.narrowed and key in self.kept.columns]
        if not shared:
            return rows
        return rows.join(self.kept.lazy().select(shared).unique(), on=shared, how="semi", nulls_equal=True)

    def _kept_groups(self, home: str, place: Place) -> list[Grouping]:
        """The chart's dimensions by which rows of cells that were dropped are told; not the time axis where it is replaced."""
        if not self.narrowed:
            return []
        return [
            group for group in self.groups
            if self.model.reaches(home, group.field, group.grain or "") and not (place.periods and group.field == place.periods.field)
        ]  # fmt: skip

    # Values at a grain of their own.

    def _groups_of(self, per: Per, place: Place) -> tuple[Grouping, ...]:
        own = tuple(Grouping(field=name, grain=Grain.DAY if self.schema[name].kind.is_date else None) for name in per.fields)
        if not per.shown:
            return own
        if per.less:
            return tuple(g for g in place.shown if g.field not in per.fields and g.grain not in per.periods)
        return tuple(dict.fromkeys((*place.shown, *own)))

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

    def axis(self, place: Place) -> Grouping | None:
        return next((group for group in place.groups if group.is_time_axis), None)

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


class At:
    """What a function of time asks the engine for, at one place."""

    def __init__(self, engine: Engine, place: Place, node: Checked) -> None:
        self.engine, self.place, self.node = engine, place, node
        self.axis = engine.axis(place)
        self.fiscal = engine.schema.fiscal_month

    def value(self, x: Checked) -> pl.Expr:
        return self.engine.value(x, self.place)

    def shifted(self, x: Checked, steps: int, unit: str) -> pl.Expr:
        unit = Grain(unit)
        if self.axis is None:
            periods = self.engine.current(self.place, self.node)
            if periods.days:
                return self._elsewhere(x, replace(periods, days=moved_days(*periods.days, steps, unit)))
            self._must_nest(periods.grain, unit)
            return self._elsewhere(
                x, replace(periods, starts=self._mapped(periods, moved(pl.col("s"), periods.grain, steps, unit)))
            )
        self._must_nest(self.axis.grain, unit)
        key = key_of(self.axis)
        if x.function is not None and x.function.name == "to_date" and x.arguments[0] is None:
            # So far into another year there is a value, even where its very month has none.
            return self.to_date(x.arguments[1], x.arguments[2].value, moved(pl.col(key), self.axis.grain, steps, unit))
        return self._other_cells(x, self.place.groups, {key: moved(pl.col(key), self.axis.grain, steps, unit)})

    def whole(self, x: Checked, unit: str) -> pl.Expr:
        unit = Grain(unit)
        if self.axis is None:
            periods = self.engine.current(self.place, self.node)
            if periods.days:
                first, last = periods.days
                first, last = period_start(first, unit, self.fiscal), period_end(period_start(last, unit, self.fiscal), unit)
                return self._elsewhere(x, replace(periods, days=(first, last)))
            self._must_nest(periods.grain, unit)
            starts = self._mapped(periods, enclosing(pl.col("s"), periods.grain, unit, self.fiscal))
            if periods.grain is Grain.WEEK:
                weeks = [start + dt.timedelta(days=7 * i) for start in starts for i in range(53)]
                return self._elsewhere(
                    x,
                    replace(
                        periods,
                        starts=tuple(
                            w for w in weeks if w.isocalendar()[0] in {(s + dt.timedelta(days=3)).year for s in starts}
                        ),
                    ),
                )
            return self._elsewhere(x, replace(periods, grain=unit, starts=starts))
        self._must_nest(self.axis.grain, unit)
        whole = self.axis if self.axis.grain is unit else Grouping(field=self.axis.field, grain=unit)
        if self.axis.grain is Grain.WEEK and unit is Grain.YEAR:
            raise FormulaProblem(
                "Weeks do not make up whole calendar years.", start=self.node.at.start, end=self.node.at.end,
                hint="Choose months, or to_date(…, 'year'), which follows the ISO year on weeks.",
            )  # fmt: skip
        groups = tuple(whole if group == self.axis else group for group in self.place.groups)
        return self._other_cells(
            x, groups, {key_of(whole): enclosing(pl.col(key_of(self.axis)), self.axis.grain, unit, self.fiscal)}
        )

    def to_date(self, x: Checked, unit: str, position: pl.Expr | None = None) -> pl.Expr:
        """`position` is another cell of the time axis than this one."""
        unit = Grain(unit)
        if self.axis is None:
            periods = self.engine.current(self.place, self.node)
            if periods.days:
                first, last = periods.days
                return self._elsewhere(x, replace(periods, days=(period_start(last, unit, self.fiscal), last)))
            self._must_nest(periods.grain, unit)
            last = max(periods.starts, default=None)
            first = last and pl.select(enclosing(pl.lit(last), periods.grain, unit, self.fiscal)).item()
            days = (first, period_end(last, periods.grain)) if last else (dt.date.max, dt.date.max)
            return self._elsewhere(x, Periods(periods.field, Grain.DAY, None, days))
        self._must_nest(self.axis.grain, unit)
        engine, key = self.engine, key_of(self.axis)
        at = replace(engine._widened(self.place, self.axis), upto=unit)
        name = engine.column(x, at)
        if engine.gathering:
            return self._nothing(x)
        return self._latest(engine.cells[at].frame, name, key, unit, position)

    def cells_to_date(self, x: Checked, how: str, unit: str) -> pl.Expr:
        unit = Grain(unit)
        if self.axis is None and self.engine.for_totals:
            return self._nothing(x)
        if self.axis is None:
            raise FormulaProblem(
                f"to_date({how}, …) looks at the periods of a time axis, and this chart has none.", start=self.node.at.start,
                end=self.node.at.end, hint="Add a date to the dimensions.",
            )  # fmt: skip
        self._must_nest(self.axis.grain, unit)
        engine, key = self.engine, key_of(self.axis)
        at = engine._widened(self.place, self.axis)
        name = engine.column(x, at)
        if engine.gathering:
            return self._nothing(x)
        keys = engine.cells[at].keys
        starts = engine.cells[at].frame.lazy().select(key).unique().drop_nulls()
        rows = engine._exploded(engine.cells[at].frame.lazy().select(*keys, name), self.axis, unit, starts)
        found = rows.group_by(keys).agg(getattr(pl.col(name), how)(), pl.col(name).count().alias("__n")).collect()
        found = found.with_columns(pl.when(pl.col("__n") > 0).then(pl.col(name)).alias(name))
        return self._latest(found, name, key, unit)

    def since(self, x: Checked) -> pl.Expr:
        if self.axis is None and self.engine.for_totals:
            return pl.lit(None, dtype=pl.Int64)
        if self.axis is None:
            raise FormulaProblem(
                "since counts periods along a time axis, and this chart has none.", start=self.node.at.start, end=self.node.at.end,
                hint="Add a date to the dimensions.",
            )  # fmt: skip
        engine, key = self.engine, key_of(self.axis)
        at = engine._widened(self.place, self.axis)
        name = engine.column(x, at)
        if engine.gathering:
            return pl.lit(None, dtype=pl.Int64)
        others = [each for each in engine.cells[at].keys if each != key]
        held = engine.cells[at].frame.filter(pl.col(name))
        if others:
            first = held.group_by(others).agg(pl.col(key).min().alias("__first"))
        else:
            first = held.select(pl.col(key).min().alias("__first"))
        start = engine._looked_up(self.place, [pl.col(each) for each in others], first, others, "__first")
        now = pl.col(key)
        months = (
            (now.dt.year() - start.dt.year()).cast(pl.Int64) * 12
            + now.dt.month().cast(pl.Int64)
            - start.dt.month().cast(pl.Int64)
        )
        days = (now - start).dt.total_days()
        count = {
            Grain.DAY: days,
            Grain.WEEK: days // 7,
            Grain.MONTH: months,
            Grain.QUARTER: months // 3,
            Grain.YEAR: months // 12,
        }
        found = count[self.axis.grain]
        return pl.when(found >= 0).then(found)

    # Helpers.

    def _nothing(self, x: Checked) -> pl.Expr:
        return pl.lit(None, dtype=x.kind.dtype if x.kind else None)

    def _mapped(self, periods: Periods, expression: pl.Expr) -> tuple[dt.date, ...]:
        starts = pl.DataFrame({"s": pl.Series(list(periods.starts or ()), dtype=pl.Date)})
        return tuple(starts.select(expression.alias("s"))["s"].drop_nulls().unique().sort().to_list())

    def _elsewhere(self, x: Checked, periods: Periods) -> pl.Expr:
        """The value over other periods, in the same cells."""
        at = replace(self.place, periods=periods)
        name = self.engine.column(x, at)
        if self.engine.gathering:
            return self._nothing(x)
        keys = self.engine.cells[at].keys
        return self.engine._looked_up(
            self.place, [pl.col(key) for key in keys], self.engine.cells[at].frame.select(*keys, name), keys, name
        )

    def _other_cells(self, x: Checked, groups: tuple[Grouping, ...], changed: dict[str, pl.Expr]) -> pl.Expr:
        """The value in other cells, of other periods."""
        engine = self.engine
        swapped = dict(zip(self.place.groups, groups, strict=True))
        outer = self.place.outer and tuple(swapped.get(group, group) for group in self.place.outer)
        at = engine._widened(replace(self.place, groups=groups, outer=outer), self.axis)
        name = engine.column(x, at)
        if engine.gathering:
            return self._nothing(x)
        keys = [key_of(group) for group in groups]
        own = [changed.get(key, pl.col(key)) for key in keys]
        frame = engine.cells[at].frame
        if at.upto and (axis := engine.axis(at)):
            place = next(i for i, key in enumerate(keys) if key == key_of(axis))
            return self._latest(frame, name, keys[place], at.upto, own[place])
        # Where there is no such period nothing is found, not the cell of empty dates.
        frame = frame.drop_nulls([key for key in keys if key in changed])
        return engine._looked_up(self.place, own, frame.select(*keys, name), keys, name)

    def _latest(self, frame: pl.DataFrame, name: str, key: str, unit: Grain, at: pl.Expr | None = None) -> pl.Expr:
        """The value of the latest cell up to this one within the same enclosing period."""
        engine, axis = self.engine, self.axis
        keys = [key_of(group) for group in self.place.groups]
        others = [each for each in keys if each != key]
        asked = (
            engine.cells[self.place]
            .frame.select(*others, (at if at is not None else pl.col(key)).alias(key))
            .with_row_index("__row")
        )
        whole = enclosing(pl.col(key), axis.grain, unit, self.fiscal).alias("__whole")
        asked, have = asked.with_columns(whole), frame.select(*others, key, name).drop_nulls(key).with_columns(whole)
        group = pl.struct(*others, "__whole").alias("__group")
        places = pl.concat([asked.select(group), have.select(group)]).unique().with_row_index("__id")
        asked = asked.with_columns(group).join(places, on="__group", how="left", nulls_equal=True).sort(key)
        have = have.with_columns(group).join(places, on="__group", how="left", nulls_equal=True).sort(key)
        full = (
            asked.drop_nulls(key)
            .select("__row", "__id", key)
            .join_asof(have.select("__id", key, name), on=key, by="__id", check_sortedness=False)
        )
        found = asked.select("__row").join(full.select("__row", name), on="__row", how="left").sort("__row")[name]
        return pl.lit(found) if len(found) != 1 else pl.lit(found[0], dtype=found.dtype)

    def _must_nest(self, grain: Grain, unit: Grain) -> None:
        if unit in NESTED[grain]:
            return
        ways = ", ".join(each.words for each in NESTED[grain])
        finer = list(Grain).index(unit) > list(Grain).index(grain)
        why = "is finer than" if finer else "is not made up of whole"
        what = f"the chart's {grain.words}s" if finer else f"{grain.words}s, which the chart shows"
        raise FormulaProblem(
            f"{self.node.function.name}: a {unit.words} {why} {what}.", start=self.node.at.start, end=self.node.at.end,
            hint=f"With {grain.words}s these work: {ways}. Or show the chart by {unit.words}.",
        )  # fmt: skip


def _fineness(place: Place) -> tuple[int, int]:
    """How fine a place's cells are, roughly: its dimensions, and the grains of its dates."""
    grains = list(Grain)
    return len(place.groups), sum(grains.index(group.grain) for group in place.groups if group.grain)


def _from_finer(groups: list[Grouping]) -> dict[Grouping, Grouping]:
    """Periods that follow from a finer grain of the same date among the groups."""
    found = {}
    for group in groups:
        for other in groups:
            dated = (
                group.is_time_axis and other.is_time_axis and other.field == group.field and other.grain is not Grain.WEEK
            )
            if dated and other.grain is not group.grain and group.grain in NESTED[other.grain]:
                found[group] = other
    return {group: other for group, other in found.items() if other not in found} | {
        group: found[other] for group, other in found.items() if other in found and found[other] not in found
    }


class _RowCompiler(_Compiler):
    """Compiles what is inside an aggregate; values at a grain of their own stand in columns that are attached to the rows."""

    def __init__(self, attached: list[Checked], today: dt.date) -> None:
        super().__init__()
        self.attached, self.today = attached, today

    def expression(self, node: Checked) -> pl.Expr:
        if node.per is not None:
            self.attached.append(node)
            return pl.col(_attached(node))
        if node.function is not None and node.function.name == "today":
            return pl.lit(self.today)
        return super().expression(node)


def _attached(node: Checked) -> str:
    return f"__at_{abs(hash(node))}"


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


def _combined(frame: pl.DataFrame, keys: list[pl.Expr], parts: dict[str, Part]) -> pl.DataFrame:
    aggregates = [getattr(pl.col(name), COMBINE[part.how])() for name, part in parts.items()]
    if keys:
        return frame.lazy().group_by(keys).agg(aggregates).collect()
    return frame.select(aggregates)


def finished(expression: pl.Expr, kind: Kind | None) -> pl.Expr:
    """A value as its kind; what is too large or undefined is empty."""
    if kind is Kind.DECIMAL:
        expression = expression.cast(pl.Float64)
        return pl.when(expression.is_finite()).then(expression)
    return expression
