"""Which rows of a model's tables people may see, by its rules."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass
from typing import TYPE_CHECKING

from veduta.core.data.fields import DataType
from veduta.core.errors import DefinitionProblem, RowAccessDenied, VedutaError
from veduta.core.formula.check import TypedExpression
from veduta.core.formula.functions import Level
from veduta.core.formula.measures import (
    ParameterValue,
    check_measure,
    list_formula_fields,
    list_parameters,
    replace_ids,
)
from veduta.core.formula.problems import FormulaProblem, Span
from veduta.core.model.definition import RowRule
from veduta.core.model.reach import split_table
from veduta.core.phrases import join_names

if TYPE_CHECKING:
    from veduta.core.model.model import Model


@dataclass(frozen=True)
class SecurityContext:
    """Who asks: their rules, the attributes these read (`person`), and rules for which they lack one.

    Where an attribute is lacking, no row passes. Where a rule cannot be applied a steward is not refused, so that it
    can be mended."""

    rules: tuple[RowRule, ...] = ()
    person: tuple[tuple[str, ParameterValue], ...] = ()
    lacking: frozenset[str] = frozenset()
    is_steward: bool = False


EVERYBODY = SecurityContext()


class RowLevelSecurity:
    """The rules of a model at work, for whoever asks."""

    def __init__(self, model: Model) -> None:
        self.model, self.reader = model, model.reader

    def list_conditions(self, home: str) -> list[TypedExpression]:
        """The rules that narrow a table. Raises RowAccessDenied for one that should and cannot."""
        rules = []
        for rule in self.reader.rules:
            problem = self.find_problem(rule, home)
            if problem and not self.reader.is_steward:
                raise RowAccessDenied(
                    f"The rule “{rule.name}” cannot be applied, so no rows are shown: {problem}",
                    hint="A steward can mend the model or change the rule.",
                )
            if problem or home not in self.list_narrowed_tables(rule):
                continue
            if rule.name in self.reader.lacking:
                rules.append(TypedExpression(DataType.YES_NO, Span(), constant=True, value=False))
            else:
                rules.append(self.check_rule(rule))
        return rules

    def check_rule(self, rule: RowRule) -> TypedExpression:
        """Raises VedutaError for a rule that is no condition on a row, or that depends on what readers can set."""
        known = self._list_parameters(rule)
        if free := sorted(name for name in known if not name.startswith("person_")):
            raise DefinitionProblem(
                f"It reads the parameter :{free[0]}, which whoever reads can set.", hint="Write the value itself."
            )
        person = {name: ParameterValue(DataType.TEXT, ()) for name in known} | dict(self.reader.person)
        checked = check_measure(rule.text, self.model.schema, {**self.model.parameters, **person})
        if checked.level is not Level.ROW or checked.kind not in (DataType.YES_NO, None):
            raise FormulaProblem(
                "A rule is a condition on each row: something that is yes or no.", hint="Compare a field."
            )
        return checked

    def _list_parameters(self, rule: RowRule) -> set[str]:
        """The parameters that a rule reads, through formulas too."""
        names, waiting, seen = list_parameters(rule.text), list(list_formula_fields(rule.text)), set()
        while waiting:
            name = waiting.pop()
            if name not in seen and name in self.model.schema and (text := self.model.schema[name].formula):
                names |= list_parameters(text)
                waiting += list_formula_fields(text)
            seen.add(name)
        return names

    def list_narrowed_tables(self, rule: RowRule) -> list[str]:
        """The tables that a rule narrows: all that its fields reach.

        Raises VedutaError for one that cannot be a rule."""
        names = self.model.list_plain_fields(self.check_rule(rule).fields)
        return [table for table in self.model.tables if all(name in self.model.reach(table).sources for name in names)]

    def list_whole_tables(self, rule: RowRule) -> list[str]:
        """The tables of which a rule leaves all rows to be seen, because its fields do not reach them."""
        narrowed = self.list_narrowed_tables(rule)
        return [table for table in self.model.tables if table not in narrowed]

    def propose_wider_rule(self, rule: RowRule) -> RowRule | None:
        """The same rule over fields of the same names in another table, if it filters more tables there.

        Of several, the one that filters most. (What joins equate reaches both tables anyway.)"""
        narrowed, names = set(self.list_narrowed_tables(rule)), list_formula_fields(rule.text)
        found: list[RowRule] = []
        for table in self.model.tables:
            like = {name: self._find_like_field(name, table) for name in names}
            if not all(like.values()):
                continue
            text = replace_ids(rule.text, {name: each for name, each in like.items() if each})
            with suppress(VedutaError):
                other = rule.model_copy(update={"text": text})
                found.append(other.model_copy(update={"tables": tuple(self.list_narrowed_tables(other))}))
        more = [other for other in found if narrowed < set(other.tables)]
        return max(more, key=lambda other: len(other.tables), default=None)

    def _find_like_field(self, name: str, table: str) -> str:
        """The field of a table that is called as another one, perhaps itself; "" if it has none."""
        schema = self.model.schema
        field = schema[name]
        if field.table == table:
            return name
        there = (each for each in schema if each.table == table and not each.formula and each.kind is field.kind)
        return next((each.id for each in there if each.name.casefold() == field.name.casefold()), "")

    def find_problem(self, rule: RowRule, home: str) -> str:
        """Why a rule does not narrow a table that it should narrow; "" if it does, or need not."""
        try:
            reached = self.list_narrowed_tables(rule)
        except VedutaError as problem:
            return problem.message
        if home in reached or home not in rule.tables:
            return ""
        model = self.model
        fields = model.list_plain_fields(self.check_rule(rule).fields)
        missing = sorted(name for name in fields if name not in model.reach(home).sources)
        said = " and ".join(
            f"“{model.schema[name].name}” of {model.get_table_name(split_table(name))}" for name in missing
        )
        return (
            f"{said} does not reach {model.get_table_name(home)} any more, because their join is gone or finds several"
            " rows for a key."
        )

    def list_broken_rules(self) -> dict[str, str]:
        """The rules of the model that cannot be applied where they should be, by name, with the reason."""
        broken = {}
        for rule in self.model.definition.rules:
            problems = (self.find_problem(rule, home) for home in rule.tables if home in self.model.tables)
            if problem := next(filter(None, problems), ""):
                broken[rule.name] = problem
        return broken

    def describe(self) -> list[str]:
        """What whoever asks sees only a part of, by which rule."""
        notes = []
        for rule in self.reader.rules:
            broken = next(filter(None, (self.find_problem(rule, home) for home in rule.tables)), "")
            if broken:
                notes.append(f"The rule “{rule.name}” cannot be applied: {broken} Others than stewards see no rows.")
                continue
            if rule.name in self.reader.lacking:
                notes.append(f"You see no rows, because you lack an attribute that the rule “{rule.name}” asks for.")
                continue
            parts = []
            for name in sorted(self.check_rule(rule).fields):
                seen, there = self.model.get_facts(name).distinct, self.model.apply_reader({}).get_facts(name).distinct
                if seen < there:
                    parts.append(f"{seen:,} of {there:,} in {self.model.schema[name].name}")
            said = f": {' and '.join(parts)}" if parts else ""
            notes.append(f"You see only some rows, by the rule “{rule.name}”{said}.")
        if notes and (whole := self._list_whole_for_reader()):
            names = join_names([self.model.get_table_name(table) for table in whole], most=3)
            notes[-1] += f" All rows of {names} are seen."
        return notes

    def _list_whole_for_reader(self) -> list[str]:
        """The tables that no rule of whoever asks narrows; none where that is not known."""
        try:
            left = [set(self.list_whole_tables(rule)) for rule in self.reader.rules]
        except VedutaError:
            return []
        return [table for table in self.model.tables if all(table in whole for whole in left)]
