"""Bringing datasets up to date: taking rows in, running the steps, making a version current; then what follows.

A dataset's readers keep its current version until the new one is whole; whatever goes wrong changes nothing.
"""

from __future__ import annotations

import logging
import shutil
import uuid
from dataclasses import asdict
from typing import Any

import polars as pl
from django.conf import settings
from django.db import IntegrityError, transaction
from django.utils import timezone

from veduta.core.data.fields import Field, Kind, Schema
from veduta.core.errors import VedutaError
from veduta.core.query.filters import Context
from veduta.core.shaping.flow import Flow, Run, StepReport
from veduta.core.shaping.shaping import Shaping, fill_in_rows, shape
from veduta.web.accounts.access import must_build
from veduta.web.accounts.models import User
from veduta.web.datasets.binding import must_see_all
from veduta.web.datasets.lineage import followers_in_order
from veduta.web.datasets.modelling import rules_still_hold
from veduta.web.datasets.models import Dataset, Refresh, Upload, Version
from veduta.web.datasets.store import read_upload, table_of, write_rows
from veduta.web.pages.middleware import FULL_DISK, is_full_disk

logger = logging.getLogger("veduta.datasets")
TRIES = 3
CUT_OFF = "It was cut off when the server stopped. The dataset is as it was before."


class Stopped(VedutaError):
    """Somebody stopped the refresh."""

    code = "stopped"


def ask_for(user: User | None, dataset: Dataset, cause: str, **more: Any) -> Refresh:
    """Have a dataset brought up to date in the background. `user` is None for what Veduta does by itself."""
    from veduta.web.datasets.tasks import work_off

    if user is not None:
        must_build(user)
    refresh = Refresh.objects.create(dataset=dataset, cause=cause, started_by=user, **more)
    work_off.enqueue()
    return refresh


def stop(user: User, refresh: Refresh) -> None:
    """Stop a refresh: at once if it waits, else at its next stage."""
    must_build(user)
    waiting = Refresh.objects.filter(pk=refresh.pk, state=Refresh.State.QUEUED)
    if waiting.update(state=Refresh.State.CANCELLED, finished_at=timezone.now(), message="Stopped before it began."):
        _tell_upload(refresh, Upload.State.CHECKING, "")
    else:
        Refresh.objects.filter(pk=refresh.pk, state=Refresh.State.RUNNING).update(stop=True)


def work_off() -> None:
    """Run what waits, in order, until nothing waits."""
    while True:
        busy = Refresh.objects.filter(state=Refresh.State.RUNNING).values("dataset")
        waiting = Refresh.objects.filter(state=Refresh.State.QUEUED).exclude(dataset__in=busy).order_by("pk").first()
        if waiting is None or not run(waiting.pk):
            return


def run(refresh_id: int) -> bool:
    """Run one refresh to its end. Returns False if another worker has it, or the dataset is being refreshed already."""
    try:
        with transaction.atomic():
            claimed = Refresh.objects.filter(pk=refresh_id, state=Refresh.State.QUEUED).update(
                state=Refresh.State.RUNNING, started_at=timezone.now(), message=""
            )
    except IntegrityError:
        return False
    if not claimed:
        return False
    refresh = Refresh.objects.select_related("dataset", "upload", "started_by").get(pk=refresh_id)
    try:
        _refresh(refresh)
    except Unchanged:
        _nothing_new(refresh)
    except Exception as error:
        _put_back(refresh, error)
    else:
        if not refresh.follows:
            refresh_followers(refresh.dataset, refresh)
    return True


def _refresh(refresh: Refresh) -> None:
    dataset, progress = refresh.dataset, Progress(refresh)
    if dataset.deleted_at:
        raise VedutaError(f"“{dataset.name}” was deleted meanwhile.")
    intake, taken = _take_in(refresh, progress)
    shaping = dataset.shaping
    if dataset.source_id or shaping.active:
        version, fields = _shape(dataset, intake, taken, shaping, refresh, progress)
    elif intake:
        version, fields = intake, taken
    else:
        raise VedutaError(f"“{dataset.name}” has no rows of its own yet.", hint="Bring in a file first.")
    progress.tick("Finishing", 0.99)
    _publish(refresh, version, fields, taken)


