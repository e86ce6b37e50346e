"""An ordered list of steps, how it is stored, and running it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated, Any, Union

import polars as pl
from pydantic import Field, ValidationError

from veduta.core.data.fields import Frozen, Schema
from veduta.core.errors import DefinitionProblem, MissingField, VedutaError, explain_validation_error
from veduta.core.shaping.flow import Flow, Run, StepReport, collect_rows
from veduta.core.shaping.steps import ShapingStep, kinds
from veduta.core.stored import load

VERSION = 1
MOST_STEPS = 200
if TYPE_CHECKING:
    AnyStep = ShapingStep
else:
    AnyStep = Annotated[Union[tuple(kinds.values())], Field(discriminator="do")]  # noqa: UP007


class Shaping(Frozen):
    """The steps of a dataset. `names` are the last known names of columns, for saying which one is gone."""

    version: int = VERSION
    steps: tuple[AnyStep, ...] = Field((), max_length=MOST_STEPS)
    names: dict[str, str] = {}

    @property
    def active(self) -> list[ShapingStep]:
        return [step for step in self.steps if not step.off]

    def list_datasets(self) -> set[str]:
        """The ids of the other datasets that its active steps read."""
        return set().union(*(step.list_datasets() for step in self.active))

    def get_step(self, step_id: str) -> ShapingStep:
        for step in self.steps:
            if step.id == step_id:
                return step
        raise DefinitionProblem("That step is not there any more.", hint="Load the page again.")


def load_shaping(data: dict[str, Any]) -> Shaping:
    """A stored shaping. Raises DefinitionProblem if it cannot be used, saying which step is wrong."""
    shaping = load(Shaping, data or {}, name="list of steps", version=VERSION, explain=_make_unfinished_problem)
    if len({step.id for step in shaping.steps}) < len(shaping.steps):
        raise DefinitionProblem("Two steps have the same id.", where="steps")
    return shaping


def _make_unfinished_problem(error: ValidationError) -> DefinitionProblem:
    return DefinitionProblem(describe_validation_error(error), where="steps", hint="Fill in what is missing.")


def load_step(data: dict[str, Any]) -> ShapingStep:
    """One step. Raises DefinitionProblem naming the setting that is missing or wrong."""
    kind = kinds.get(str(data.get("do", "")) if isinstance(data, dict) else "")
    if kind is None:
        raise DefinitionProblem("There is no such step.", hint="Choose one from the list.")
    try:
        return kind.model_validate(data)
    except ValidationError as error:
        raise DefinitionProblem(describe_validation_error(error, kind), where=data["do"]) from None


def describe_validation_error(error: ValidationError, kind: type[ShapingStep] | None = None) -> str:
    """The first thing that is wrong with a definition, by the label of its setting."""
    first = error.errors(include_url=False)[0]
    path = [part for part in first["loc"] if isinstance(part, str)]
    for part in path:
        kind = kinds.get(part, kind)
    setting = next((part for part in reversed(path) if kind and part in kind.model_fields), "")
    label = kind.model_fields[setting].title if kind and setting else "A setting"
    if first["type"] in ("missing", "too_short", "string_too_short") or first.get("input") in (None, ""):
        return f"“{label}” is not filled in yet."
    return f"“{label}” does not fit: {explain_validation_error(error)[0].lower()}."


def apply_steps(steps: Iterable[ShapingStep], flow: Flow, run: Run) -> Flow:
    """The flow behind the last active step.

    Raises VedutaError for the first step that does not fit; its report says so too."""
    for step in steps:
        if not step.off:
            flow = apply_step(step, flow, run)
    return flow


def apply_step(step: ShapingStep, flow: Flow, run: Run) -> Flow:
    report = run.report(step.id)
    report.words, report.columns_in = step.describe(flow.schema, run), len(flow.fields)
    try:
        after = step.apply(flow, run)
    except MissingField as problem:
        gone = DefinitionProblem(
            f"The column “{flow.schema.gone.get(problem.where, problem.where)}” is not there at this step.",
            where=step.id,
            hint="Choose another column in it, or switch the step off.",
        )
        report.problem = gone.as_data()
        raise gone from None
    except VedutaError as problem:
        report.problem = problem.as_data()
        raise
    except pl.exceptions.PolarsError as error:
        failed = DefinitionProblem(
            f"This step cannot be worked out: {str(error).splitlines()[0][:200]}.", where=step.id
        )
        report.problem = failed.as_data()
        raise failed from None
    report.columns_out = len(after.fields)
    return run.settle(step.id, after, step.keeps_rows)


@dataclass
class Shaped:
    """The rows the steps gave, their fields, and what each step did."""

    frame: pl.DataFrame
    schema: Schema
    reports: dict[str, StepReport]


def shape(shaping: Shaping, flow: Flow, run: Run) -> Shaped:
    """Work all steps out in one go. Raises VedutaError if a step does not fit the rows."""
    known = Schema(flow.fields, {**shaping.names, **flow.schema.gone})
    final = apply_steps(shaping.active, Flow(flow.rows, known), run)
    try:
        frame = collect_rows(final.rows.select([field.id for field in final.fields]))
    except pl.exceptions.PolarsError as error:
        raise DefinitionProblem(f"The steps cannot be worked out: {str(error).splitlines()[0][:200]}.") from None
    if frame.height > run.most_rows:
        raise DefinitionProblem(f"The steps make {frame.height:,} rows; at most {run.most_rows:,} are possible.")
    return Shaped(frame, final.schema, run.reports)


def fill_in_rows(steps: Iterable[ShapingStep], reports: dict[str, StepReport], rows: int) -> None:
    """Complete what the counters did not see: rows before each step, and behind those that keep their number."""
    for step in steps:
        report = reports.get(step.id)
        if step.off or report is None:
            continue
        report.rows_in = rows
        if report.rows_out is None and step.keeps_rows:
            report.rows_out = rows
        rows = report.rows_out if report.rows_out is not None else rows


@dataclass
class StepsPreview:
    """A look at the rows behind one step: the frame, its schema, and the reports of all steps up to it."""

    flow: Flow
    before: Flow
    reports: dict[str, StepReport]
    schemas: dict[str, Schema]
    """The columns before each step, for saying the step in words."""
    problem: VedutaError | None = None
    stopped_at: str = ""


class _Looking(Run):
    """Works each step out at once, so that each one's rows and failures are known."""

    def settle(self, step_id: str, flow: Flow, keeps_rows: bool) -> Flow:
        frame = collect_rows(flow.rows)
        self.report(step_id).rows_out = frame.height
        return flow.replace_rows(frame.lazy())


def look(shaping: Shaping, flow: Flow, run: Run, step_id: str = "") -> StepsPreview:
    """Follow the steps one by one up to the step `step_id` (or the last).

    A step that fails stops it there; what came before is shown."""
    looking = _Looking(run.table, run.context, run.table_name, run.most_rows)
    flow = Flow(flow.rows, Schema(flow.fields, {**shaping.names, **flow.schema.gone}))
    before, problem, stopped, schemas = flow, None, "", {}
    rows = flow.rows.select(pl.len()).collect().item()
    for step in shaping.steps:
        schemas[step.id] = flow.schema
        if not step.off:
            looking.report(step.id).rows_in = rows
            try:
                before, flow = flow, apply_step(step, flow, looking)
            except (VedutaError, pl.exceptions.PolarsError) as error:
                if not isinstance(error, VedutaError):
                    error = DefinitionProblem(
                        f"This step cannot be worked out: {str(error).splitlines()[0][:200]}.", where=step.id
                    )
                    looking.report(step.id).problem = error.as_data()
                problem, stopped = error, step.id
                break
            rows = looking.report(step.id).rows_out
        if step.id == step_id:
            if step.off:
                before = flow
            break
    return StepsPreview(flow, before, looking.reports, schemas, problem, stopped)
