"""A model at work: its fields, and the rows of each of its tables with every field that reaches them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Mapping
from copy import copy
from dataclasses import dataclass
from dataclasses import field as attribute
from typing import Any, Protocol

import polars as pl

from veduta.core.data.fields import Aggregate, Field, Kind, Role, Schema
from veduta.core.data.profile import Profile, plain
from veduta.core.errors import Bound, DefinitionProblem, VedutaError
from veduta.core.formula.check import Checked
from veduta.core.formula.compile import compile_formula
from veduta.core.formula.functions import Level, Times
from veduta.core.formula.measures import Parameters, ParameterValue, check_measure, fields_in, parameters_in
from veduta.core.formula.problems import FormulaProblem, Span
from veduta.core.model.definition import Join, Key, ModelDefinition, ParameterField, RowRule
from veduta.core.model.reach import NESTS, Lookup, Source, field_id, reach, table_of
from veduta.core.model.rows import Rows, at_grain

FORMULA = "formula"


@dataclass(frozen=True)
class ColumnFacts:
    """What is known of a stored column without reading it; bounds are None where it has no values.

    `values` holds all its values, without empties, where they are few.
    """

    empties: int = 0
    distinct: int = 0
    lowest: Any = None
    highest: Any = None
    values: tuple[Any, ...] | None = None


def facts_from(profile: Profile) -> ColumnFacts:
    values = tuple(value for value, _ in profile.top) if profile.distinct == len(profile.top) else None
    return ColumnFacts(profile.empties, profile.distinct, profile.lowest, profile.highest, values)


def facts_of(values: pl.Series) -> ColumnFacts:
    """The facts of a column that is read for them."""
    full = values.drop_nulls().unique()
    few = tuple(sorted(full.to_list())) if full.len() <= 50 else None
    low, high = (full.min(), full.max()) if len(full) and full.dtype != pl.String else (None, None)
    return ColumnFacts(values.null_count(), full.len(), plain(low), plain(high), few)


class Table(Protocol):
    """A version of a dataset's rows, loaded column by column."""

    @property
    def rows(self) -> int: ...

    def scan(self, columns: list[str]) -> pl.LazyFrame: ...

    def facts(self, column: str) -> ColumnFacts: ...


@dataclass(frozen=True)
class Reader:
    """Who asks: the rules that bind them, the attributes that these read (`person`), and the names of
    rules for which they lack one, so that no row passes. Where a rule cannot be applied a steward is
    not refused, so that it can be mended."""

    rules: tuple[RowRule, ...] = ()
    person: tuple[tuple[str, ParameterValue], ...] = ()
    lacking: frozenset[str] = frozenset()
    is_steward: bool = False


EVERYBODY = Reader()
MOST_FACTS = 1_000


@dataclass
class _Cache:
    """What is worked out once for a model's tables, whatever the parameters and rules."""

    reaches: dict[str, tuple[dict[str, Source], list[Lookup]]] = attribute(default_factory=dict)
    unique: dict[Any, bool] = attribute(default_factory=dict)
    facts: dict[Any, ColumnFacts] = attribute(default_factory=dict)
    same_dates: dict[str, set[str]] = attribute(default_factory=dict)
    homes: dict[frozenset[str], str] = attribute(default_factory=dict)


