"""Reading what places want of each table: as few passes as possible, filtered, grouped, put side by side."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import Any

import polars as pl

from veduta.core.errors import DefinitionProblem
from veduta.core.formula.check import Checked, Per
from veduta.core.model.model import Model
from veduta.core.query.filters import (
    Context,
    DatesFilter,
    Filter,
    ListFilter,
    PointsFilter,
    RelativeFilter,
    grouping_words,
)
from veduta.core.query.grains import (
    NESTED,
    Grain,
    Grouping,
    enclosing,
    group_expression,
    period_start,
)
from veduta.core.query.places import COMBINE, Cells, Part, Place, key_of

MOST_CELLS = 3_000_000


class Reader:
    """Reads parts for places under some filters. `groups` are the chart's dimensions; with `kept`, the cells that remain of
    them, it reads for totals: values of fewer dimensions over those cells, from what `finer` has read where that does."""

    def __init__(
        self, model: Model, filters: tuple[Filter, ...], context: Context, groups: tuple[Grouping, ...] = (),
        kept: pl.DataFrame | None = None, finer: Reader | None = None, narrowed: bool = False,
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

    def want(self, place: Place, home: str) -> None:
        """A place's cells are wanted even if nothing is worked out in them."""
        self.wanted.setdefault(place, {}).setdefault(home, {})

    def axis(self, place: Place) -> Grouping | None:
        """The time axis of a place, if it has one."""
        return next((group for group in place.groups if group.is_time_axis), None)

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
        self.context.check_wanted()
        for place, home, _ in readings:
            self._refuse_too_many(place, home)
        lazily = [self._lazy(place, home, parts) for place, home, parts in readings]
        frames = pl.collect_all(lazily) if len(lazily) > 1 else [each.collect() for each in lazily]
        for (place, home, _), frame in zip(readings, frames, strict=True):
            self._add_home(place, home, frame)
        for place, home, parts in derived:
            self._put_together(place, home, parts)
        for place in self.wanted:
            self._assemble(place)
        self.wanted = {}

    def _refuse_too_many(self, place: Place, home: str) -> None:
        """Refuse a question with far too many groups before memory is taken for them: where they could be too many by
        their values, they are counted roughly first."""
        reached = [group for group in self._reached(home, place) if not group.grain]
        most = 1
        for group in reached:
            most *= max(1, self.model.facts(group.field).distinct)
        if min(most, self.model.tables[home].rows) <= MOST_CELLS or not reached:
            return
        keys = [key_of(group) for group in reached]
        rows = self.rows(home, replace(place, upto=None), set(), reached).select(pl.struct(keys).hash().approx_n_unique())
        _refuse(rows.collect().item())

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
        inner = type(self)(self.model, self.filters, self.context, self.groups)
        at = replace(place, groups=self._groups_of(node.per, place), upto=None, outer=place.shown)
        inner.gather([(node.arguments[0], at)])
        name = inner.column(node.arguments[0], at)
        cells, keys = inner.cells[at].frame, [key_of(group) for group in at.groups]
        if not keys:
            return rows.with_columns(pl.lit(cells[name][0], dtype=cells[name].dtype).alias(attached_name(node)))
        own = [f"__{key}" for key in keys]
        rows = rows.with_columns(group_expression(g, self.schema).alias(k) for g, k in zip(at.groups, own, strict=True))
        wanted = cells.lazy().select(*keys, pl.col(name).alias(attached_name(node)))
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
        _refuse(frame.height)
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

    def _groups_of(self, per: Per, place: Place) -> tuple[Grouping, ...]:
        own = tuple(Grouping(field=name, grain=Grain.DAY if self.schema[name].kind.is_date else None) for name in per.fields)
        if not per.shown:
            return own
        if per.less:
            return tuple(g for g in place.shown if g.field not in per.fields and g.grain not in per.periods)
        return tuple(dict.fromkeys((*place.shown, *own)))


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


def attached_name(node: Checked) -> str:
    return f"__at_{abs(hash(node))}"


def _combined(frame: pl.DataFrame, keys: list[pl.Expr], parts: dict[str, Part]) -> pl.DataFrame:
    aggregates = [getattr(pl.col(name), COMBINE[part.how])() for name, part in parts.items()]
    if keys:
        return frame.lazy().group_by(keys).agg(aggregates).collect()
    return frame.select(aggregates)
