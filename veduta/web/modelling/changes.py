"""Every change to a dataset's model. What would break charts is named before it is saved; earlier models are kept."""

from __future__ import annotations

import itertools
from collections.abc import Set as AbstractSet
from typing import Any

from django.db import transaction

from veduta.core.chart.definition import check_fields
from veduta.core.errors import DefinitionProblem, RowAccessDenied, VedutaError
from veduta.core.formula.measures import list_formula_fields
from veduta.core.model.definition import (
    ModelDefinition,
    load_model,
)
from veduta.core.model.edits import edit
from veduta.core.model.model import Model
from veduta.core.phrases import join_names
from veduta.core.query.measures import measure_node
from veduta.web.accounts.access import must_build
from veduta.web.accounts.models import User
from veduta.web.accounts.rights import What, keep, must_own
from veduta.web.common.revisions import get_numbered, must_build_on
from veduta.web.datasets.models import Dataset, ModelVersion
from veduta.web.datasets.row_access import is_bound
from veduta.web.modelling.services import build_model, load_whole_model


class Breaking(VedutaError):
    """A change would break charts; `charts` are their names with what would be wrong."""

    code = "breaking"

    def __init__(self, charts: list[tuple[Any, str]]) -> None:
        super().__init__("This change breaks charts.", hint="Look at them first, or save anyway.")
        self.charts = charts


def change_model(
    user: User, dataset: Dataset, do: str, sent: dict[str, Any], revision: int, anyway: bool = False
) -> Dataset:
    """Make one edit (`do`) with what was sent for it.

    Raises Breaking if charts would not work any more, unless told to do it anyway, and VedutaError for one that cannot
    be made."""
    must_build(user)
    with transaction.atomic():
        dataset = Dataset.objects.select_for_update().select_related("current").get(pk=dataset.pk)
        last = dataset.model_versions.select_related("saved_by").first()
        hint = "Load the page again, then make your change."
        must_build_on(dataset.model_revision, revision, dataset, "this model", last and last.saved_by, hint)
        made = edit.apply(do, sent, dataset.model_definition, load_whole_model(dataset))
        _keep(user, dataset, made, anyway)
    return dataset


def add_number(user: User, dataset: Dataset, of: str, count: int) -> tuple[Dataset, str]:
    """Make a parameter with which people say how many of something are kept, and first as many as now.

    Gives its id too."""
    plain = f"Top n of {of}" if of else "Top n"
    names = (plain if number == 1 else f"{plain} {number}" for number in itertools.count(1))
    taken = {each.name.casefold() for each in dataset.model_definition.parameters}
    name = next(each for each in names if each.casefold() not in taken)
    parameter = {"name": name, "default": [str(count)], "low": 1, "step": 1}
    changed = change_model(user, dataset, "save_parameter", parameter, dataset.model_revision)
    return changed, changed.model_definition.parameters[-1].id


def bring_back_model(user: User, dataset: Dataset, number: int) -> Dataset:
    """Make an earlier model the current one."""
    must_build(user)
    with transaction.atomic():
        dataset = Dataset.objects.select_for_update().select_related("current").get(pk=dataset.pk)
        earlier = get_numbered(dataset.model_versions.all(), number, "this model")
        _keep(user, dataset, load_model(earlier.definition), True)
    return dataset


def _keep(user: User, dataset: Dataset, made: ModelDefinition, anyway: bool) -> None:
    before = load_whole_model(dataset)
    _check_rules(user, dataset, before, made)
    if not dataset.model_versions.exists():
        ModelVersion.objects.create(dataset=dataset, number=dataset.model_revision, definition=dataset.model)
    dataset.model = made.model_dump(mode="json")
    after = build_model(dataset)
    if not anyway and (broken := list_newly_broken(dataset, before, after)):
        raise Breaking(broken)
    dataset.model_revision += 1
    dataset.save(update_fields=["model", "model_revision", "updated_at"])
    ModelVersion.objects.create(dataset=dataset, number=dataset.model_revision, definition=dataset.model, saved_by=user)


def _check_rules(user: User, dataset: Dataset, before: Model, made: ModelDefinition) -> None:
    """Rules hold after every change.

    Stewards and whoever made the dataset say who sees which rows; whoever is bound by rules leaves alone what these
    rest on."""
    old = before.definition
    if is_bound(dataset, user):
        changed = {
            "its rules": made.rules != old.rules,
            "its tables and joins": (made.tables, made.joins) != (old.tables, old.joins),
            "a formula that its rules read": _index_rule_formulas(made) != _index_rule_formulas(old),
        }
        for what, is_changed in changed.items():
            if is_changed:
                raise RowAccessDenied(
                    f"You may see only some rows of this model, so you cannot change {what}.", hint="Ask a steward."
                )
    if made.rules != old.rules:
        must_own(user, dataset, "say who sees which of its rows")
        names = {each.name: each for each in old.rules}, {each.name: each for each in made.rules}
        changed_rules = [name for name in {**names[0], **names[1]} if names[0].get(name) != names[1].get(name)]
        keep(user, What.RULED, f"the dataset “{dataset}”", join_names([f"“{name}”" for name in changed_rules]))
    trial = Dataset(pk=dataset.pk, name=dataset.name, fields=dataset.fields, current=dataset.current)
    trial.model = made.model_dump(mode="json")
    broken = {
        rule: problem
        for rule, problem in build_model(trial).ruling.list_broken_rules().items()
        if rule not in before.ruling.list_broken_rules()
    }
    for rule, problem in broken.items():
        raise VedutaError(f"The rule “{rule}” could not be applied any more: {problem}", hint="Change the rule first.")


def _index_rule_formulas(definition: ModelDefinition) -> dict[str, str]:
    """The texts of the formulas that the rules read, through others too."""
    texts = {f"formula.{each.id}": each.text for each in definition.formulas}
    formulas, waiting = {}, [name for rule in definition.rules for name in list_formula_fields(rule.text)]
    while waiting:
        name = waiting.pop()
        if name in texts and name not in formulas:
            formulas[name] = texts[name]
            waiting += list_formula_fields(texts[name])
    return formulas


def list_newly_broken(dataset: Dataset, before: Model, after: Model) -> list[tuple[Any, str]]:
    """The charts that work with one model and not with another, with what is wrong."""
    broken = []
    for chart in dataset.charts.filter(deleted_at=None):
        if not find_problem(chart, before) and (problem := find_problem(chart, after)):
            broken.append((chart, problem))
    return broken


def find_problem(chart: Any, model: Model) -> str:
    """What is wrong with a chart under a model, or ""."""
    try:
        definition = chart.load()
        model = model.apply_reader(definition.values)
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
                model.get_row_formula(group.field)
        unknown = {getattr(f, "parameter", "") for f in definition.only} | {
            definition.keep.parameter if definition.keep else ""
        }
        if missing := unknown - {"", *model.parameters}:
            return f"There is no parameter :{sorted(missing)[0]} any more."
    except VedutaError as problem:
        return str(problem)
    return ""


def _must_reach(model: Model, names: AbstractSet[str], groups: list[tuple[str, str]]) -> None:
    if not names or not groups:
        return
    homes = {model.find_home({name}) for name in names}
    for field, grain in groups:
        if not any(model.reaches(home, field, grain) for home in homes):
            raise DefinitionProblem(f"“{model.schema[field].name}” does not reach what is measured.", where=field)