class Model:
    """Tables joined as a definition says. `tables` are the rows of each by the
    table's id, "" the first, with its fields.

    `key` stands for all it is made from, for caches; `prepared` is for questions to keep what they found out about it.
    It is itself a `Table`: its first table with all fields that reach it.
    """

    def __init__(
        self,
        tables: dict[str, tuple[Table, Iterable[Field]]],
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
                        "id": field_id(table, field.id),
                        "sort_by": field.sort_by and field_id(table, field.sort_by),
                    }
                )
                if table
                else field
            )
            for table, (_, own) in tables.items()
            for field in own
        ]
        self.schema = Schema(fields, gone, names, self.definition.fiscal_month)
        self.parameters: Parameters = default_values(self.definition.parameters)
        self.reader = EVERYBODY
        self.whole: Model = self
        self.seen: tuple[Any, ...] = ()
        self.broken: dict[str, str] = {}
        self._cache = _Cache()
        self.prepared: dict[Any, Any] = {}
        self._add_formulas()

    @classmethod
    def of_one(cls, table: Table, schema: Schema) -> Model:
        """The model of a single table."""
        return cls({"": (table, schema)}, gone=schema.gone)

    @property
    def rules(self) -> tuple[RowRule, ...]:
        return self.reader.rules

    def given(self, parameters: dict[str, Any], reader: Reader = EVERYBODY) -> Model:
        """The same model with some parameters set (None is no limit, or the usual value of one that needs a value), for
        somebody. Raises DefinitionProblem."""
        model = copy(self)
        by_id = {parameter.id: parameter for parameter in self.definition.parameters}
        values = {
            name: parameter_value(by_id[name], value)
            for name, value in parameters.items()
            if name in by_id and not (value is None and by_id[name].required)
        }
        model.parameters = {**self.parameters, **values, **dict(reader.person)}
        model.reader = reader
        return model

    def seen_through(self, tables: Mapping[str, Model]) -> Model:
        """The same model with the rows of some tables as other models, bound by their own rules, let them be seen. What
        reaches what stays as it is for all rows."""
        model = copy(self)
        model.tables = dict(self.tables)
        for table, seen in tables.items():
            model.tables[table] = seen
        model.seen = tuple(seen.answers_depend_on() for seen in tables.values())
        return model

    def with_field(self, field: Field) -> Model:
        """The same model with one more field, such as a formula that is being tried out."""
        model = copy(self)
        model.prepared = {}
        model.schema = Schema([*self.schema, field], self.schema.gone, self.schema.tables, self.schema.fiscal_month)
        return model

    def answers_depend_on(self) -> tuple[Any, ...]:
        """All that answers of this model depend on besides the question and today."""
        return (self.key, tuple(sorted(self.parameters.items(), key=lambda each: each[0])), self.reader, self.seen)

    def _add_formulas(self) -> None:
        waiting = {formula.id: formula for formula in self.definition.formulas}

        def add(formula_id: str) -> None:
            formula = waiting.pop(formula_id)
            for other in fields_in(formula.text):
                if table_of(other) == FORMULA and (name := other.partition(".")[2]) in waiting:
                    add(name)
            kind, level = Kind.DECIMAL, "aggregate"
            try:
                checked = check_measure(formula.text, self.schema, self.parameters)
                kind, level = checked.kind or Kind.TEXT, "row" if checked.level is Level.ROW else "aggregate"
            except VedutaError as problem:
                self.broken[formula.id] = str(problem)
            is_measure = level == "aggregate" or kind.is_number
            aggregate = Aggregate.OWN if level == "aggregate" else Aggregate.SUM if is_measure else Aggregate.COUNT
            made = Field(
                id=f"{FORMULA}.{formula.id}",
                source=formula.name,
                name=formula.name,
                kind=kind,
                role=Role.MEASURE if is_measure else Role.DIMENSION,
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

    def reach(self, home: str) -> tuple[dict[str, Source], list[Lookup]]:
        if home not in self._cache.reaches:
            fields: dict[str, list[str]] = {table: [] for table in self.tables}
            for field in self.schema:
                if not field.formula:
                    fields[field.table].append(field.id)
            joins = tuple(join for join in self.definition.joins if self._usable(join, fields))
            self._cache.reaches[home] = reach(home, fields, joins, self._is_unique)
        return self._cache.reaches[home]

    def _usable(self, join: Join, fields: dict[str, list[str]]) -> bool:
        return all(
            field_id(join.left, key.left) in fields.get(join.left, ())
            and field_id(join.right, key.right) in fields.get(join.right, ())
            for key in join.keys
        )

    def _is_unique(self, table: str, keys: tuple[Key, ...], left: bool) -> bool:
        columns = tuple(key.left if left else key.right for key in keys)
        grains = tuple(key.grain for key in keys)
        asked = (table, columns, grains)
        if asked not in self._cache.unique:
            rows = self.whole.tables[table]
            if len(columns) == 1 and not grains[0]:
                facts = rows.facts(columns[0])
                self._cache.unique[asked] = facts.distinct == rows.rows - facts.empties
            else:
                named = [
                    at_grain(pl.col(name), grain, self.schema.fiscal_month).alias(f"k{i}")
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
            return all(self.reaches(home, other) for other in self.row_formula(name).fields)
        source = self.reach(home)[0].get(name)
        if source is None or not source.grain:
            return source is not None
        return grain in NESTS[source.grain] or (grain == "month_of_year" and "month" in NESTS[source.grain])

    def known_grain(self, home: str, name: str) -> str:
        """The period by which a table knows a date field; "" if by its days."""
        source = self.reach(home)[0].get(name)
        return source.grain if source else ""

    def home_of(self, names: Iterable[str], node: Checked | None = None) -> str:
        """The table in whose rows all these fields stand. Raises FormulaProblem if there is none."""
        names = frozenset(self._plain_fields(names))
        if names not in self._cache.homes:
            self._cache.homes[names] = self._find_home(names, node)
        return self._cache.homes[names]

    def _find_home(self, names: frozenset[str], node: Checked | None) -> str:
        candidates = list(dict.fromkeys([table_of(name) for name in sorted(names)])) or [""]
        if "" in candidates:
            candidates = ["", *(table for table in candidates if table)]
        for home in [*candidates, *(table for table in self.tables if table not in candidates)]:
            if all(name in self.reach(home)[0] for name in names):
                return home
        said = " and ".join(f"“{self.table_name(table)}”" for table in candidates)
        raise FormulaProblem(
            f"No row has fields of {said} at once.",
            at=node.at if node else Span(),
            hint="Make an aggregate of each, such as sum(…) - sum(…), or join the tables.",
        )

    def rows_counted(self, beside: Iterable[str], names: Iterable[str]) -> str:
        """The table whose rows a count of rows is about: that of the fields `beside` it, else the first, if it has all
        the fields of the count's condition; else one that has these. Raises FormulaProblem if there is none."""
        try:
            usual = [self.home_of(set(beside)), ""] if beside else [""]
        except FormulaProblem:
            usual = [""]
        wanted = self._plain_fields(names)
        for home in usual:
            if all(name in self.reach(home)[0] for name in wanted):
                return home
        return self.home_of(set(names))

    def same_dates(self, name: str) -> set[str]:
        """The date fields that joins equate with one, itself included."""
        if name not in self._cache.same_dates:
            pairs = [
                {field_id(join.left, key.left), field_id(join.right, key.right)}
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
    def times(self) -> Times:
        return Times(fiscal_month=self.schema.fiscal_month)

    def table_name(self, table: str) -> str:
        return self.schema.tables.get(table) or "the first table"

    def _plain_fields(self, names: Iterable[str]) -> set[str]:
        plain: set[str] = set()
        for name in names:
            field = self.schema[name]
            plain |= self._plain_fields(self.row_formula(name).fields) if field.formula else {name}
        return plain

    def row_formula(self, name: str) -> Checked:
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
        return self.rows_of("")

    def rows_of(self, home: str) -> int:
        """How many rows of a table may be seen."""
        if not self.rules or not self._rules_for(home):
            return self.tables[home].rows
        rows: int = self.scan([], home).select(pl.len()).collect().item()
        return rows

    def facts(self, name: str) -> ColumnFacts:
        """What is known of a field's values, as far as they may be seen."""
        field = self.schema[name]
        if field.level == "aggregate":
            return ColumnFacts(empties=1)
        home = self.home_of({name}) if field.formula else field.table
        if not field.formula and not self._rules_for(home):
            return self.tables[field.table].facts(name.partition(".")[2] if field.table else name)
        # Those of formulas depend on what parameters are set to, too.
        values = tuple(sorted(self.parameters.items(), key=lambda each: each[0])) if field.formula else ()
        key = (name, values, self.reader, self.seen)
        if key not in self._cache.facts:
            if len(self._cache.facts) > MOST_FACTS:
                self._cache.facts.clear()
            self._cache.facts[key] = facts_of(self.scan([name], home).collect()[name])
        return self._cache.facts[key]

    def scan(self, names: list[str], home: str = "") -> pl.LazyFrame:
        """The rows of a table with these fields as columns, those brought in by joins and formulas of rows included, as
        far as its rules let them be seen. Raises DefinitionProblem for a field that does not reach it."""
        rules = self._rules_for(home)
        wanted = list(names) + [name for checked in rules for name in checked.fields]
        rows = Rows(self, home).with_fields(wanted)
        if rules:
            rows = rows.filter([compile_formula(checked, self.times).expression for checked in rules])
        return rows.select(list(dict.fromkeys(names))) if names else rows

    def _rules_for(self, home: str) -> list[Checked]:
        """The rules that narrow a table. Raises Bound for one that should and cannot."""
        rules = []
        for rule in self.rules:
            problem = self.problem_with_rule(rule, home)
            if problem and not self.reader.is_steward:
                raise Bound(
                    f"The rule “{rule.name}” cannot be applied, so no rows are shown: {problem}",
                    hint="A steward can mend the model or change the rule.",
                )
            if problem or home not in self.tables_ruled_by(rule):
                continue
            if rule.name in self.reader.lacking:
                rules.append(Checked(Kind.YES_NO, Span(), constant=True, value=False))
            else:
                rules.append(self.checked_rule(rule))
        return rules

    def checked_rule(self, rule: RowRule) -> Checked:
        """Raises VedutaError for a rule that is no condition on a row, or that depends on what readers can set."""
        known = self._rule_parameters(rule)
        if free := sorted(name for name in known if not name.startswith("person_")):
            raise DefinitionProblem(
                f"It reads the parameter :{free[0]}, which whoever reads can set.", hint="Write the value itself."
            )
        person = {name: ParameterValue(Kind.TEXT, ()) for name in known}
        checked = check_measure(rule.text, self.schema, {**self.parameters, **person, **dict(self.reader.person)})
        if checked.level is not Level.ROW or checked.kind not in (Kind.YES_NO, None):
            raise FormulaProblem(
                "A rule is a condition on each row: something that is yes or no.", hint="Compare a field."
            )
        return checked

    def _rule_parameters(self, rule: RowRule) -> set[str]:
        """The parameters that a rule reads, through formulas too."""
        names, waiting, seen = parameters_in(rule.text), list(fields_in(rule.text)), set()
        while waiting:
            name = waiting.pop()
            if name not in seen and name in self.schema and (text := self.schema[name].formula):
                names |= parameters_in(text)
                waiting += fields_in(text)
            seen.add(name)
        return names

    def tables_ruled_by(self, rule: RowRule) -> list[str]:
        """The tables that a rule narrows: all that its fields reach. Raises
        VedutaError for one that cannot be a rule."""
        names = self._plain_fields(self.checked_rule(rule).fields)
        return [table for table in self.tables if all(name in self.reach(table)[0] for name in names)]

    def problem_with_rule(self, rule: RowRule, home: str) -> str:
        """Why a rule does not narrow a table that it should narrow; "" if it does, or need not."""
        try:
            reached = self.tables_ruled_by(rule)
        except VedutaError as problem:
            return problem.message
        if home in reached or home not in rule.tables:
            return ""
        missing = sorted(
            name for name in self._plain_fields(self.checked_rule(rule).fields) if name not in self.reach(home)[0]
        )
        said = " and ".join(f"“{self.schema[name].name}” of {self.table_name(table_of(name))}" for name in missing)
        return (
            f"{said} does not reach {self.table_name(home)} any more, because their join is gone or finds several rows"
            " for a key."
        )

    def broken_rules(self) -> dict[str, str]:
        """The rules of the model that cannot be applied where they should be, by name, with the reason."""
        broken = {}
        for rule in self.definition.rules:
            problems = (self.problem_with_rule(rule, home) for home in rule.tables if home in self.tables)
            if problem := next(filter(None, problems), ""):
                broken[rule.name] = problem
        return broken

    def words_of_rules(self) -> list[str]:
        """What whoever asks sees only a part of, by which rule."""
        notes = []
        for rule in self.rules:
            broken = next(filter(None, (self.problem_with_rule(rule, home) for home in rule.tables)), "")
            if broken:
                notes.append(f"The rule “{rule.name}” cannot be applied: {broken} Others than stewards see no rows.")
                continue
            if rule.name in self.reader.lacking:
                notes.append(f"You see no rows, because you lack an attribute that the rule “{rule.name}” asks for.")
                continue
            parts = []
            for name in sorted(self.checked_rule(rule).fields):
                seen, there = self.facts(name).distinct, self.given({}).facts(name).distinct
                if seen < there:
                    parts.append(f"{seen:,} of {there:,} in {self.schema[name].name}")
            said = f": {' and '.join(parts)}" if parts else ""
            notes.append(f"You see only some rows, by the rule “{rule.name}”{said}.")
        return notes


def default_values(parameters: tuple[ParameterField, ...]) -> dict[str, ParameterValue]:
    return {parameter.id: parameter_value(parameter, list(parameter.default) or None) for parameter in parameters}


def parameter_value(parameter: ParameterField, value: Any) -> ParameterValue:
    """A parameter set to a value (a list for several), None for no limit. Raises
    DefinitionProblem for one it cannot have."""
    where, name = parameter.id, parameter.name
    if value is None or value == []:
        if parameter.required:
            raise DefinitionProblem(f"“{name}” needs a value.", where=where, hint="Choose one.")
        return ParameterValue(parameter.kind, None)
    given = value if isinstance(value, list | tuple) else [value]
    if len(given) > 1 and not parameter.several:
        raise DefinitionProblem(f"“{name}” holds one value.", where=where, hint="Choose one of them.")
    values = tuple(_typed(each, parameter) for each in given)
    allowed = [_typed(choice.value, parameter) for choice in parameter.choices]
    for each in values:
        if allowed and each not in allowed:
            raise DefinitionProblem(
                f"“{each}” is not among the values of “{name}”.", where=where, hint="Choose one of its list."
            )
        if parameter.kind.is_number:
            too_low = parameter.low is not None and each < parameter.low
            if too_low or (parameter.high is not None and each > parameter.high):
                low, high = (f"{bound:,g}" if bound is not None else "…" for bound in (parameter.low, parameter.high))
                raise DefinitionProblem(
                    f"“{name}” goes from {low} to {high}.", where=where, hint="Choose a value between."
                )
    return ParameterValue(parameter.kind, values)


def _typed(value: Any, parameter: ParameterField) -> Any:
    try:
        if parameter.kind is Kind.YES_NO:
            return value if isinstance(value, bool) else {"true": True, "false": False}[str(value).lower()]
        if parameter.kind is Kind.WHOLE:
            if float(value) != int(float(value)):
                raise ValueError
            return int(value) if not isinstance(value, str) else int(float(value))
        if parameter.kind is Kind.DECIMAL:
            return float(value)
        if parameter.kind is Kind.DATE:
            return dt.date.fromisoformat(str(value))
        if parameter.kind is Kind.DATETIME:
            return dt.datetime.fromisoformat(str(value))
        return str(value)
    except (ValueError, TypeError, KeyError, OverflowError):
        raise DefinitionProblem(
            f"“{value}” is not a value for “{parameter.name}”: it holds a {parameter.kind.words}.", where=parameter.id
        ) from None
