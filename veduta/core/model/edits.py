"""The ways in which a model is edited, each a function from definition to definition."""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator

from veduta.core.data.fields import DataType, NumberFormat, Schema, Total
from veduta.core.edit_registry import Edits
from veduta.core.errors import DefinitionProblem, VedutaError
from veduta.core.formula.measures import (
    check_measure,
    format_of,
    list_formula_fields,
    list_parameters,
    replace_names_with_ids,
)
from veduta.core.model.definition import (
    Choice,
    DrillPath,
    FormulaField,
    JoinKey,
    ModelDefinition,
    ModelJoin,
    ModelTable,
    ParameterField,
    RowRule,
)
from veduta.core.model.model import Model
from veduta.core.model.parameters import set_to

edit = Edits(ModelDefinition, given=2)
"""Registers an edit: of a definition, with the model that it makes."""
Text = Annotated[str, BeforeValidator(lambda value: str(value or "").strip())]
Number = Annotated[float | None, BeforeValidator(lambda value: None if value == "" else value)]


def _replace(definition: ModelDefinition, **changes: Any) -> ModelDefinition:
    return definition.model_copy(update=changes)


def _make_id(name: str, taken: set[str]) -> str:
    """An identifier made of a name: "Load factor" becomes load_factor."""
    plain = re.sub(r"[^a-z0-9]+", "_", name.lower()).strip("_")[:30] or "it"
    plain = plain if plain[0].isalpha() else f"n{plain}"
    free, number = plain, 2
    while free in taken:
        free, number = f"{plain}_{number}", number + 1
    return free


@edit
def add_table(definition: ModelDefinition, model: Model, dataset: str, name: Text) -> ModelDefinition:
    """Put another dataset beside the others."""
    table = ModelTable(id=_make_id(name, {"formula", *(t.id for t in definition.tables)}), dataset=dataset, name=name)
    return _replace(definition, tables=(*definition.tables, table))


@edit
def set_join(
    definition: ModelDefinition, model: Model, left: str, right: str, keys: tuple[JoinKey, ...] = ()
) -> ModelDefinition:
    """Set the keys between two tables."""
    if not keys:
        raise VedutaError("Choose at least one column on each side.")
    made = ModelJoin(left=left, right=right, keys=keys)
    is_this = [{join.left, join.right} == {left, right} for join in definition.joins]
    joins = tuple(made if this else join for join, this in zip(definition.joins, is_this, strict=True))
    return _replace(definition, joins=joins if any(is_this) else (*joins, made))


@edit
def remove_join(definition: ModelDefinition, model: Model, left: str, right: str) -> ModelDefinition:
    return _replace(definition, joins=tuple(j for j in definition.joins if {j.left, j.right} != {left, right}))


@edit
def remove_table(definition: ModelDefinition, model: Model, table: str) -> ModelDefinition:
    return _replace(
        definition,
        tables=tuple(t for t in definition.tables if t.id != table),
        joins=tuple(j for j in definition.joins if table not in (j.left, j.right)),
    )


@edit
def rename_table(definition: ModelDefinition, model: Model, table: str, name: Text) -> ModelDefinition:
    return _replace(
        definition,
        tables=tuple(t.model_copy(update={"name": name or t.name}) if t.id == table else t for t in definition.tables),
    )


@edit
def save_formula(
    definition: ModelDefinition,
    model: Model,
    name: Text = "",
    text: Text = "",
    id: Text = "",
    description: Text = "",
    folder: Text = "",
    format: NumberFormat | None = None,
    total: Total | Literal[""] = "",
) -> ModelDefinition:
    """Add a formula or change one. Raises FormulaProblem with the place of what is wrong."""
    if not name:
        raise VedutaError("The formula needs a name.", hint="Say what it gives, such as Load factor.")
    others = [field for field in model.schema if field.id != f"formula.{id}"]
    if any(field.name.casefold() == name.casefold() and field.table in ("", "formula") for field in others):
        raise VedutaError(f"There is already a field named “{name}”.", hint="Choose another name.")
    text = replace_names_with_ids(text, model.schema)
    refuse_circular_formula(f"formula.{id}", text, model.schema)
    checked = check_measure(text, model.schema, model.parameters)
    old = next((each for each in definition.formulas if each.id == id), None)
    number_format = format or (old.format if old else NumberFormat())
    if old is None and number_format == NumberFormat():  # a new one looks like what it is made of, until told otherwise
        number_format = format_of(checked, model.schema)
    made = FormulaField(
        id=id or _make_id(name, {each.id for each in definition.formulas}),
        name=name,
        text=text,
        description=description,
        folder=folder,
        format=number_format,
        total=total or "again",
    )
    formulas = tuple(made if each.id == made.id else each for each in definition.formulas)
    return _replace(definition, formulas=formulas if old else (*formulas, made))


def refuse_circular_formula(field_id: str, text: str, schema: Schema) -> None:
    """Raises DefinitionProblem if a formula would lead back to itself."""
    seen: set[str] = set()
    waiting = list(list_formula_fields(text))
    while waiting:
        name = waiting.pop()
        if name == field_id:
            raise DefinitionProblem("This formula would be made from itself.", hint="Take its own name out.")
        if name in schema and schema[name].formula and name not in seen:
            seen.add(name)
            waiting += list_formula_fields(schema[name].formula)


