"""Reading what places want of each table: as few passes as possible, filtered, grouped, put side by side."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace

import polars as pl

from veduta.core.calendar import Grain, Grouping, derive_coarser_period, follows
from veduta.core.errors import DefinitionProblem
from veduta.core.query.engine.assembling import assemble
from veduta.core.query.engine.levels import (
    CellLevel,
    Cells,
    PartialAggregate,
    Prepared,
    TableCells,
    get_prepared,
    make_group_key,
)
from veduta.core.query.engine.rows import FilteredRows, Scope
from veduta.core.query.engine.running import compute_running_parts, join_columns
from veduta.core.query.filters import label_grouping

MOST_CELLS = 3_000_000


@dataclass(frozen=True)
class Plan:
    """How what is wanted is come by: what is read of tables, what is put together from that, and what runs to date."""

    readings: list[ScanRequest]
    derived: list[ScanRequest]
    running: list[ScanRequest]


@dataclass
class ScanRequest:
    """What is wanted of a table (by its id) in a place's cells: parts, by the names of their columns."""

    place: CellLevel
    home: str
    parts: dict[str, PartialAggregate]

    def want(self, parts: Iterable[PartialAggregate]) -> None:
        self.parts.update({part.name: part for part in parts})

    @property
    def combines(self) -> bool:
        """Whether it can be put together from finer cells."""
        return all(part.combines for part in self.parts.values())

    @property
    def fineness(self) -> tuple[int, int]:
        """How fine the cells are, roughly: their dimensions, and the grains of their dates."""
        grains, groups = list(Grain), self.place.groups
        return len(groups), sum(grains.index(group.grain) for group in groups if group.grain)


