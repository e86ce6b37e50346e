"""Work on a dataset's shaping steps.

Drafts, previews of the rows behind a step, applying the steps; and datasets made from datasets."""

from __future__ import annotations

import dataclasses
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

import polars as pl
from django.db import transaction

from veduta.core.data.fields import Schema
from veduta.core.errors import DefinitionProblem, VedutaError
from veduta.core.shaping.flow import Flow, Run
from veduta.core.shaping.matching import KeySuggestion, MatchShare, match_share, suggest_keys
from veduta.core.shaping.shaping import Shaping, StepsPreview, apply_steps, load_shaping, load_step, look
from veduta.core.shaping.steps import ShapingStep
from veduta.core.shaping.steps.tables import JoinTables
from veduta.web.accounts.access import must_build
from veduta.web.accounts.models import User
from veduta.web.common.revisions import must_build_on
from veduta.web.datasets.models import Dataset, Refresh
from veduta.web.datasets.refreshes import ask_for
from veduta.web.datasets.row_access import must_see_all
from veduta.web.datasets.upstream import must_not_go_round
from veduta.web.shaping.tables import ShapingTables

SAMPLE = 10_000


@dataclass
class ShapingDraft:
    """Steps being worked on, read one by one, so that one that is unfinished does not hide the others.

    `explore` is a look at a dataset's rows that is not kept: its steps start behind the dataset's own. A `reader` who
    may see only some rows of one of the datasets is refused."""

    dataset: Dataset
    shaping: Shaping
    reader: User
    explore: bool = False
    tables: ShapingTables = dataclasses.field(init=False)

    def __post_init__(self) -> None:
        self.tables = ShapingTables(self.reader)

    @property
    def run(self) -> Run:
        return self.tables.run()

    def start(self, sample: bool) -> tuple[Flow, int]:
        """The rows before the first step, or the first of them, and how many there are. Raises VedutaError."""
        if self.explore:
            flow = self.tables.table(str(self.dataset.pk))
        else:
            flow = self.tables.source(self.dataset, self.dataset.intake, self.dataset.all_taken_fields)
        rows = flow.rows.select(pl.len()).collect().item()
        return (flow.replace_rows(flow.rows.head(SAMPLE)) if sample else flow), rows

    def look(self, step_id: str, sample: bool) -> tuple[StepsPreview, int]:
        """The rows behind the step `at` (the last if it is empty), or before all steps for "start"."""
        flow, rows = self.start(sample)
        if step_id == "start":
            only_source = look(Shaping(), flow, self.run)
            later = look(self.shaping, flow, self.run)
            return StepsPreview(
                only_source.flow, only_source.before, later.reports, later.schemas, later.problem, later.stopped_at
            ), rows
        return look(self.shaping, flow, self.run, step_id), rows

    def preview_before(self, step_id: str, sample: bool = False, passing_over: bool = False) -> Flow:
        """The rows that come to a step; behind all steps for one that is not in the list yet.

        `passing_over` leaves out steps that cannot be worked out, such as unfinished ones; else they raise VedutaError.
        """
        flow, _ = self.start(sample)
        flow = Flow(flow.rows, Schema(flow.fields, {**self.shaping.names, **flow.schema.gone}))
        steps = list(self.shaping.steps)
        position = next((i for i, step in enumerate(steps) if step.id == step_id), len(steps))
        if not passing_over:
            return apply_steps(steps[:position], flow, self.run)
        for step in steps[:position]:
            with suppress(VedutaError):
                flow = apply_steps([step], flow, self.run)
        return flow

    def match(self, step: JoinTables) -> MatchShare:
        """How the keys of a join match, over all rows of both sides."""
        flow = self.preview_before(step.id)
        return match_share(flow, self.tables.table(step.dataset), step.list_pairs())

    def list_key_suggestions(self, step_id: str, dataset_id: str) -> list[KeySuggestion]:
        return suggest_keys(self.preview_before(step_id, sample=True), self.tables.table(dataset_id))


