"""Every change to a dataset's model. What would break charts is named before it is saved; earlier models are kept."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from django.db import transaction

from veduta.core.chart.definition import check_fields
from veduta.core.data.fields import Kind, NumberFormat, Schema
from veduta.core.errors import Bound, DefinitionProblem, VedutaError
from veduta.core.formula.measures import check_measure, fields_in, parameters_in, with_ids
from veduta.core.model.definition import (
    Choice,
    DrillPath,
    FormulaField,
    Join,
    Key,
    ModelDefinition,
    ModelTable,
    ParameterField,
    RowRule,
    load_model,
)
from veduta.core.model.joins import suggest_join
from veduta.core.model.model import Model, parameter_value
from veduta.core.query.measures import Measure, measure_format, measure_node
from veduta.web.accounts.access import must_build
from veduta.web.accounts.models import User
from veduta.web.common.revisions import must_build_on, numbered
from veduta.web.datasets.binding import is_bound
from veduta.web.datasets.models import Dataset, ModelVersion
from veduta.web.modelling.services import built_model, model_of


class Breaking(VedutaError):
    """A change would break charts; `charts` are their names with what would be wrong."""

    code = "breaking"

    def __init__(self, charts: list[tuple[Any, str]]) -> None:
        super().__init__("This change breaks charts.", hint="Look at them first, or save anyway.")
        self.charts = charts


CHANGES: dict[str, Callable[..., ModelDefinition]] = {}


def change(function: Callable[..., ModelDefinition]) -> Callable[..., ModelDefinition]:
    """Register a change: from the definition, its model and what was sent to a new definition."""
    CHANGES[function.__name__] = function
    return function


def change_model(
    user: User, dataset: Dataset, do: str, sent: dict[str, Any], revision: int, anyway: bool = False
) -> Dataset:
    """Make one change. Raises Breaking if charts would not work any more, unless told to do it anyway, and
    VedutaError for one that cannot be made."""
    must_build(user)
    if do not in CHANGES:
        raise DefinitionProblem("Veduta does not know this change.", hint="Load the page again.")
    with transaction.atomic():
        dataset = Dataset.objects.select_for_update().select_related("current").get(pk=dataset.pk)
        last = dataset.model_versions.select_related("saved_by").first()
        hint = "Load the page again, then make your change."
        must_build_on(dataset.model_revision, revision, dataset, "this model", last and last.saved_by, hint)
        made = CHANGES[do](dataset.model_definition, model_of(dataset), sent)
        _keep(user, dataset, load_model(made.model_dump(mode="json")), anyway)
    return dataset


def bring_back_model(user: User, dataset: Dataset, number: int) -> Dataset:
    """Make an earlier model the current one."""
    must_build(user)
    with transaction.atomic():
        dataset = Dataset.objects.select_for_update().select_related("current").get(pk=dataset.pk)
        earlier = numbered(dataset.model_versions, number, "this model")
        _keep(user, dataset, load_model(earlier.definition), True)
    return dataset


def _keep(user: User, dataset: Dataset, made: ModelDefinition, anyway: bool) -> None:
    before = model_of(dataset)
    _check_rules(user, dataset, before, made)
    if not dataset.model_versions.exists():
        ModelVersion.objects.create(dataset=dataset, number=dataset.model_revision, definition=dataset.model)
    dataset.model = made.model_dump(mode="json")
    after = built_model(dataset)
    if not anyway and (broken := newly_broken(dataset, before, after)):
        raise Breaking(broken)
    dataset.model_revision += 1
    dataset.save(update_fields=["model", "model_revision", "updated_at"])
    ModelVersion.objects.create(dataset=dataset, number=dataset.model_revision, definition=dataset.model, saved_by=user)


def _check_rules(user: User, dataset: Dataset, before: Model, made: ModelDefinition) -> None:
    """Rules hold after every change. Whoever is bound by them leaves alone what they say and rest on."""
    old = before.definition
    if is_bound(dataset, user):
        changed = {
            "its rules": made.rules != old.rules,
            "its tables and joins": (made.tables, made.joins) != (old.tables, old.joins),
            "a formula that its rules read": _formulas_of_rules(made) != _formulas_of_rules(old),
        }
        for what, is_changed in changed.items():
            if is_changed:
                raise Bound(
                    f"You may see only some rows of this model, so you cannot change {what}.", hint="Ask a steward."
                )
    trial = Dataset(pk=dataset.pk, name=dataset.name, fields=dataset.fields, current=dataset.current)
    trial.model = made.model_dump(mode="json")
    broken = {
        rule: problem
        for rule, problem in built_model(trial).broken_rules().items()
        if rule not in before.broken_rules()
    }
    for rule, problem in broken.items():
        raise VedutaError(f"The rule “{rule}” could not be applied any more: {problem}", hint="Change the rule first.")


def _formulas_of_rules(definition: ModelDefinition) -> dict[str, str]:
    """The texts of the formulas that the rules read, through others too."""
    texts = {f"formula.{each.id}": each.text for each in definition.formulas}
    found, waiting = {}, [name for rule in definition.rules for name in fields_in(rule.text)]
    while waiting:
        name = waiting.pop()
        if name in texts and name not in found:
            found[name] = texts[name]
            waiting += fields_in(texts[name])
    return found


def newly_broken(dataset: Dataset, before: Model, after: Model) -> list[tuple[Any, str]]:
    """The charts that work with one model and not with another, with what is wrong."""
    found = []
    for chart in dataset.charts.filter(deleted_at=None):
        if not problem_with(chart, before) and (problem := problem_with(chart, after)):
            found.append((chart, problem))
    return found


def problem_with(chart: Any, model: Model) -> str:
    """What is wrong with a chart under a model, or ""."""
    try:
        definition = chart.load()
        model = model.given(definition.values)
        check_fields(definition, model.schema)
        for measure in (
            *definition.measures,
            definition.keep and definition.keep.by,
            definition.sort and definition.sort.measure,
        ):
            if measure:
                node = measure_node(measure, model.schema, model.parameters)
                _must_reach(model, node.fields, [(g.field, g.grain or "") for g in definition.groups])
        for group in definition.groups:
            if model.schema[group.field].formula:
                model.row_formula(group.field)
        unknown = {getattr(f, "parameter", "") for f in definition.only} | {
            definition.keep.parameter if definition.keep else ""
        }
        if missing := unknown - {"", *model.parameters}:
            return f"There is no parameter :{sorted(missing)[0]} any more."
    except VedutaError as problem:
        return str(problem)
    return ""


def _must_reach(model: Model, names: set[str], groups: list[tuple[str, str]]) -> None:
    if not names or not groups:
        return
    homes = {model.home_of({name}) for name in names}
    for field, grain in groups:
        if not any(model.reaches(home, field, grain) for home in homes):
            raise DefinitionProblem(f"“{model.schema[field].name}” does not reach what is measured.", where=field)


def used_in(dataset: Dataset, field_id: str) -> dict[str, list[Any]]:
    """The charts and the formulas of the model that use a field or a formula."""
    charts = []
    for chart in dataset.charts.filter(deleted_at=None):
        try:
            if field_id in chart.load().fields():
                charts.append(chart)
        except VedutaError:
            continue
    formulas = [each for each in dataset.model_definition.formulas if field_id in fields_in(each.text)]
    return {"charts": charts, "formulas": formulas}


# Changes.


def _with(definition: ModelDefinition, **changes: Any) -> ModelDefinition:
    return definition.model_copy(update=changes)


def _new_id(name: str, taken: set[str]) -> str:
    """An identifier made of a name: "Load factor" becomes load_factor."""
    plain = re.sub(r"[^a-z0-9]+", "_", name.lower()).strip("_")[:30] or "it"
    plain = plain if plain[0].isalpha() else f"n{plain}"
    found, number = plain, 2
    while found in taken:
        found, number = f"{plain}_{number}", number + 1
    return found


def _text(sent: dict[str, Any], key: str) -> str:
    return str(sent.get(key) or "").strip()


@change
def add_table(definition: ModelDefinition, model: Model, sent: dict[str, Any]) -> ModelDefinition:
    """Join another dataset, by the likeliest keys."""
    try:
        dataset = Dataset.objects.select_related("current").get(pk=_text(sent, "dataset"), deleted_at=None)
    except (Dataset.DoesNotExist, ValueError):
        raise VedutaError("That dataset does not exist any more.") from None
    name = _text(sent, "name") or dataset.name
    table = ModelTable(
        id=_new_id(name, {"formula", *(t.id for t in definition.tables)}), dataset=str(dataset.pk), name=name
    )
    return _with(definition, tables=(*definition.tables, table))


@change
def suggest(definition: ModelDefinition, model: Model, sent: dict[str, Any]) -> ModelDefinition:
    """Take the likeliest keys between two tables. Raises VedutaError if there are none."""
    left, right = _text(sent, "left"), _text(sent, "right")
    join = suggest_join(model, left, right)
    if join is None:
        raise VedutaError("No columns of these tables hold the same values.", hint="Choose the keys yourself.")
    others = tuple(j for j in definition.joins if {j.left, j.right} != {left, right})
    return _with(definition, joins=(*others, join))


@change
def set_join(definition: ModelDefinition, model: Model, sent: dict[str, Any]) -> ModelDefinition:
    """Set the keys between two tables."""
    left, right = _text(sent, "left"), _text(sent, "right")
    keys = tuple(
        Key(left=sent[f"left{i}"], right=sent[f"right{i}"], grain=sent.get(f"grain{i}", ""))
        for i in range(6)
        if sent.get(f"left{i}") and sent.get(f"right{i}")
    )
    if not keys:
        raise VedutaError("Choose at least one column on each side.")
    join = Join(left=left, right=right, keys=keys)
    there = [i for i, j in enumerate(definition.joins) if {j.left, j.right} == {left, right}]
    joins = list(definition.joins)
    if there:
        joins[there[0]] = join
    else:
        joins.append(join)
    return _with(definition, joins=tuple(joins))


@change
def remove_join(definition: ModelDefinition, model: Model, sent: dict[str, Any]) -> ModelDefinition:
    pair = {_text(sent, "left"), _text(sent, "right")}
    return _with(definition, joins=tuple(j for j in definition.joins if {j.left, j.right} != pair))


@change
def remove_table(definition: ModelDefinition, model: Model, sent: dict[str, Any]) -> ModelDefinition:
    table = _text(sent, "table")
    return _with(
        definition,
        tables=tuple(t for t in definition.tables if t.id != table),
        joins=tuple(j for j in definition.joins if table not in (j.left, j.right)),
    )


@change
def rename_table(definition: ModelDefinition, model: Model, sent: dict[str, Any]) -> ModelDefinition:
    table, name = _text(sent, "table"), _text(sent, "name")
    return _with(
        definition,
        tables=tuple(t.model_copy(update={"name": name or t.name}) if t.id == table else t for t in definition.tables),
    )


@change
def save_formula(definition: ModelDefinition, model: Model, sent: dict[str, Any]) -> ModelDefinition:
    """Add a formula or change one. Raises FormulaProblem with the place of what is wrong."""
    formula_id, name = _text(sent, "id"), _text(sent, "name")
    if not name:
        raise VedutaError("The formula needs a name.", hint="Say what it gives, such as Load factor.")
    others = [field for field in model.schema if field.id != f"formula.{formula_id}"]
    if any(field.name.casefold() == name.casefold() and field.table in ("", "formula") for field in others):
        raise VedutaError(f"There is already a field named “{name}”.", hint="Choose another name.")
    text = with_ids(_text(sent, "text"), model.schema)
    made_of_itself(f"formula.{formula_id}", text, model.schema)
    checked = check_measure(text, model.schema, model.parameters)
    new_id = formula_id or _new_id(name, {each.id for each in definition.formulas})
    old = next((each for each in definition.formulas if each.id == formula_id), None)
    number_format = NumberFormat(**sent["format"]) if sent.get("format") else old.format if old else NumberFormat()
    if old is None and number_format == NumberFormat():  # a new one looks like what it is made of, until told otherwise
        number_format = measure_format(Measure(formula=text), model.schema, checked)
    made = FormulaField(
        id=new_id,
        name=name,
        text=text,
        description=_text(sent, "description"),
        folder=_text(sent, "folder"),
        format=number_format,
        total=_text(sent, "total") or "again",
    )
    formulas = tuple(made if each.id == new_id else each for each in definition.formulas)
    return _with(definition, formulas=formulas if old else (*formulas, made))


def made_of_itself(field_id: str, text: str, schema: Schema) -> None:
    """Raises DefinitionProblem if a formula would lead back to itself."""
    seen, waiting = set(), list(fields_in(text))
    while waiting:
        name = waiting.pop()
        if name == field_id:
            raise DefinitionProblem("This formula would be made from itself.", hint="Take its own name out.")
        if name in schema and schema[name].formula and name not in seen:
            seen.add(name)
            waiting += fields_in(schema[name].formula)


@change
def remove_formula(definition: ModelDefinition, model: Model, sent: dict[str, Any]) -> ModelDefinition:
    formula_id = _text(sent, "id")
    users = [each.name for each in definition.formulas if f"formula.{formula_id}" in fields_in(each.text)]
    if users:
        raise VedutaError(f"It is used in the formula “{users[0]}”.", hint="Change that one first.")
    return _with(definition, formulas=tuple(each for each in definition.formulas if each.id != formula_id))


@change
def save_parameter(definition: ModelDefinition, model: Model, sent: dict[str, Any]) -> ModelDefinition:
    """Add a parameter or change one."""
    old_id, name = _text(sent, "id"), _text(sent, "name")
    if not name:
        raise VedutaError("The parameter needs a name.", hint="Say what it sets, such as Top routes.")
    kind = Kind(_text(sent, "kind") or "whole")
    new_id = old_id or _new_id(name, {each.id for each in definition.parameters})
    if new_id.startswith("person_"):
        raise VedutaError(
            "Names that begin with “person” are kept for attributes of people.", hint="Choose another name."
        )
    choices = []
    for line in _text(sent, "choices").splitlines():
        value, _, label = line.partition("=")
        if value.strip():
            choices.append(Choice(value=value.strip(), label=label.strip()))
    number = {end: float(_text(sent, end)) if _text(sent, end) else None for end in ("low", "high", "step")}
    default = tuple(part.strip() for part in _text(sent, "default").split(";") if part.strip())
    made = ParameterField(
        id=new_id,
        name=name,
        kind=kind,
        default=default,
        several=bool(sent.get("several")),
        required=bool(sent.get("required")),
        choices=tuple(choices),
        field=_text(sent, "field"),
        **number,
    )
    typed = parameter_value(made, list(default) or None)
    plain = tuple(v.isoformat() if hasattr(v, "isoformat") else v for v in typed.values or ())
    made = made.model_copy(update={"default": plain, "choices": tuple(_typed_choice(c, made) for c in choices)})
    there = any(each.id == new_id for each in definition.parameters)
    parameters = tuple(made if each.id == new_id else each for each in definition.parameters)
    return _with(definition, parameters=parameters if there else (*parameters, made))


def _typed_choice(choice: Choice, parameter: ParameterField) -> Choice:
    value = parameter_value(parameter.model_copy(update={"choices": (), "several": False}), choice.value).values[0]
    return choice.model_copy(update={"value": value.isoformat() if hasattr(value, "isoformat") else value})


@change
def remove_parameter(definition: ModelDefinition, model: Model, sent: dict[str, Any]) -> ModelDefinition:
    name = _text(sent, "id")
    users = [each.name for each in (*definition.formulas, *definition.rules) if name in parameters_in(each.text)]
    if users:
        raise VedutaError(f":{name} is used in “{users[0]}”.", hint="Change that one first.")
    return _with(definition, parameters=tuple(each for each in definition.parameters if each.id != name))


@change
def save_path(definition: ModelDefinition, model: Model, sent: dict[str, Any]) -> ModelDefinition:
    """Add a drill path, or put another in the place of one of the same name."""
    name = _text(sent, "name")
    fields = tuple(dict.fromkeys(sent[f"field{i}"] for i in range(10) if sent.get(f"field{i}")))
    if not name or len(fields) < 2:
        raise VedutaError("A drill path needs a name and at least two fields, from coarse to fine.")
    for field in fields:
        model.schema[field]
    others = tuple(each for each in definition.paths if each.name.casefold() != name.casefold())
    return _with(definition, paths=(*others, DrillPath(name=name, fields=fields)))


@change
def remove_path(definition: ModelDefinition, model: Model, sent: dict[str, Any]) -> ModelDefinition:
    return _with(definition, paths=tuple(each for each in definition.paths if each.name != _text(sent, "name")))


@change
def save_rule(definition: ModelDefinition, model: Model, sent: dict[str, Any]) -> ModelDefinition:
    """Add a rule of who sees which rows, or put another in the place of one of the same name."""
    name = _text(sent, "name")
    if not name:
        raise VedutaError("The rule needs a name.", hint="Say whom it is for, such as Harbour masters.")
    text = with_ids(_text(sent, "text"), model.schema)
    rule = RowRule(name=name, text=text, groups=tuple(sent.get("groups") or ()))
    tables = model.tables_ruled_by(rule)
    if not tables:
        raise VedutaError(
            "This rule's fields reach no table.", hint="Use fields of one table, or join the tables first."
        )
    rule = rule.model_copy(update={"tables": tuple(tables)})
    others = tuple(each for each in definition.rules if each.name.casefold() != name.casefold())
    return _with(definition, rules=(*others, rule))


@change
def remove_rule(definition: ModelDefinition, model: Model, sent: dict[str, Any]) -> ModelDefinition:
    return _with(definition, rules=tuple(each for each in definition.rules if each.name != _text(sent, "name")))


@change
def settings(definition: ModelDefinition, model: Model, sent: dict[str, Any]) -> ModelDefinition:
    beyond = _text(sent, "beyond")
    return _with(
        definition,
        fiscal_month=int(_text(sent, "fiscal_month") or definition.fiscal_month),
        beyond=beyond if beyond in ("empty", "repeat") else definition.beyond,
    )
