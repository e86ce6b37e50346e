"""A model at work: its fields, and the rows of each of its tables with every field that reaches them."""

from __future__ import annotations

import dataclasses
import datetime as dt
from collections.abc import Collection, Iterable, Iterator, Mapping
from copy import copy
from dataclasses import dataclass
from typing import Any

import polars as pl

from veduta.core.calendar import (
    Grain,
    Grouping,
    choose_grain,
    find_period_end,
    find_period_start,
    get_written_grain,
    make_grouping,
    start_expression,
)
from veduta.core.data.fields import Aggregate, DataField, DataType, FieldRole, Schema
from veduta.core.errors import DefinitionProblem, VedutaError
from veduta.core.formula.check import TypedExpression
from veduta.core.formula.compile import compile_formula
from veduta.core.formula.functions import Level, Times
from veduta.core.formula.measures import Parameters, check_measure, list_formula_fields
from veduta.core.formula.problems import FormulaProblem, Span
from veduta.core.model.definition import JoinKey, ModelDefinition, ModelJoin
from veduta.core.model.parameters import get_default_values, set_to
from veduta.core.model.reach import NESTS, Reach, make_field_id, reach, split_table
from veduta.core.model.row_level_security import EVERYBODY, RowLevelSecurity, SecurityContext
from veduta.core.model.rows import ModelRows, align_to_grain
from veduta.core.model.tables import ColumnFacts, DatasetTable, compute_facts
from veduta.core.value_classes import choose_class_width

FORMULA = "formula"


MOST_FACTS = 1_000
MOST_APART = 30
"""Values of a measure up to which each is a group of its own; more are put in classes."""


@dataclass
class _Cache:
    """What is worked out once for a model's tables, whatever the parameters and rules."""

    reaches: dict[str, Reach] = dataclasses.field(default_factory=dict)
    unique: dict[Any, bool] = dataclasses.field(default_factory=dict)
    facts: dict[Any, ColumnFacts] = dataclasses.field(default_factory=dict)
    same_dates: dict[str, set[str]] = dataclasses.field(default_factory=dict)
    latest: dict[Any, dict[str, dt.date]] = dataclasses.field(default_factory=dict)
    days: dict[Any, pl.DataFrame] = dataclasses.field(default_factory=dict)
    homes: dict[frozenset[str], str] = dataclasses.field(default_factory=dict)