@edit
def remove_formula(definition: ModelDefinition, model: Model, id: str) -> ModelDefinition:
    users = [each.name for each in definition.formulas if f"formula.{id}" in list_formula_fields(each.text)]
    if users:
        raise VedutaError(f"It is used in the formula “{users[0]}”.", hint="Change that one first.")
    return _replace(definition, formulas=tuple(each for each in definition.formulas if each.id != id))


@edit
def save_parameter(
    definition: ModelDefinition,
    model: Model,
    name: Text = "",
    id: Text = "",
    kind: DataType = DataType.WHOLE,
    default: tuple[Text, ...] = (),
    several: bool = False,
    required: bool = False,
    choices: tuple[Choice, ...] = (),
    low: Number = None,
    high: Number = None,
    step: Number = None,
    field: str = "",
) -> ModelDefinition:
    """Add a parameter or change one."""
    if not name:
        raise VedutaError("The parameter needs a name.", hint="Say what it sets, such as Top routes.")
    new_id = id or _make_id(name, {each.id for each in definition.parameters})
    if new_id.startswith("person_"):
        raise VedutaError(
            "Names that begin with “person” are kept for attributes of people.", hint="Choose another name."
        )
    made = ParameterField(
        id=new_id,
        name=name,
        kind=kind,
        default=default,
        several=several,
        required=required,
        choices=choices,
        low=low,
        high=high,
        step=step,
        field=field,
    )
    typed = set_to(made, list(default) or None)
    made = made.model_copy(
        update={
            "default": tuple(_simplify(value) for value in typed.values or ()),
            "choices": tuple(_convert_choice(choice, made) for choice in choices),
        }
    )
    there = any(each.id == new_id for each in definition.parameters)
    parameters = tuple(made if each.id == new_id else each for each in definition.parameters)
    return _replace(definition, parameters=parameters if there else (*parameters, made))


def _convert_choice(choice: Choice, parameter: ParameterField) -> Choice:
    alone = parameter.model_copy(update={"choices": (), "several": False})
    values = set_to(alone, choice.value).values or (None,)
    return choice.model_copy(update={"value": _simplify(values[0])})


def _simplify(value: Any) -> Any:
    return value.isoformat() if hasattr(value, "isoformat") else value


@edit
def remove_parameter(definition: ModelDefinition, model: Model, id: str) -> ModelDefinition:
    texts = [(each.name, each.text) for each in definition.formulas]
    texts += [(each.name, each.text) for each in definition.rules]
    users = [user for user, text in texts if id in list_parameters(text)]
    if users:
        raise VedutaError(f":{id} is used in “{users[0]}”.", hint="Change that one first.")
    return _replace(definition, parameters=tuple(each for each in definition.parameters if each.id != id))


@edit
def save_path(
    definition: ModelDefinition, model: Model, name: Text = "", fields: tuple[str, ...] = ()
) -> ModelDefinition:
    """Add a drill path, or put another in the place of one of the same name."""
    fields = tuple(dict.fromkeys(fields))
    if not name or len(fields) < 2:
        raise VedutaError("A drill path needs a name and at least two fields, from coarse to fine.")
    for field in fields:
        model.schema[field]
    others = tuple(each for each in definition.paths if each.name.casefold() != name.casefold())
    return _replace(definition, paths=(*others, DrillPath(name=name, fields=fields)))


@edit
def remove_path(definition: ModelDefinition, model: Model, name: Text) -> ModelDefinition:
    return _replace(definition, paths=tuple(each for each in definition.paths if each.name != name))


@edit
def save_rule(
    definition: ModelDefinition, model: Model, name: Text = "", text: Text = "", groups: tuple[str, ...] = ()
) -> ModelDefinition:
    """Add a rule of who sees which rows, or put another in the place of one of the same name."""
    if not name:
        raise VedutaError("The rule needs a name.", hint="Say whom it is for, such as Harbour masters.")
    rule = RowRule(name=name, text=replace_names_with_ids(text, model.schema), groups=groups)
    tables = model.ruling.list_narrowed_tables(rule)
    if not tables:
        raise VedutaError(
            "This rule's fields reach no table.", hint="Use fields of one table, or join the tables first."
        )
    rule = rule.model_copy(update={"tables": tuple(tables)})
    others = tuple(each for each in definition.rules if each.name.casefold() != name.casefold())
    return _replace(definition, rules=(*others, rule))


@edit
def remove_rule(definition: ModelDefinition, model: Model, name: Text) -> ModelDefinition:
    return _replace(definition, rules=tuple(each for each in definition.rules if each.name != name))


@edit
def settings(
    definition: ModelDefinition,
    model: Model,
    fiscal_month: int | None = None,
    beyond: Literal["empty", "repeat"] | None = None,
) -> ModelDefinition:
    return _replace(
        definition,
        fiscal_month=fiscal_month or definition.fiscal_month,
        beyond=beyond or definition.beyond,
    )