def _take_in(refresh: Refresh, progress: Progress) -> tuple[Version | None, list[Field]]:
    """The rows of the dataset's own source: a new file's or newly fetched ones, else those taken in before."""
    dataset, upload = refresh.dataset, refresh.upload
    before = dataset.intake
    fetches = dataset.source.get("kind") in ("feed", "table") and refresh.cause not in (
        Refresh.Cause.STEPS,
        Refresh.Cause.SOURCE,
    )
    if upload is None and not (fetches and before):
        return before, dataset.all_taken_fields
    upload = upload or _upload_of(dataset)
    try:
        if upload.is_fetched:
            from veduta.web.datasets.fetching import fetch_all

            marks = dataset.source.get("marks") if before and not refresh.upload_id else None
            last = _last_value(dataset, before)
            found = fetch_all(upload, lambda rows: progress.tick("Fetching", 0.3, rows), marks, last)
            if found.unchanged:
                raise Unchanged
            refresh.source_after = {
                **upload.about["source"],
                "marks": found.marks,
                "left_out": upload.about.get("left_out", []),
            }
        if refresh.upload_id:
            Upload.objects.filter(pk=upload.pk).update(state=Upload.State.READING)
        version = _new_version(refresh, upload.file_name)
        fields = read_upload(version, upload, progress.tick)
    finally:
        if upload.is_fetched:
            shutil.rmtree(upload.landing, ignore_errors=True)
    ids = {field.id for field in fields}
    fields = [*fields, *(field for field in dataset.all_taken_fields if field.id not in ids)]
    if before and dataset.taking.get("how", "full") != "full":
        version = _combined(refresh, before, version, fields)
    return version, fields


class Unchanged(Exception):
    """The source has nothing new."""


def _upload_of(dataset: Dataset) -> Upload:
    """What fetches the dataset's source again; it is not kept."""
    fields = list(dataset.taken_fields)
    return Upload(
        dataset=dataset,
        owner=dataset.created_by,
        file_name=dataset.intake.file_name,
        path=f"{uuid.uuid4().hex}.fetched",
        format=dataset.source["kind"],
        about={"source": dataset.source, "left_out": dataset.source.get("left_out", [])},
        fields=fields,
    )


def _last_value(dataset: Dataset, before: Version | None) -> Any:
    """The latest value taken in so far of the column that says what is new."""
    column = dataset.taking.get("since")
    if not before or not column or column not in before.kinds:
        return None
    return table_of(before.pk).scan([column]).select(pl.col(column).max()).collect().item()


def _combined(refresh: Refresh, before: Version, new: Version, fields: list[Field]) -> Version:
    """The rows before with the new ones: added below, or in the place of those with the same key."""
    keys = [key for key in refresh.dataset.taking.get("key", []) if key in new.kinds and key in before.kinds]
    old_rows, new_rows = ({f.id: f for f in fields if f.id in version.kinds} for version in (before, new))
    if differing := [
        new_rows[key].name for key in old_rows.keys() & new_rows.keys() if before.kinds[key] != new.kinds[key]
    ]:
        raise VedutaError(
            f"“{differing[0]}” came as another type than before, so the new rows cannot be added.",
            hint="Take all rows anew instead.",
        )
    old = table_of(before.pk).scan(list(old_rows))
    fresh = table_of(new.pk).scan(list(new_rows))
    if refresh.dataset.taking["how"] == "replace":
        if not keys:
            raise VedutaError(
                "The key by which rows are replaced is gone.", hint="Choose another key on the refreshes page."
            )
        fresh = fresh.unique(keys, keep="last", maintain_order=True)
        old = old.join(fresh.select(keys), on=keys, how="anti", nulls_equal=True, maintain_order="left")
    frame = pl.concat([old, fresh], how="diagonal").collect(engine="in-memory")
    version = _new_version(refresh, new.file_name)
    there = [field for field in fields if field.id in frame.columns]
    write_rows(version, frame.select([field.id for field in there]), there)
    new.delete()
    return version