class ScanPlanner(FilteredRows):
    """Reads parts for places, or puts them together from what `finer` has read where that does."""

    def __init__(self, scope: Scope, finer: ScanPlanner | None = None) -> None:
        super().__init__(scope)
        self.finer = finer
        self.cells: dict[CellLevel, Cells] = {}
        self._wanted: dict[tuple[CellLevel, str], ScanRequest] = {}
        self._plan: Plan | None = None
        self.prepared: Prepared = finer.prepared if finer else get_prepared(scope.model, scope.context)
        if finer:
            self.notes = finer.notes

    def want(self, place: CellLevel, home: str, parts: Iterable[PartialAggregate] = ()) -> None:
        """Parts of a table's rows are wanted in a place's cells, or its cells even if nothing is worked out in them."""
        self._wanted.setdefault((place, home), ScanRequest(place, home, {})).want(parts)

    def plan(self) -> list[ScanRequest]:
        """Settle how what the places want of each table is come by; returns what has to be read.

        A place that can be put together from a finer one is not read: the finer one reads what it needs too. What runs
        to date is put together from the cells it runs over."""
        self._complete()
        running = [reading for reading in self._wanted.values() if reading.place.upto]
        for reading in running:
            plain = [part for part in reading.parts.values() if part.combines]
            self.want(reading.place.in_its_cells, reading.home, plain)
        self._complete()
        self._plan = Plan(*self._split_requests(), running)
        return self._plan.readings

    def read(self, frames: list[pl.DataFrame] | None = None) -> None:
        """Read the whole plan in one go and put the rest together from it.

        `frames` are what was read for it already."""
        readings = self._plan.readings if self._plan else self.plan()
        assert self._plan is not None, "it was planned just now"
        plan, self._plan = self._plan, None
        for reading, frame in zip(readings, self._read_rows(readings) if frames is None else frames, strict=True):
            self._add(reading, frame)
        for reading in plan.derived:
            self._put_together(reading)
        for reading in plan.running:
            self._add(reading, compute_running_parts(self, reading))
        for place in self._list_levels():
            assemble(self, place)
        self._wanted = {}

    def _list_levels(self) -> list[CellLevel]:
        return list(dict.fromkeys(place for place, _ in self._wanted))

    def _list_homes(self, place: CellLevel) -> list[str]:
        """The tables of which something is wanted in a place's cells."""
        return [home for other, home in self._wanted if other == place]

    def _complete(self) -> None:
        """A place whose dimensions reach none of its tables gets one they do; each table's rows are counted."""
        for place in self._list_levels():
            if place.groups and not any(self._has_all(home, place) for home in self._list_homes(place)):
                self.want(place, self._find_covering_table(place))
        for reading in self._wanted.values():
            reading.want([self.prepared.get_row_count_part(reading.home)])

    def _has_all(self, home: str, place: CellLevel) -> bool:
        """Whether a table's rows have all dimensions of a place."""
        return len(self.list_reached(home, place)) == len(place.groups)

    def _find_covering_table(self, place: CellLevel) -> str:
        own = [self.schema[group.field].table for group in place.groups if not self.schema[group.field].formula]
        for home in dict.fromkeys([*own, "", *self.model.tables]):
            if self._has_all(home, place):
                return home
        names = " and ".join(label_grouping(group, self.schema) for group in place.groups)
        raise DefinitionProblem(
            f"No table has all of {names}.", hint="Take one of the dimensions out, or join their tables in the model."
        )

    def _split_requests(self) -> tuple[list[ScanRequest], list[ScanRequest]]:
        """What is read, the finest levels first, and what is put together from that.

        A level whose parts a finer scan has already is put together at once."""
        asked = [reading for reading in self._wanted.values() if not reading.place.upto]
        asked.sort(key=lambda reading: tuple(-n for n in reading.fineness))
        readings: list[ScanRequest] = []
        derived: list[ScanRequest] = []
        for reading in asked:
            if self.finer and self._put_together(reading):
                continue
            host = next((other for other in readings if self._can_host(other, reading)), None)
            if host is None:
                readings.append(replace(reading, parts=dict(reading.parts)))
            else:
                host.want(reading.parts.values())
                derived.append(reading)
        return readings, derived

    def _can_host(self, finer: ScanRequest, reading: ScanRequest) -> bool:
        """Whether a reading can be put together from another one that is going to be read."""
        if finer.home != reading.home or not reading.combines or not finer.place.has_same_rows(reading.place):
            return False
        keys = [make_group_key(group) for group in self.list_reached(finer.home, finer.place)]
        return self._derive_coarser(self.list_reached(reading.home, reading.place), finer.place, keys) is not None

    def _read_rows(self, readings: list[ScanRequest]) -> list[pl.DataFrame]:
        self.context.check_wanted()
        for reading in readings:
            self.refuse_too_many(reading)
        lazily = [self.build_lazy_frame(reading) for reading in readings]
        return pl.collect_all(lazily) if len(lazily) > 1 else [each.collect() for each in lazily]

    def refuse_too_many(self, reading: ScanRequest) -> None:
        """Refuse a question with far too many groups before memory is taken for them.

        Where the values allow too many, groups are first counted roughly."""
        home, place = reading.home, reading.place
        reached = [group for group in self.list_reached(home, place) if not group.grain]
        most = 1
        for group in reached:
            most *= max(1, self.model.get_facts(group.field).distinct)
        if min(most, self.model.tables[home].rows) <= MOST_CELLS or not reached:
            return
        keys = [make_group_key(group) for group in reached]
        rows = self.scan_rows(home, place.in_its_cells, set(), reached, ordered=False)
        rows = rows.select(pl.struct(keys).hash().approx_n_unique())
        _refuse(rows.collect().item())

    def list_fields_read(self, reading: ScanRequest) -> set[str]:
        """The fields that a reading needs of its table's rows, but for filters on periods it replaces."""
        groups = self.list_reached(reading.home, reading.place)
        filters = [each for each in self.list_filters(reading.place) if self.follows(each, reading.home)]
        names = {name for filter_ in filters for name in filter_.list_fields()} | {group.field for group in groups}
        return names | self.list_fields(reading.place, reading.parts.values())

    def build_lazy_frame(self, reading: ScanRequest) -> pl.LazyFrame:
        """The cells of a scan: columns of the keys that the table reaches, of its parts, and of values ready with them.

        One row a cell, in no order."""
        return self.add_values(self.aggregate_parts(reading), reading)

    def aggregate_parts(self, reading: ScanRequest) -> pl.LazyFrame:
        """The cells of a scan with the columns of their keys and parts, from the rows, in no order."""
        rows = self.group_parts(reading.place, reading.home, reading.parts.values())
        keys = [make_group_key(group) for group in self.list_reached(reading.home, reading.place)]
        return _group_rows(rows, keys, [part.aggregate.alias(name) for name, part in reading.parts.items()])

    def add_values(self, cells: pl.LazyFrame, reading: ScanRequest) -> pl.LazyFrame:
        """The cells of a scan with columns of the values that need nothing but their parts."""
        gets_more = reading.place.unbroken or len(self._list_homes(reading.place)) > 1
        at_once = [] if gets_more else self.compute_at_once(reading.place, reading.home)
        return cells.with_columns(at_once) if at_once else cells

    @abstractmethod
    def compute_at_once(self, place: CellLevel, home: str) -> list[pl.Expr]:
        """Values of cells that are worked out with the reading of their parts."""

    def _add(self, reading: ScanRequest, frame: pl.DataFrame) -> None:
        """Keep what was read of a table with what its place has of it already."""
        _refuse(frame.height)
        place, home = reading.place, reading.home
        cells = self.cells.setdefault(place, Cells(pl.DataFrame(), [make_group_key(group) for group in place.groups]))
        keys = [make_group_key(group) for group in self.list_reached(home, place)]
        if home in cells.tables:
            old = cells.tables[home].frame
            frame = join_columns(
                old, frame.drop([n for n in frame.columns if n in old.columns and n not in keys]), keys
            )
        cells.tables[home] = TableCells(keys, frame)

    # Putting cells together from finer ones.

    def _put_together(self, reading: ScanRequest) -> bool:
        """Take a reading's parts from finer cells that were read already, if they can be put together."""
        if not reading.combines:
            return False
        reached = self.list_reached(reading.home, reading.place)
        for reader, place, table in self._iterate_finer_cells(reading):
            keys = self._derive_coarser(reached, place, table.keys)
            if keys is None:
                continue
            frame = table.frame
            if reader is self.finer and self.narrowed and not reading.place.whole:
                if not all(
                    make_group_key(group) in table.keys for group in self.list_kept_groups(reading.home, reading.place)
                ):
                    continue
                frame = self._keep_shown_rows(frame.lazy(), table.keys).collect()
            aggregates = [getattr(pl.col(name), part.combined_by)() for name, part in reading.parts.items()]
            combined = self.add_values(_group_rows(frame.lazy(), keys, aggregates), reading)
            self._add(reading, combined.collect(optimizations=pl.QueryOptFlags.none()))
            return True
        return False

    def _iterate_finer_cells(self, reading: ScanRequest) -> Iterator[tuple[ScanPlanner, CellLevel, TableCells]]:
        """Cells that were read of the same rows, with all the parts of a reading."""
        for reader in filter(None, (self.finer, self)):
            for place, cells in reader.cells.items():
                is_itself = reader is self and place == reading.place
                if is_itself or place.upto or not _have_same_rows(reading.place, reader, place):
                    continue
                table = cells.tables.get(reading.home)
                if table and set(reading.parts) <= set(table.frame.columns):
                    yield reader, place, table

    def _keep_shown_rows(self, cells: pl.LazyFrame, keys: list[str]) -> pl.LazyFrame:
        """The cells whose keys, as far as both have them, are among those that are shown; columns and order stay."""
        shared = [key for key in keys if key in self.kept_cells.columns]
        if not shared:
            return cells
        return cells.join(self.kept_cells.lazy().select(shared).unique(), on=shared, how="semi", nulls_equal=True)

    def _derive_coarser(self, groups: Iterable[Grouping], finer: CellLevel, keys: list[str]) -> list[pl.Expr] | None:
        """The groups' values worked out from those of a finer place's keys that are there; None if they cannot be."""
        values = [self._derive_grouping(group, finer, keys) for group in groups]
        known = [value for value in values if value is not None]
        return known if len(known) == len(values) else None

    def derive_groupings(self, groups: Iterable[Grouping], finer: CellLevel) -> dict[Grouping, pl.Expr | None]:
        """The groups' values worked out from those of a finer place's keys, None for each that cannot be."""
        keys = [make_group_key(group) for group in finer.groups]
        return {group: self._derive_grouping(group, finer, keys) for group in groups}

    def _derive_grouping(self, group: Grouping, finer: CellLevel, keys: list[str]) -> pl.Expr | None:
        if make_group_key(group) in keys:
            return pl.col(make_group_key(group))
        other = next((g for g in finer.groups if follows(group, g) and make_group_key(g) in keys), None)
        if other is None:
            return None
        value = derive_coarser_period(group, pl.col(make_group_key(other)), other.period, self.schema.fiscal_month)
        return value.alias(make_group_key(group))


def _group_rows(rows: pl.LazyFrame, keys: list[str] | list[pl.Expr], aggregates: list[pl.Expr]) -> pl.LazyFrame:
    """One row a group: the keys' columns, then a column for each aggregate, in no order; without keys one row."""
    return rows.group_by(keys).agg(aggregates) if keys else rows.select(aggregates)


def _have_same_rows(place: CellLevel, reader: ScanPlanner, other: CellLevel) -> bool:
    """Whether the rows behind a place are those behind one of a reader, but for what was not kept."""
    if (place.periods, place.without) != (other.periods, other.without):
        return False
    return not reader.narrowed or place.whole == other.whole


def _refuse(groups: int) -> None:
    if groups > MOST_CELLS:
        raise DefinitionProblem(
            f"This question has about {groups:,} groups; at most {MOST_CELLS:,} are worked out.",
            hint="Take a dimension out, choose a coarser grain or filter first.",
        )