def add_names(shaping: Shaping, looked: StepsPreview) -> Shaping:
    """The shaping with the names of all columns seen on the way, so that one that goes can be named."""
    names = dict(shaping.names)
    for schema in [*looked.schemas.values(), looked.flow.schema]:
        names |= {field.id: field.name for field in schema}
    return shaping.model_copy(update={"names": names})


def keep_draft(user: User, dataset: Dataset, shaping: Shaping, base: int) -> int:
    """Keep the steps being worked on; returns the new revision. Raises Conflict if somebody else was faster."""
    must_build(user)
    must_see_all(user, dataset, "change its steps")
    with transaction.atomic():
        fresh = Dataset.objects.select_for_update().select_related("draft_by").get(pk=dataset.pk)
        hint = "Load the page again to see them."
        must_build_on(fresh.draft_revision, base, fresh, "these steps", fresh.draft_by, hint)
        must_not_go_round(fresh, shaping.list_datasets())
        data = shaping.model_dump(mode="json")
        if fresh.drafted.steps == shaping.steps:
            return fresh.draft_revision
        fresh.draft = None if data["steps"] == fresh.steps.get("steps", []) else data
        fresh.draft_revision, fresh.draft_by = base + 1, user
        fresh.save(update_fields=["draft", "draft_revision", "draft_by"])
    return base + 1


def apply_draft(user: User, dataset: Dataset) -> Refresh:
    """Put the drafted steps into force: they are run over all rows, and the result becomes the newest version.

    Raises VedutaError if they do not fit the rows; nothing is changed then."""
    must_build(user)
    shaping = dataset.drafted
    must_not_go_round(dataset, shaping.list_datasets())
    draft = ShapingDraft(dataset, shaping, user)
    looked, _ = draft.look("", sample=True)
    if looked.problem:
        raise looked.problem
    shaping = add_names(shaping, looked)
    with transaction.atomic():
        fresh = Dataset.objects.select_for_update().get(pk=dataset.pk)
        fresh.steps, fresh.draft = shaping.model_dump(mode="json"), None
        fresh.draft_revision += 1
        fresh.save(update_fields=["steps", "draft", "draft_revision", "updated_at"])
    return ask_for(user, fresh, Refresh.Cause.STEPS)


def discard_draft(user: User, dataset: Dataset) -> None:
    must_build(user)
    Dataset.objects.filter(pk=dataset.pk).update(draft=None, draft_revision=dataset.draft_revision + 1)


def derive(user: User, source: Dataset, name: str, shaping: Shaping, stage: str = "result") -> Dataset:
    """A dataset made from another one by steps, kept in step with it.

    With `stage` "taken" it starts from the rows the other one's own steps start from: a duplicate with other steps."""
    must_build(user)
    source.schema  # noqa: B018  raises if there are no rows to start from
    draft = ShapingDraft(source, shaping, user, explore=stage == "result")
    looked, _ = draft.look("", sample=True)
    if looked.problem:
        raise looked.problem
    dataset = Dataset.objects.create(
        name=make_free_dataset_name(name.strip()[:190] or f"{source.name}, shaped"),
        created_by=user,
        source={"kind": "dataset", "dataset": str(source.pk), "stage": stage},
        steps=add_names(shaping, looked).model_dump(mode="json"),
    )
    ask_for(user, dataset, Refresh.Cause.STEPS)
    dataset.refresh_from_db()
    return dataset


def duplicate(user: User, dataset: Dataset) -> Dataset:
    """A second dataset with the same source rows and the same steps, to change one thing in."""
    return derive(user, dataset, f"{dataset.name} (copy)", dataset.shaping, "taken")


def make_free_dataset_name(name: str) -> str:
    taken = {each.casefold() for each in Dataset.objects.filter(deleted_at=None).values_list("name", flat=True)}
    result, number = name, 2
    while result.casefold() in taken:
        result, number = f"{name} {number}", number + 1
    return result


def read_steps(data: Any) -> Shaping:
    """Steps as a page sent them. Raises DefinitionProblem for the first that is not finished."""
    if not isinstance(data, list):
        raise DefinitionProblem("The steps were not readable.", hint="Load the page again.")
    steps: list[ShapingStep] = [load_step(each) for each in data]
    return load_shaping({"steps": [step.model_dump(mode="json") for step in steps]})