def _new_version(refresh: Refresh, file_name: str = "") -> Version:
    return Version.objects.create(dataset=refresh.dataset, created_by=refresh.started_by, file_name=file_name)


def _shape(
    dataset: Dataset, intake: Version | None, taken: list[Field], shaping: Shaping, refresh: Refresh, progress: Progress
) -> tuple[Version, list[Field]]:
    progress.tick("Running the steps", 0.6)
    tables = Tables()
    flow = tables.source(dataset, intake, taken)
    start = flow.rows.select(pl.len()).collect().item()
    shaped = shape(shaping, flow, tables.run())
    fill_in_rows(shaping.active, shaped.reports, start)
    progress.tick("Storing the rows", 0.75)
    version = _new_version(refresh, intake.file_name if intake else "")
    version.intake, version.inputs = intake, tables.used
    version.reports = {key: report_data(report) for key, report in shaped.reports.items()}
    fields = list(shaped.schema)
    write_rows(version, shaped.frame, fields)
    return version, merged_fields(dataset.all_fields, fields)


class Tables:
    """Datasets as the flows that steps read: each at the version it has when it is first asked for.

    For a `reader` those are refused of which they may see only some rows; None is Veduta itself."""

    def __init__(self, reader: User | None = None) -> None:
        self.reader = reader
        self.used: dict[str, int] = {}
        self._flows: dict[str, Flow] = {}

    def run(self) -> Run:
        return Run(self.table, Context(timezone.localdate()), name_of_dataset, settings.MOST_ROWS)

    def table(self, dataset_id: str) -> Flow:
        """A dataset's rows. Raises VedutaError if it is gone or has none."""
        if dataset_id not in self._flows:
            dataset = Dataset.objects.select_related("current").filter(pk=_as_uuid(dataset_id)).first()
            if dataset is None:
                raise VedutaError("A dataset that a step uses is gone.", hint="Choose another one in the step.")
            must_see_all(self.reader, dataset, "use it in steps")
            self._flows[dataset_id] = flow_of(dataset.current_id, dataset.schema)
            self.used[dataset_id] = dataset.current_id
        return self._flows[dataset_id]

    def source(self, dataset: Dataset, intake: Version | None, taken: list[Field]) -> Flow:
        """The rows that a dataset's steps start from."""
        must_see_all(self.reader, dataset, "look at the rows that its steps start from")
        if dataset.source_id:
            if dataset.source.get("stage") == "taken":
                return self._taken_of(dataset.source_id)
            return self.table(dataset.source_id)
        if intake is None:
            raise VedutaError(f"“{dataset.name}” has no rows yet.", hint="Bring in a file first.")
        return taken_flow(intake, taken)

    def _taken_of(self, dataset_id: str) -> Flow:
        """The rows another dataset's own steps start from (for a duplicate with other steps)."""
        dataset = Dataset.objects.select_related("current__intake").filter(pk=dataset_id, deleted_at=None).first()
        if dataset is None or not dataset.current:
            raise VedutaError("The dataset this one is made from is gone or has no rows.")
        self.used[dataset_id] = dataset.current_id
        return self.source(dataset, dataset.intake, dataset.all_taken_fields)


def _as_uuid(text: str) -> str:
    try:
        return str(uuid.UUID(str(text)))
    except ValueError:
        raise VedutaError("No dataset is chosen yet.", hint="Choose one.") from None


def flow_of(version: int, schema: Schema) -> Flow:
    return Flow(table_of(version).scan([field.id for field in schema]), schema)


def taken_flow(intake: Version, taken: list[Field]) -> Flow:
    """A version's rows as they were taken in, with the kinds they were stored as."""
    fields, gone = [], {}
    for field in taken:
        if kind := intake.kinds.get(field.id):
            fields.append(field if field.kind == kind else field.model_copy(update={"kind": Kind(kind)}))
        else:
            gone[field.id] = field.name
    return flow_of(intake.pk, Schema(fields, gone))


