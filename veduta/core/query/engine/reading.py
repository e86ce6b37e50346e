"""Reading what places want of each table: as few passes as possible, filtered, grouped, put side by side."""

from __future__ import annotations

import datetime as dt
from abc import ABC, abstractmethod
from collections.abc import Iterable
from dataclasses import replace
from typing import cast

import polars as pl

from veduta.core.calendar import (
    PERIODS,
    Grain,
    Grouping,
    enclosing,
    following_expression,
    follows,
    group_expression,
    independent,
    periods_between,
)
from veduta.core.data.fields import Kind
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.check import Checked, Per
from veduta.core.model.model import Model
from veduta.core.query.engine.parts import attached_name
from veduta.core.query.engine.places import COMBINE, Cells, Part, Place, Prepared, key_of, prepared_for
from veduta.core.query.engine.running import beside, running_parts
from veduta.core.query.filters import Context, Filter, grouping_words

MOST_CELLS = 3_000_000
MOST_ROWS_AGAIN = 10_000_000

Reading = tuple[Place, str, dict[str, Part]]
"""The parts that are wanted of a table (by its id) in a place's cells, by their columns."""


class Reader(ABC):
    """Reads parts for places under some filters. `groups` are the chart's dimensions; with `kept`, the cells that
    remain of them, it reads for totals: values of fewer dimensions over those cells, from what `finer` has read where
    that does. One that `ranks` works over a single dimension as a chart of its own would, windows included."""

    def __init__(
        self,
        model: Model,
        filters: tuple[Filter, ...],
        context: Context,
        groups: tuple[Grouping, ...] = (),
        kept: pl.DataFrame | None = None,
        finer: Reader | None = None,
        narrowed: bool = False,
        ranks: bool = False,
    ) -> None:
        self.model, self.schema, self.filters, self.context = model, model.schema, filters, context
        self.groups, self.kept, self.finer = groups, kept, finer
        self.for_totals, self.narrowed, self.ranks = kept is not None, narrowed, ranks
        self.wanted: dict[Place, dict[str, dict[str, Part]]] = {}
        """By place and by table the parts that are to be read, by the names of their columns."""
        self.cells: dict[Place, Cells] = {}
        self.prepared: Prepared = finer.prepared if finer else prepared_for(model, context)
        self.notes: list[str] = finer.notes if finer else []

    def want(self, place: Place, home: str, parts: Iterable[Part] = ()) -> None:
        """Parts of a table's rows are wanted in a place's cells, or its cells even if nothing is worked out in them."""
        self.wanted.setdefault(place, {}).setdefault(home, {}).update({part.name: part for part in parts})

    def axis(self, place: Place) -> Grouping | None:
        """The time axis of a place, if it has one: the finest periods of its first date."""
        periods = [group for group in place.groups if group.is_time_axis]
        own = [group for group in periods if group.field == periods[0].field]
        return max(own, key=lambda group: PERIODS.index(group.period), default=None)

    # Reading rows.

    def reached(self, home: str, place: Place) -> list[Grouping]:
        return [group for group in place.groups if self.model.reaches(home, group.field, group.grain or "")]

    def read(self) -> None:
        """Read what the places want of each table, all in one go. A place that can be put together from
        a finer one is not read: the finer one reads what it needs too. What runs to date is put
        together from the cells it runs over."""
        for place in list(self.wanted):
            self._complete(place)
        running = [place for place in self.wanted if place.upto]
        for place in running:
            for home, parts in self.wanted[place].items():
                plain = {name: part for name, part in parts.items() if part.combines}
                self.wanted.setdefault(place.in_its_cells, {}).setdefault(home, {}).update(plain)
        for place in list(self.wanted):
            self._complete(place)
        readings, derived = self._shared_out()
        self._read_rows(readings)
        for place, home, parts in derived:
            self._put_together(place, home, parts)
        for place in running:
            for home, parts in self.wanted[place].items():
                self._add_home(place, home, running_parts(self, place, home, parts))
        for place in self.wanted:
            self._assemble(place)
        self.wanted = {}

    def _shared_out(self) -> tuple[list[Reading], list[Reading]]:
        """What is read, the finest places first, with the parts that others need of it; and what is put together from
        that. What a finer reader has read already is put together at once."""
        asked = [
            (place, home, parts)
            for place, homes in self.wanted.items()
            if not place.upto
            for home, parts in homes.items()
        ]
        asked.sort(key=lambda each: tuple(-n for n in _fineness(each[0])))
        readings: list[Reading] = []
        derived: list[Reading] = []
        for place, home, parts in asked:
            if self.finer and self._put_together(place, home, parts):
                continue
            host = self._host(place, home, parts, readings)
            if host is None:
                readings.append((place, home, dict(parts)))
            else:
                host.update(parts)
                derived.append((place, home, parts))
        return readings, derived

    def _read_rows(self, readings: list[Reading]) -> None:
        self.context.check_wanted()
        for place, home, _ in readings:
            self._refuse_too_many(place, home)
        lazily = [self.lazy(place, home, parts) for place, home, parts in readings]
        frames = pl.collect_all(lazily) if len(lazily) > 1 else [each.collect() for each in lazily]
        for (place, home, _), frame in zip(readings, frames, strict=True):
            self._add_home(place, home, frame)

    def _refuse_too_many(self, place: Place, home: str) -> None:
        """Refuse a question with far too many groups before memory is taken for them: where they could be too many by
        their values, they are counted roughly first."""
        reached = [group for group in self.reached(home, place) if not group.grain]
        most = 1
        for group in reached:
            most *= max(1, self.model.facts(group.field).distinct)
        if min(most, self.model.tables[home].rows) <= MOST_CELLS or not reached:
            return
        keys = [key_of(group) for group in reached]
        rows = self.rows(home, place.in_its_cells, set(), reached).select(pl.struct(keys).hash().approx_n_unique())
        _refuse(rows.collect().item())

    def _host(self, place: Place, home: str, parts: dict[str, Part], readings: list[Reading]) -> dict[str, Part] | None:
        """The parts of a finer place that is going to be read, from which a place can be put together."""
        if not all(part.combines for part in parts.values()):
            return None
        reached = self.reached(home, place)
        for other, other_home, own_parts in readings:
            fits = other_home == home and other.same_rows(place)
            keys = [key_of(group) for group in self.reached(home, other)] if fits else []
            if fits and self.coarser(reached, other, keys) is not None:
                return own_parts
        return None

    def _complete(self, place: Place) -> None:
        """Each table's rows are counted in each place; a place whose dimensions
        reach none of its tables gets one they do."""
        homes = self.wanted[place]
        if place.groups and not any(len(self.reached(home, place)) == len(place.groups) for home in homes):
            own = list(
                dict.fromkeys(
                    [self.schema[g.field].table for g in place.groups if not self.schema[g.field].formula] + [""]
                )
            )
            more = next(
                (h for h in [*own, *self.model.tables] if len(self.reached(h, place)) == len(place.groups)), None
            )
            if more is None:
                names = " and ".join(grouping_words(group, self.schema) for group in place.groups)
                raise DefinitionProblem(
                    f"No table has all of {names}.",
                    hint="Take one of the dimensions out, or join their tables in the model.",
                )
            homes.setdefault(more, {})
        for home, parts in homes.items():
            counted = self.prepared.rows_of(home)
            parts[counted.name] = counted

    def _put_together(self, place: Place, home: str, parts: dict[str, Part]) -> bool:
        """Take a place's parts from a finer place that was read already, if they can be put together."""
        if not all(part.combines for part in parts.values()):
            return False
        reached = self.reached(home, place)
        for engine in filter(None, (self.finer, self)):
            for other, cells in engine.cells.items():
                if (other == place and engine is self) or not self._same_rows(place, engine, other) or other.upto:
                    continue
                if home not in cells.homes or not set(parts) <= set(cells.homes[home][1].columns):
                    continue
                finer_keys, frame = cells.homes[home]
                keys = self.coarser(reached, other, finer_keys)
                if keys is None:
                    continue
                if engine is self.finer and self.narrowed and not place.whole:
                    if not self._tells_kept(home, place, finer_keys):
                        continue
                    frame = self._only_kept(frame.lazy(), finer_keys).collect()
                self._add_home(place, home, self._combined(frame, keys, place, home, parts))
                return True
        return False

    def _same_rows(self, place: Place, engine: Reader, other: Place) -> bool:
        """Whether the rows behind a place are those behind one of an engine, but for what was not kept."""
        if (place.periods, place.without) != (other.periods, other.without):
            return False
        return not engine.narrowed or place.whole == other.whole

    def _tells_kept(self, home: str, place: Place, keys: list[str]) -> bool:
        """Whether cells with these keys tell all the dimensions apart by which rows are kept."""
        return all(key_of(group) in keys for group in self._kept_groups(home, place))

    def coarser(self, groups: Iterable[Grouping], finer: Place, keys: list[str]) -> list[pl.Expr] | None:
        """The groups' values worked out from those of a finer place's keys that are there; None if they cannot be."""
        values = [self._told(group, finer, keys) for group in groups]
        known = [value for value in values if value is not None]
        return known if len(known) == len(values) else None

    def told_by(self, groups: Iterable[Grouping], finer: Place) -> dict[Grouping, pl.Expr | None]:
        """The groups' values worked out from those of a finer place's keys, None for each that cannot be."""
        keys = [key_of(group) for group in finer.groups]
        return {group: self._told(group, finer, keys) for group in groups}

    def _told(self, group: Grouping, finer: Place, keys: list[str]) -> pl.Expr | None:
        if key_of(group) in keys:
            return pl.col(key_of(group))
        other = next((g for g in finer.groups if follows(group, g) and key_of(g) in keys), None)
        if other is None:
            return None
        value = following_expression(group, pl.col(key_of(other)), other.period, self.schema.fiscal_month)
        return value.alias(key_of(group))

    def rows(
        self, home: str, place: Place, names: set[str], keys: Iterable[Grouping], attached: Iterable[Checked] = ()
    ) -> pl.LazyFrame:
        """A table's rows that pass the filters that reach it, with these fields and the keys' values."""
        keys = list(keys)
        filters = [filter_ for filter_ in self.filters_at(place) if self._follows(filter_, home)]
        kept = self._kept_groups(home, place)
        needed = set(names) | {group.field for group in (*keys, *kept)} | {name for f in filters for name in f.fields()}
        periods = place.periods
        narrowing = None
        if periods and self.model.reaches(home, periods.field, periods.period.value if periods.starts else "year"):
            narrowing = periods.expression(self.schema, self.model.known_grain(home, periods.field))
            needed |= {periods.field} if narrowing is not None else set()
        rows = self.model.scan(sorted(needed), home)
        conditions = [
            filter_.on_table(self.schema, self.context, lambda name: self.model.known_grain(home, name))
            for filter_ in filters
        ]
        conditions += [narrowing] if narrowing is not None else []
        if conditions:
            rows = rows.filter(conditions)
        if keys:
            rows = rows.with_columns(group_expression(group, self.schema).alias(key_of(group)) for group in keys)
        for node in attached:
            rows = self._attach(rows, node, place)
        if kept:
            own = {f"__kept{i}": group for i, group in enumerate(kept)}
            rows = rows.with_columns(group_expression(group, self.schema).alias(name) for name, group in own.items())
            cells = self.kept_cells.lazy().select(key_of(group) for group in kept).unique()
            rows = rows.join(cells, left_on=list(own), right_on=[key_of(g) for g in kept], how="semi", nulls_equal=True)
        return rows

    @property
    def kept_cells(self) -> pl.DataFrame:
        """The cells of the chart that remain, where this reads for totals."""
        assert self.kept is not None, "this does not read for totals"
        return self.kept

    @abstractmethod
    def at_grain(self, node: Checked, source: Place) -> tuple[pl.DataFrame, str]:
        """A value at a grain of its own, to stand beside the rows: the grain's cells, and the value's column."""

    @abstractmethod
    def at_once(self, place: Place, home: str) -> list[pl.Expr]:
        """Values of cells that are worked out with the reading of their parts."""

    def _attach(self, rows: pl.LazyFrame, node: Checked, place: Place) -> pl.LazyFrame:
        """The value at a grain of its own, beside each row."""
        source = self.place_of(node.grain, replace(place, upto=None, unbroken=False))
        cells, name = self.at_grain(node.given(0), source)
        keys = [key_of(group) for group in source.groups]
        if not keys:
            return rows.with_columns(pl.lit(cells[name][0], dtype=cells[name].dtype).alias(attached_name(node)))
        own = [f"__{key}" for key in keys]
        rows = rows.with_columns(
            group_expression(g, self.schema).alias(k) for g, k in zip(source.groups, own, strict=True)
        )
        wanted = cells.lazy().select(*keys, pl.col(name).alias(attached_name(node)))
        return rows.join(wanted, left_on=own, right_on=keys, how="left", nulls_equal=True)

    def made(self, place: Place, home: str, parts: Iterable[Part]) -> pl.LazyFrame:
        """A table's rows with the place's keys and the expressions that parts aggregate, as columns."""
        parts = list(parts)
        attached = list(dict.fromkeys(node for part in parts for node in part.attached))
        names = {name for part in parts for name in part.fields}
        names |= {g.field for node in attached for g in self.place_of(node.grain, place).groups}
        rows = self.rows(home, place.in_its_cells, names, self.reached(home, place), attached)
        made = {part.column: part.expression for part in parts if part.expression is not None}
        return rows.with_columns(expression.alias(column) for column, expression in made.items()) if made else rows

    def lazy(self, place: Place, home: str, parts: dict[str, Part]) -> pl.LazyFrame:
        rows = self.made(place, home, parts.values())
        keys = [key_of(group) for group in self.reached(home, place)]
        return self._grouped(rows, keys, [part.aggregate.alias(name) for name, part in parts.items()], place, home)

    def _combined(
        self, finer: pl.DataFrame, keys: list[pl.Expr], place: Place, home: str, parts: dict[str, Part]
    ) -> pl.DataFrame:
        """A place's parts put together from those of finer cells."""
        aggregates = [getattr(pl.col(name), COMBINE[part.how])() for name, part in parts.items()]
        return self._grouped(finer.lazy(), keys, aggregates, place, home).collect(optimizations=pl.QueryOptFlags.none())

    def _grouped(
        self, rows: pl.LazyFrame, keys: list[str] | list[pl.Expr], aggregates: list[pl.Expr], place: Place, home: str
    ) -> pl.LazyFrame:
        cells = rows.group_by(keys).agg(aggregates) if keys else rows.select(aggregates)
        gets_more = place.unbroken or len(self.wanted[place]) > 1
        at_once = [] if gets_more else self.at_once(place, home)
        return cells.with_columns(at_once) if at_once else cells

    def exploded(self, rows: pl.LazyFrame, axis: Grouping, unit: Grain, later: pl.LazyFrame) -> pl.LazyFrame:
        """Each row in its own period and in all later ones up to the end of the enclosing one."""
        key = key_of(axis)
        fiscal = self.schema.fiscal_month
        whole = enclosing(pl.col(key), axis.period, unit, fiscal).alias("__whole")
        later = later.with_columns(enclosing(pl.col("__later"), axis.period, unit, fiscal).alias("__whole"))
        rows = rows.with_columns(whole).join(later, on="__whole", how="inner").filter(pl.col("__later") >= pl.col(key))
        return rows.with_columns(pl.col("__later").alias(key))

    def _add_home(self, place: Place, home: str, frame: pl.DataFrame) -> None:
        _refuse(frame.height)
        cells = self.cells.setdefault(place, Cells(pl.DataFrame(), [key_of(group) for group in place.groups]))
        keys = [key_of(group) for group in self.reached(home, place)]
        if home in cells.homes:
            old = cells.homes[home][1]
            frame = beside(old, frame.drop([n for n in frame.columns if n in old.columns and n not in keys]), keys)
        cells.homes[home] = (keys, frame)

    def _assemble(self, place: Place) -> None:
        """Put the tables' cells side by side on the dimensions they share."""
        cells = self.cells[place]
        full = [frame for keys, frame in cells.homes.values() if keys == cells.keys]
        partial = [(home, keys, frame) for home, (keys, frame) in cells.homes.items() if keys != cells.keys]
        if not cells.keys:
            cells.frame = pl.concat([frame for _, frame in cells.homes.values()], how="horizontal")
            return
        kinds = {key: next(frame.schema[key] for frame in full) for key in cells.keys}
        together = full[0]
        for other in full[1:]:
            other = other.with_columns(pl.col(key).cast(kind) for key, kind in kinds.items())
            together = together.join(other, on=cells.keys, how="full", coalesce=True, nulls_equal=True)
        for home, keys, frame in partial:
            self._say_beyond(home, place, keys)
            if self.model.definition.beyond == "repeat" and keys:
                together = together.join(frame, on=keys, how="left", nulls_equal=True)
            elif self.model.definition.beyond == "repeat":
                together = together.join(frame, how="cross")
            else:
                empty = [
                    pl.lit(None, dtype=frame.schema[name]).alias(name) for name in frame.columns if name not in keys
                ]
                together = together.with_columns(empty)
        cells.frame = self._unbroken(together, place) if place.unbroken else together

    def _unbroken(self, frame: pl.DataFrame, place: Place) -> pl.DataFrame:
        """The cells with one for each period of the time axis, from a group's first to the last of all."""
        axis = self.axis(place)
        dated = frame[key_of(axis)].drop_nulls() if axis else pl.Series()
        if axis is None or not len(dated):
            return frame
        first_period, last_period = cast(dt.date, dated.min()), cast(dt.date, dated.max())
        periods = periods_between(first_period, last_period, axis.period)
        if not periods:
            return frame
        key, keys = key_of(axis), [key_of(group) for group in place.groups]
        others = [name for name in keys if name != key]
        every = pl.DataFrame({key: pl.Series(periods, dtype=frame.schema[key])})
        first = pl.col(key).min().alias("__first")
        grid = (frame.group_by(others).agg(first) if others else frame.select(first)).join(every, how="cross")
        grid = grid.filter(pl.col(key) >= pl.col("__first")).select(keys)
        return frame.join(grid, on=keys, how="full", coalesce=True, nulls_equal=True)

    def _say_beyond(self, home: str, place: Place, keys: list[str]) -> None:
        if place.groups != self.groups or self.for_totals:
            return
        missing = [g for g in place.groups if key_of(g) not in keys]
        said = " and ".join(grouping_words(group, self.schema) for group in missing)
        how = (
            "is repeated in each of its groups"
            if self.model.definition.beyond == "repeat"
            else "stays empty in its groups"
        )
        self.say(f"{self.model.table_name(home)} cannot be told apart by {said}, so what is measured there {how}.")

    # Filters.

    def _follows(self, filter_: Filter, home: str) -> bool:
        """Whether a filter's fields reach a table; if not, that is said."""
        reaches = all(self.model.reaches(home, name, grain) for name, grain in filter_.needs())
        if not reaches:
            self.say(
                f"{self.model.table_name(home)} is not narrowed by “{filter_.words(self.schema)}”: it has no such"
                " field."
            )
        return reaches

    def say(self, note: str) -> None:
        """Add a note for the reader, once."""
        if note not in self.notes:
            self.notes.append(note)

    def filters_at(self, place: Place) -> list[Filter]:
        """The filters that hold at a place: where it looks at other periods, what is left of those on the date."""
        filters = list(self.filters)
        if place.without:
            filters = [each for f in filters if (each := f.without(place.without))]
        if place.periods:
            dates = self.model.same_dates(place.periods.field)
            filters = [each for f in filters if (each := f.in_other_periods(dates))]
        return filters

    def _only_kept(self, rows: pl.LazyFrame, keys: list[str]) -> pl.LazyFrame:
        shared = [key for key in keys if self.narrowed and key in self.kept_cells.columns]
        if not shared:
            return rows
        return rows.join(self.kept_cells.lazy().select(shared).unique(), on=shared, how="semi", nulls_equal=True)

    def _kept_groups(self, home: str, place: Place) -> list[Grouping]:
        """The chart's dimensions by which rows of cells that were dropped are told;
        not the time axis where it is replaced."""
        if not self.narrowed or place.whole:
            return []
        dates = self.model.same_dates(place.periods.field) if place.periods else set()
        return [
            group
            for group in self.groups
            if self.model.reaches(home, group.field, group.grain or "")
            and not (group.is_time_axis and group.field in dates)
        ]

    def place_of(self, per: Per, place: Place) -> Place:
        """Where a value at a grain of its own stands, as seen from a place."""
        return replace(
            place,
            groups=self._groups_of(per, place),
            outer=place.shown,
            whole=place.whole or (self.narrowed and not (per.shown and not per.less)),
            without=place.without | per.without,
        )

    def _groups_of(self, per: Per, place: Place) -> tuple[Grouping, ...]:
        own = tuple(self._own_group(name, grain) for name, grain in per.dimensions)
        if not per.shown:
            return independent(own)
        if per.less:
            gone = {(name, grain) for name, grain in per.dimensions}
            return independent(
                group
                for group in place.shown
                if group.grain not in per.periods and not {(group.field, ""), (group.field, group.grain)} & gone
            )
        return independent((*(place.groups if per.inside else place.shown), *own))

    def _own_group(self, name: str, grain: str) -> Grouping:
        """A field as a formula groups by it: dates by day, date-times by the moment unless it says by which period."""
        kind = self.schema[name].kind
        usual = {Kind.DATE: Grain.DAY, Kind.DATETIME: Grain.MOMENT}.get(kind)
        return Grouping(field=name, grain=Grain(grain) if grain else usual)


def _refuse(groups: int) -> None:
    if groups > MOST_CELLS:
        raise DefinitionProblem(
            f"This question has about {groups:,} groups; at most {MOST_CELLS:,} are worked out.",
            hint="Take a dimension out, choose a coarser grain or filter first.",
        )


def _fineness(place: Place) -> tuple[int, int]:
    """How fine a place's cells are, roughly: its dimensions, and the grains of its dates."""
    grains = list(Grain)
    return len(place.groups), sum(grains.index(group.grain) for group in place.groups if group.grain)