class Model:
    """Tables joined as a definition says.

    `tables` are the rows of each by the table's id, "" the first, with its fields.

    `key` stands for all it is made from, for caches; `prepared` is for questions to keep what they found out about it.
    It is itself a `Table`: its first table with all fields that reach it.
    """

    def __init__(
        self,
        tables: dict[str, tuple[DatasetTable, Iterable[DataField]]],
        definition: ModelDefinition | None = None,
        gone: dict[str, str] | None = None,
        name: str = "",
        key: Any = None,
    ) -> None:
        self.definition = definition or ModelDefinition()
        self.tables = {table: rows for table, (rows, _) in tables.items()}
        self.key = key
        names = {table.id: table.name for table in self.definition.tables} | ({"": name} if name else {})
        fields = [
            (
                field.model_copy(
                    update={
                        "id": make_field_id(table, field.id),
                        "sort_by": field.sort_by and make_field_id(table, field.sort_by),
                    }
                )
                if table
                else field
            )
            for table, (_, own) in tables.items()
            for field in own
        ]
        self.schema = Schema(fields, gone, names, self.definition.fiscal_month)
        self.parameters: Parameters = get_default_values(self.definition.parameters)
        self.reader = EVERYBODY
        self.whole: Model = self
        self.seen: tuple[Any, ...] = ()
        self.broken: dict[str, str] = {}
        self._cache = _Cache()
        self.prepared: dict[Any, Any] = {}
        self._add_formulas()

    @classmethod
    def from_table(cls, table: DatasetTable, schema: Schema) -> Model:
        """The model of a single table."""
        return cls({"": (table, schema)}, gone=schema.gone)

    @property
    def ruling(self) -> RowLevelSecurity:
        return RowLevelSecurity(self)

    def apply_reader(self, parameters: dict[str, Any], reader: SecurityContext = EVERYBODY) -> Model:
        """The same model with some parameters set, for somebody.

        None is no limit, or the default of a parameter that needs a value. Raises DefinitionProblem."""
        model = copy(self)
        by_id = {parameter.id: parameter for parameter in self.definition.parameters}
        values = {
            name: set_to(by_id[name], value)
            for name, value in parameters.items()
            if name in by_id and not (value is None and by_id[name].required)
        }
        model.parameters = {**self.parameters, **values, **dict(reader.person)}
        model.reader = reader
        return model

    def replace_tables(self, tables: Mapping[str, Model]) -> Model:
        """The same model with the rows of some tables as other models, bound by their own rules, let them be seen.

        What reaches what stays as it is for all rows."""
        model = copy(self)
        model.tables = dict(self.tables)
        for table, seen in tables.items():
            model.tables[table] = seen
        model.seen = tuple(seen.make_cache_key() for seen in tables.values())
        return model

    def add_field(self, field: DataField) -> Model:
        """The same model with one more field, such as a formula that is being tried out."""
        model = copy(self)
        model.prepared = {}
        model.schema = Schema([*self.schema, field], self.schema.gone, self.schema.tables, self.schema.fiscal_month)
        return model

    def make_cache_key(self) -> tuple[Any, ...]:
        """All that answers of this model depend on besides the question and today."""
        return (self.key, tuple(sorted(self.parameters.items(), key=lambda each: each[0])), self.reader, self.seen)

    def _add_formulas(self) -> None:
        waiting = {formula.id: formula for formula in self.definition.formulas}

        def add(formula_id: str) -> None:
            formula = waiting.pop(formula_id)
            for other in list_formula_fields(formula.text):
                if split_table(other) == FORMULA and (name := other.partition(".")[2]) in waiting:
                    add(name)
            kind, level = DataType.DECIMAL, "aggregate"
            try:
                checked = check_measure(formula.text, self.schema, self.parameters)
                kind, level = checked.kind or DataType.TEXT, "row" if checked.level is Level.ROW else "aggregate"
            except VedutaError as problem:
                self.broken[formula.id] = str(problem)
            is_measure = level == "aggregate" or kind.is_number
            aggregate = Aggregate.OWN if level == "aggregate" else Aggregate.SUM if is_measure else Aggregate.COUNT
            made = DataField(
                id=f"{FORMULA}.{formula.id}",
                source=formula.name,
                name=formula.name,
                kind=kind,
                role=FieldRole.MEASURE if is_measure else FieldRole.DIMENSION,
                aggregate=aggregate,
                description=formula.description,
                format=formula.format,
                folder=formula.folder,
                total=formula.total,
                formula=formula.text,
                level=level,
            )
            self.schema = Schema([*self.schema, made], self.schema.gone, self.schema.tables, self.schema.fiscal_month)

        while waiting:
            add(next(iter(waiting)))

    # What reaches what.

    def reach(self, home: str) -> Reach:
        if home not in self._cache.reaches:
            fields: dict[str, list[str]] = {table: [] for table in self.tables}
            for field in self.schema:
                if not field.formula:
                    fields[field.table].append(field.id)
            joins = tuple(join for join in self.definition.joins if self._check_join(join, fields))
            self._cache.reaches[home] = reach(home, fields, joins, self._is_unique)
        return self._cache.reaches[home]

    def _check_join(self, join: ModelJoin, fields: dict[str, list[str]]) -> bool:
        return all(
            make_field_id(join.left, key.left) in fields.get(join.left, ())
            and make_field_id(join.right, key.right) in fields.get(join.right, ())
            for key in join.keys
        )

    def _is_unique(self, table: str, keys: tuple[JoinKey, ...], left: bool) -> bool:
        columns = tuple(key.left if left else key.right for key in keys)
        grains = tuple(key.grain for key in keys)
        asked = (table, columns, grains)
        if asked not in self._cache.unique:
            rows = self.whole.tables[table]
            if len(columns) == 1 and not grains[0]:
                facts = rows.get_facts(columns[0])
                self._cache.unique[asked] = facts.distinct == rows.rows - facts.empties
            else:
                named = [
                    align_to_grain(pl.col(name), grain, self.schema.fiscal_month).alias(f"k{i}")
                    for i, (name, grain) in enumerate(zip(columns, grains, strict=True))
                ]
                counts = (
                    rows.scan(list(columns))
                    .select(named)
                    .drop_nulls()
                    .select(n=pl.len(), d=pl.struct(pl.all()).n_unique())
                )
                n, d = counts.collect().row(0)
                self._cache.unique[asked] = n == d
        return self._cache.unique[asked]

    def reaches(self, home: str, name: str, grain: str = "") -> bool:
        """Whether the rows of a table have a field, at a period if it is a date ("" is the very day)."""
        field = self.schema[name]
        if field.formula:
            return all(self.reaches(home, other) for other in self.get_row_formula(name).fields)
        source = self.reach(home).sources.get(name)
        if source is None or not source.grain:
            return source is not None
        return grain in NESTS[source.grain] or (grain == "month_of_year" and "month" in NESTS[source.grain])

    def find_known_grain(self, home: str, name: str) -> str:
        """The period by which a table knows a date field; "" if by its days."""
        source = self.reach(home).sources.get(name)
        return source.grain if source else ""

    def find_home(self, names: Iterable[str], node: TypedExpression | None = None) -> str:
        """The table in whose rows all these fields stand. Raises FormulaProblem if there is none."""
        names = frozenset(self.list_plain_fields(names))
        if names not in self._cache.homes:
            self._cache.homes[names] = self._find_home(names, node)
        return self._cache.homes[names]

    def _find_home(self, names: frozenset[str], node: TypedExpression | None) -> str:
        candidates = list(dict.fromkeys([split_table(name) for name in sorted(names)])) or [""]
        if "" in candidates:
            candidates = ["", *(table for table in candidates if table)]
        for home in [*candidates, *(table for table in self.tables if table not in candidates)]:
            if all(name in self.reach(home).sources for name in names):
                return home
        said = " and ".join(f"“{self.get_table_name(table)}”" for table in candidates)
        raise FormulaProblem(
            f"No row has fields of {said} at once.",
            at=node.at if node else Span(),
            hint="Make an aggregate of each, such as sum(…) - sum(…), or join the tables.",
        )

    def find_counted_rows(self, beside: Iterable[str], names: Iterable[str]) -> str:
        """The table whose rows a count of rows counts.

        That of the fields `beside` it, else the first, if it has all the fields of the count's condition, else one that
        has these. Raises FormulaProblem if there is none."""
        try:
            usual = [self.find_home(set(beside)), ""] if beside else [""]
        except FormulaProblem:
            usual = [""]
        wanted = self.list_plain_fields(names)
        for home in usual:
            if all(name in self.reach(home).sources for name in wanted):
                return home
        return self.find_home(set(names))

    def list_same_dates(self, name: str) -> set[str]:
        """The date fields that joins equate with one, itself included."""
        if name not in self._cache.same_dates:
            pairs = [
                {make_field_id(join.left, key.left), make_field_id(join.right, key.right)}
                for join in self.definition.joins
                for key in join.keys
            ]
            same, before = {name}, 0
            while len(same) > before:
                before = len(same)
                same = same.union(*(pair for pair in pairs if pair & same))
            dates = {each for each in same if each in self.schema and self.schema[each].kind.is_date}
            self._cache.same_dates[name] = dates | {name}
        return self._cache.same_dates[name]

    @property
    def offered(self) -> list[DataField]:
        """The visible fields in the order of lists.

        The first table's, then formulas, then each joined table's without the key that repeats the one it is joined by.
        """
        twins = {name for name in map(self._find_twin, self.definition.joins) if name}

        def rank(field: DataField) -> int:
            return 0 if not field.table else 1 if field.table == FORMULA else 2

        return sorted((field for field in self.schema.visible if field.id not in twins), key=rank)

    def _find_twin(self, join: ModelJoin) -> str:
        """The key of a joined table that its neighbour has as well.

        "" where others need it too, because they are joined to the same table."""
        joined_by = [other for other in self.definition.joins if other.right == join.right]
        (key, *more) = join.keys
        left = self.schema.get(make_field_id(join.left, key.left))
        if len(joined_by) > 1 or more or key.grain or left is None or left.hidden:
            return ""
        return make_field_id(join.right, key.right)

    def make_heading(self, field: DataField) -> str:
        """What the table of a field is called above it in lists; "" for the first table."""
        return "Formulas" if field.table == FORMULA else self.get_table_name(field.table) if field.table else ""

    @property
    def times(self) -> Times:
        return Times(fiscal_month=self.schema.fiscal_month)

    def get_table_name(self, table: str) -> str:
        return self.schema.tables.get(table) or "the first table"

    def list_plain_fields(self, names: Iterable[str]) -> set[str]:
        plain: set[str] = set()
        for name in names:
            field = self.schema[name]
            plain |= self.list_plain_fields(self.get_row_formula(name).fields) if field.formula else {name}
        return plain

    def get_row_formula(self, name: str) -> TypedExpression:
        field = self.schema[name]
        checked = check_measure(field.formula, self.schema, self.parameters)
        if checked.level is not Level.ROW:
            raise DefinitionProblem(
                f"“{field.name}” is a value of many rows, so it cannot group or filter rows.",
                where=name,
                hint="Show it as a measure.",
            )
        return checked

    # Rows.

    @property
    def rows(self) -> int:
        return self.count_rows("")

    def count_rows(self, home: str) -> int:
        """How many rows of a table may be seen."""
        if not self.reader.rules or not self.ruling.list_conditions(home):
            return self.tables[home].rows
        rows: int = self.scan([], home, ordered=False).select(pl.len()).collect().item()
        return rows

    def get_facts(self, name: str) -> ColumnFacts:
        """What is known of a field's values, as far as they may be seen."""
        field = self.schema[name]
        if field.level == "aggregate":
            return ColumnFacts(empties=1)
        home = self.find_home({name}) if field.formula else field.table
        if not field.formula and not self.ruling.list_conditions(home):
            return self.tables[field.table].get_facts(name.partition(".")[2] if field.table else name)
        # Those of formulas depend on what parameters are set to, too.
        key = (name, self._list_parameter_values() if field.formula else (), self.reader, self.seen)
        if key not in self._cache.facts:
            if len(self._cache.facts) > MOST_FACTS:
                self._cache.facts.clear()
            self._cache.facts[key] = compute_facts(self.scan([name], home, ordered=False).collect()[name])
        return self._cache.facts[key]

    def find_present_values(self, name: str, values: Collection[Any]) -> set[Any]:
        """Those of some values of a field that stand in rows which may be seen."""
        if not values:
            return set()
        rows = self.scan([name], self.find_home({name}), ordered=False).select(pl.col(name).unique())
        return set(values) & set(rows.collect()[name])

    def _list_parameter_values(self) -> tuple[tuple[str, Any], ...]:
        """What parameters are set to, as a key."""
        return tuple(sorted(self.parameters.items(), key=lambda each: each[0]))

    def find_latest_dates(self) -> dict[str, dt.date]:
        """The latest day of every date field that has one.

        Where its dates stand for periods, it is the last day of the latest period."""
        key = (self._list_parameter_values(), self.reader, self.seen)
        if key not in self._cache.latest:
            if len(self._cache.latest) > MOST_FACTS:
                self._cache.latest.clear()
            self._cache.latest[key] = dict(self._iterate_latest_dates())
        return self._cache.latest[key]

    def _iterate_latest_dates(self) -> Iterator[tuple[str, dt.date]]:
        for field in self.schema:
            if field.kind.is_date and (highest := self.get_facts(field.id).highest):
                day = dt.date.fromisoformat(str(highest)[:10])
                rhythm = self.find_rhythm(field.id)
                yield field.id, find_period_end(find_period_start(day, rhythm), rhythm) if rhythm else day

    def count_days_in_periods(self, name: str, grain: Grain) -> pl.DataFrame:
        """The `first` and the `last` day with data in each period of a date, by its `start`, in order."""
        field = self.schema[name]
        key = (name, grain, self._list_parameter_values() if field.formula else (), self.reader, self.seen)
        if key not in self._cache.days:
            if len(self._cache.days) > MOST_FACTS:
                self._cache.days.clear()
            rows = self.scan([name], self.find_home({name}) if field.formula else field.table)
            day = pl.col(name).dt.date() if field.kind is DataType.DATETIME else pl.col(name)
            start = start_expression(day, grain, self.schema.fiscal_month).alias("start")
            found = rows.group_by(start).agg(day.min().alias("first"), day.max().alias("last"))
            self._cache.days[key] = found.drop_nulls().sort("start").collect()
        return self._cache.days[key]

    def find_rhythm(self, name: str) -> Grain | None:
        """The periods that all dates of a field stand for; None where they are days or moments."""
        if written := get_written_grain(self.schema[name]):
            return written
        rhythm = self.get_facts(name).rhythm
        return Grain(rhythm) if rhythm else None

    def make_grouping(self, name: str) -> Grouping:
        """A field as a dimension.

        Dates get the grain that suits their span and rhythm, measures of many values get classes."""
        field, facts = self.schema[name], self.get_facts(name)
        if field.role is FieldRole.MEASURE and field.kind.is_number and facts.distinct > MOST_APART:
            return self.make_classes(name)
        if not field.kind.is_date or facts.lowest is None:
            return make_grouping(field)
        first, last = (dt.date.fromisoformat(str(day)[:10]) for day in (facts.lowest, facts.highest))
        return make_grouping(field, choose_grain((last - first).days, self.find_rhythm(name), field.kind))

    def make_classes(self, name: str, number: int = 20) -> Grouping:
        """A field of numbers in about so many classes."""
        facts, whole = self.get_facts(name), self.schema[name].kind is DataType.WHOLE
        width = choose_class_width(facts.lowest or 0, facts.highest or 0, number, whole)
        return Grouping(field=name, width=width)

    def scan(self, names: list[str], home: str = "", ordered: bool = True) -> pl.LazyFrame:
        """The rows of a table with these fields as columns, lazily, in the table's order unless that is of no matter.

        Fields from joins and row formulas are included, and the table's rules applied. Raises DefinitionProblem for a
        field that does not reach the table."""
        rules = self.ruling.list_conditions(home)
        wanted = list(names) + [name for checked in rules for name in checked.fields]
        rows = ModelRows(self, home, ordered).add_fields(wanted)
        if rules:
            rows = rows.filter([compile_formula(checked, self.times).expression for checked in rules])
        return rows.select(list(dict.fromkeys(names))) if names else rows