def name_of_dataset(dataset_id: str) -> str:
    try:
        return Dataset.objects.values_list("name", flat=True).get(pk=_as_uuid(dataset_id))
    except (Dataset.DoesNotExist, VedutaError):
        return "a dataset that is gone"


def report_data(report: StepReport) -> dict[str, Any]:
    data = asdict(report)
    data["failures"] = {
        name: {"count": f["count"], "examples": f["examples"][:100]} for name, f in data["failures"].items()
    }
    return data


def merged_fields(old: list[Field], new: list[Field]) -> list[Field]:
    """The fields the steps gave, with what people set on the dataset's page; fields that are gone come last.

    A column whose name, kind or role the steps changed takes theirs."""
    known = {field.id: field for field in old}
    merged = []
    for field in new:
        was = known.get(field.id)
        if was and was.source == field.source and was.kind == field.kind:
            field = was
        elif was and was.source == field.source:
            field = field.model_copy(update={"name": was.name, "description": was.description, "hidden": was.hidden})
        merged.append(field)
    ids = {field.id for field in new}
    return [*merged, *(field for field in old if field.id not in ids)]


def _publish(refresh: Refresh, version: Version, fields: list[Field], taken: list[Field]) -> None:
    """Make the version current, all at once."""
    from veduta.web.datasets.services import changes_to, drop_old_versions

    dumped = [field.model_dump(mode="json") for field in fields]
    with transaction.atomic():
        dataset = Dataset.objects.select_for_update().get(pk=refresh.dataset_id)
        if Refresh.objects.filter(pk=refresh.pk, stop=True).exists():
            raise Stopped("Stopped. The dataset is as it was before.")
        changes = (
            changes_words(changes_to(dataset, [f for f in fields if f.id in version.kinds])) if dataset.current else {}
        )
        _add_changes_of_source(changes, dataset, version, taken)
        if version.number is None:
            version.number = (dataset.versions.exclude(number=None).values_list("number", flat=True).first() or 0) + 1
        version.state = Version.State.READY
        version.save()
        dataset.fields = dumped
        dataset.taken_fields = [field.model_dump(mode="json") for field in taken]
        dataset.current = version
        if source := getattr(refresh, "source_after", None):
            dataset.source = source
        with rules_still_hold(dataset):
            dataset.save()
        Refresh.objects.filter(pk=refresh.pk).update(
            state=Refresh.State.DONE,
            version=version,
            rows=version.rows,
            share=1,
            doing="",
            changes=changes,
            finished_at=timezone.now(),
        )
        _tell_upload(refresh, Upload.State.DONE, "")
    drop_old_versions(dataset)


def _add_changes_of_source(
    changes: dict[str, list[str]], dataset: Dataset, version: Version, taken: list[Field]
) -> None:
    """For a version that steps made: what is new or missing among the rows they started from."""
    before, after = dataset.intake, version.intake
    if before is None or after is None or before.pk == after.pk:
        return
    names = {field.id: field.name for field in taken}
    changes["missing"] = changes.get("missing", []) + [
        f"“{names.get(key, key)}” is missing from the source; no step asks for it."
        for key in before.kinds
        if key not in after.kinds
    ]
    changes["added"] = changes.get("added", []) + [
        f"“{names[key]}” is new in the source." for key in after.kinds if key not in before.kinds
    ]


def changes_words(changes: dict[str, list[dict[str, Any]]]) -> dict[str, list[str]]:
    """What a new version changed about the columns, each in a sentence."""

    def used(item: dict[str, Any]) -> str:
        names = [chart.name or "a chart without a name" for chart in item.get("charts", [])]
        return f" Used by {', '.join(names[:5])}{' and others' if len(names) > 5 else ''}." if names else ""

    return {
        "missing": [f"“{item['field'].name}” is missing.{used(item)}" for item in changes["missing"]],
        "retyped": [
            f"“{item['field'].name}” was {item['was']} and is now {item['now']}.{used(item)}"
            for item in changes["retyped"]
        ],
        "added": [f"“{item['field'].name}” is new." for item in changes["added"]],
    }


def _nothing_new(refresh: Refresh) -> None:
    Refresh.objects.filter(pk=refresh.pk).update(
        state=Refresh.State.DONE,
        version=refresh.dataset.current,
        rows=refresh.dataset.current.rows,
        share=1,
        doing="",
        message="Nothing new: the feed says that it has not changed.",
        finished_at=timezone.now(),
    )


def _put_back(refresh: Refresh, error: Exception) -> None:
    """After a failure: nothing of it stays but its message."""
    state = Refresh.State.FAILED
    if is_full_disk(error):
        message = str(FULL_DISK)
    elif isinstance(error, Stopped):
        state, message = Refresh.State.CANCELLED, str(error)
    elif isinstance(error, VedutaError):
        message = str(error)
    else:
        logger.exception("Refresh %s failed", refresh.pk)
        message = "It failed because of a fault on our side. The dataset is as it was before."
    refresh.dataset.versions.filter(number=None, shaped=None).exclude(pk=_current_intake(refresh)).delete()
    Refresh.objects.filter(pk=refresh.pk).update(state=state, message=message, doing="", finished_at=timezone.now())
    _tell_upload(refresh, Upload.State.FAILED, message)


def _current_intake(refresh: Refresh) -> int | None:
    return Dataset.objects.filter(pk=refresh.dataset_id).values_list("current__intake", flat=True).first()


def _tell_upload(refresh: Refresh, state: str, message: str) -> None:
    if refresh.upload_id:
        done = {"bytes_read": refresh.upload.size} if state == Upload.State.DONE else {"bytes_read": 0}
        Upload.objects.filter(pk=refresh.upload_id).update(state=state, message=message, **done)


def refresh_followers(dataset: Dataset, root: Refresh | None = None) -> None:
    """Everything made from this dataset, once, in order; what already waited for an earlier change waits no more."""
    for dataset_id in followers_in_order(dataset):
        follower = Dataset.objects.get(pk=dataset_id)
        follower.refreshes.filter(state=Refresh.State.QUEUED, cause=Refresh.Cause.SOURCE).delete()
        ask_for(None, follower, Refresh.Cause.SOURCE, root=root, follows=True)


class Progress:
    """Tells how far a refresh is, and stops it where somebody asked for that."""

    def __init__(self, refresh: Refresh) -> None:
        self.refresh = refresh

    def tick(self, doing: str, share: float, rows: int = 0, bytes_read: int = 0) -> None:
        """Raises Stopped if the refresh is to stop."""
        values: dict[str, Any] = {"doing": doing, "share": share}
        if rows:
            values["rows"] = rows
        Refresh.objects.filter(pk=self.refresh.pk).update(**values)
        if self.refresh.upload_id and rows:
            Upload.objects.filter(pk=self.refresh.upload_id).update(rows_read=rows, bytes_read=bytes_read)
        if Refresh.objects.filter(pk=self.refresh.pk, stop=True).exists():
            raise Stopped("Stopped. The dataset is as it was before.")


def recover() -> int:
    """After a crash: mark what was cut off, take half versions away, and have it done again. Returns how many."""
    Version.objects.filter(state=Version.State.LOADING).delete()
    Version.objects.filter(number=None, shaped=None).delete()
    broken = list(Refresh.objects.filter(state=Refresh.State.RUNNING).order_by("pk"))
    for refresh in broken:
        with transaction.atomic():
            Refresh.objects.filter(pk=refresh.pk).update(
                state=Refresh.State.INTERRUPTED, message=CUT_OFF, doing="", finished_at=timezone.now()
            )
            if refresh.tries >= TRIES:
                _tell_upload(
                    refresh, Upload.State.FAILED, f"{CUT_OFF} It was tried {TRIES} times; start it again by hand."
                )
                continue
            _tell_upload(refresh, Upload.State.QUEUED, "")
            Refresh.objects.create(
                dataset=refresh.dataset,
                cause=Refresh.Cause.AGAIN,
                started_by=refresh.started_by,
                upload=refresh.upload,
                root=refresh.root,
                follows=refresh.follows,
                tries=refresh.tries + 1,
            )
    return len(broken)
