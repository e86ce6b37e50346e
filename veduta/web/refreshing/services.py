"""Bringing datasets up to date: taking rows in, running the steps, making a version current; then what follows.

A dataset's readers keep its current version until the new one is whole; whatever goes wrong changes nothing.
"""

from __future__ import annotations

import datetime as dt
import logging
import shutil
import uuid
from collections.abc import Callable
from typing import Any

import polars as pl
from django.db import transaction
from django.db.models import Q
from django.utils import timezone

from veduta.core.data.combining import append_rows, replace_rows
from veduta.core.data.field_changes import merge_fields
from veduta.core.data.fields import DataField
from veduta.core.data.sources import Fetched, Source, load_source
from veduta.core.errors import QueryCancelled, SourceUnreachable, VedutaError
from veduta.core.phrases import pluralise
from veduta.core.shaping.shaping import Shaping, fill_in_rows, shape
from veduta.web.accounts.access import must_build
from veduta.web.accounts.models import User
from veduta.web.common.disk import FULL_DISK, is_full_disk
from veduta.web.common.revisions import find_next_number
from veduta.web.datasets.changes import find_changes
from veduta.web.datasets.models import TAKING_WORDS, Dataset, Refresh, Upload, Version
from veduta.web.datasets.refreshes import Progress, ask_again, refresh_followers, tell_upload
from veduta.web.datasets.store import get_table, read_upload, write_rows
from veduta.web.datasets.upstream import list_all_sources
from veduta.web.datasets.versions import drop_old_versions
from veduta.web.jobs import queue
from veduta.web.modelling.services import check_rules_hold
from veduta.web.shaping.tables import ShapingTables, report_data
from veduta.web.sources.services import fetch_all

logger = logging.getLogger("veduta.datasets")


def set_taking(user: User, dataset: Dataset, how: str, key: list[str], since: str) -> None:
    """Say how newer rows come in: all anew, added below, or in the place of those with the same key."""
    must_build(user)
    known = {field.id for field in dataset.all_taken_fields}
    if how not in TAKING_WORDS:
        raise VedutaError("That way of taking rows in does not exist.", hint="Choose one from the list.")
    if how == "replace" and not key:
        raise VedutaError("By which columns are rows the same?", hint="Choose at least one key column.")
    if set(key) - known or (since and since not in known):
        raise VedutaError("A column that was chosen is gone.", hint="Choose another one.")
    dataset.taking = {"how": how, "key": key if how == "replace" else [], "since": since if how != "full" else ""}
    dataset.save(update_fields=["taking"])


after_refresh: list[Callable[[Dataset], None]] = []
"""What is done once a dataset has new rows."""


def run(refresh: Refresh) -> None:
    """Do one refresh, which was taken from the queue, to its end."""
    try:
        _refresh(refresh)
    except Unchanged:
        _finish_unchanged(refresh)
    except Exception as error:
        _put_back(refresh, error)
    else:
        if not refresh.follows:
            refresh_followers(refresh.dataset, refresh)
        for follow_up in after_refresh:
            follow_up(refresh.dataset)


def may_start(refresh: Refresh) -> bool:
    """Whether a job may start.

    It may if nothing is running for its dataset, and nothing that was asked for earlier waits for a dataset that it
    reads."""
    open_ = Refresh.objects.filter(state__in=[Refresh.State.QUEUED, Refresh.State.RUNNING])
    if open_.filter(dataset=refresh.dataset_id, state=Refresh.State.RUNNING).exists():
        return False
    return not open_.filter(dataset__in=list_all_sources(refresh.dataset), pk__lt=refresh.pk).exists()


def cut_off(refresh: Refresh) -> None:
    """After a worker died: take half versions away, and have it done again, unless somebody had stopped it."""
    refreshed = Refresh.objects.filter(state=Refresh.State.RUNNING).values("dataset")
    half = Version.objects.filter(Q(state=Version.State.LOADING) | Q(number=None, shaped=None))
    half.exclude(dataset__in=refreshed).delete()
    if refresh.stop:
        tell_upload(refresh, Upload.State.CHECKING, "")
    elif refresh.tries < queue.TRIES:
        tell_upload(refresh, Upload.State.QUEUED, "")
        ask_again(refresh)
    else:
        tried = f"It was cut off {queue.TRIES} times when the server stopped; start it again by hand."
        tell_upload(refresh, Upload.State.FAILED, tried)


queue.kinds.append(
    queue.JobType("what somebody asked for", lambda: Refresh.objects.exclude(started_by=None), run, cut_off, may_start)
)
queue.kinds.append(
    queue.JobType("by itself", lambda: Refresh.objects.filter(started_by=None), run, cut_off, may_start, leaves=1)
)


def _refresh(refresh: Refresh) -> None:
    dataset, progress = refresh.dataset, Progress(refresh)
    if dataset.deleted_at:
        raise VedutaError(f"“{dataset.name}” was deleted meanwhile.")
    intake, taken, source = _take_in(refresh, progress)
    shaping = dataset.shaping
    if dataset.source_id or shaping.active:
        version, fields = _shape(dataset, intake, taken, shaping, refresh, progress)
    elif intake:
        version, fields = intake, taken
    else:
        raise VedutaError(f"“{dataset.name}” has no rows of its own yet.", hint="Bring in a file first.")
    progress.tick("Finishing", 0.99)
    _publish(refresh, version, fields, taken, source)


def _take_in(refresh: Refresh, progress: Progress) -> tuple[Version | None, list[DataField], Source | None]:
    """The rows of the dataset's own source, and the source if it is a new one.

    A new file's or newly fetched ones, else those imported before."""
    dataset, upload = refresh.dataset, refresh.upload
    before = dataset.intake
    origin, source = dataset.origin, None
    fetches = isinstance(origin, Fetched) and refresh.cause not in (Refresh.Cause.STEPS, Refresh.Cause.SOURCE)
    if upload is None and not (fetches and before):
        return before, dataset.all_taken_fields, None
    upload = upload or _upload_of(dataset)
    try:
        if upload.is_fetched:
            again = before and not refresh.upload_id and isinstance(origin, Fetched)
            marks = origin.marks if again and isinstance(origin, Fetched) else None
            last = _find_last_value(dataset, before)
            brought = fetch_all(
                upload, lambda rows: progress.tick("Fetching", 0.3, rows), progress.is_wanted, marks, last
            )
            if brought.unchanged:
                raise Unchanged
            if refresh.upload_id:  # what a later refresh fetches is not kept as an upload
                upload.save()
            left_out = tuple(upload.about.get("left_out", []))
            fetched = load_source(upload.about["source"])
            source = fetched.model_copy(update={"marks": brought.marks, "left_out": left_out})
        if refresh.upload_id:
            Upload.objects.filter(pk=upload.pk).update(state=Upload.State.READING)
        version = _create_version(refresh, upload.file_name)
        fields = read_upload(version, upload, progress.tick)
    finally:
        if upload.is_fetched:
            shutil.rmtree(upload.landing, ignore_errors=True)
    ids = {field.id for field in fields}
    fields = [*fields, *(field for field in dataset.all_taken_fields if field.id not in ids)]
    if before and dataset.taking.get("how", "full") != "full":
        version = _combine_versions(refresh, before, version, fields)
    return version, fields, source


class Unchanged(Exception):
    """The source has nothing new."""


def _upload_of(dataset: Dataset) -> Upload:
    """What fetches the dataset's source again; it is not kept."""
    fields = list(dataset.taken_fields)
    return Upload(
        dataset=dataset,
        owner=dataset.created_by,
        file_name=dataset.intake.file_name if dataset.intake else "",
        path=f"{uuid.uuid4().hex}.fetched",
        format=dataset.origin.kind,
        about={"source": dataset.source, "left_out": dataset.source.get("left_out", [])},
        fields=fields,
    )


def _find_last_value(dataset: Dataset, before: Version | None) -> Any:
    """The latest value taken in so far of the column that says what is new."""
    column = dataset.taking.get("since")
    if not before or not column or column not in before.kinds:
        return None
    return get_table(before.pk).scan([column]).select(pl.col(column).max()).collect().item()


def _combine_versions(refresh: Refresh, before: Version, new: Version, fields: list[DataField]) -> Version:
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
    old = get_table(before.pk).scan(list(old_rows))
    fresh = get_table(new.pk).scan(list(new_rows))
    if refresh.dataset.taking["how"] == "replace":
        if not keys:
            raise VedutaError(
                "The key by which rows are replaced is gone.", hint="Choose another key on the refreshes page."
            )
        combined = replace_rows(old, fresh, keys)
    else:
        combined = append_rows(old, fresh)
    frame = combined.collect(engine="in-memory")
    version = _create_version(refresh, new.file_name)
    there = [field for field in fields if field.id in frame.columns]
    write_rows(version, frame.select([field.id for field in there]), there)
    new.delete()
    return version


def _create_version(refresh: Refresh, file_name: str = "") -> Version:
    return Version.objects.create(dataset=refresh.dataset, created_by=refresh.started_by, file_name=file_name)


def _shape(
    dataset: Dataset,
    intake: Version | None,
    taken: list[DataField],
    shaping: Shaping,
    refresh: Refresh,
    progress: Progress,
) -> tuple[Version, list[DataField]]:
    progress.tick("Running the steps", 0.6)
    tables = ShapingTables()
    flow = tables.source(dataset, intake, taken)
    start = flow.rows.select(pl.len()).collect().item()
    shaped = shape(shaping, flow, tables.run())
    fill_in_rows(shaping.active, shaped.reports, start)
    progress.tick("Storing the rows", 0.75)
    version = _create_version(refresh, intake.file_name if intake else "")
    version.intake, version.inputs = intake, tables.used
    version.reports = {key: report_data(report) for key, report in shaped.reports.items()}
    fields = list(shaped.schema)
    write_rows(version, shaped.frame, fields)
    return version, merge_fields(dataset.all_fields, fields)


def _publish(
    refresh: Refresh, version: Version, fields: list[DataField], taken: list[DataField], source: Source | None
) -> None:
    """Make the version current, all at once."""
    dumped = [field.model_dump(mode="json") for field in fields]
    with transaction.atomic():
        dataset = Dataset.objects.select_for_update().get(pk=refresh.dataset_id)
        queue.must_hold(refresh)
        there = [field for field in fields if field.id in version.kinds]
        changes = find_changes(dataset, there).describe() if dataset.current else {}
        _add_changes_of_source(changes, dataset, version, taken)
        if version.number is None:
            version.number = find_next_number(dataset.versions.all())
        version.state = Version.State.READY
        version.save()
        dataset.fields = dumped
        dataset.taken_fields = [field.model_dump(mode="json") for field in taken]
        dataset.current = version
        if source:
            dataset.source = source.model_dump(mode="json")
        with check_rules_hold(dataset):
            dataset.save()
        queue.finish(refresh, Refresh.State.DONE, "", version=version, rows=version.rows, share=1, changes=changes)
        tell_upload(refresh, Upload.State.DONE, "")
    drop_old_versions(dataset)


def _add_changes_of_source(
    changes: dict[str, list[str]], dataset: Dataset, version: Version, taken: list[DataField]
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


def _finish_unchanged(refresh: Refresh) -> None:
    current = refresh.dataset.current
    rows = current.rows if current else 0
    words = "Nothing new: the feed says that it has not changed."
    queue.finish(refresh, Refresh.State.DONE, words, version=current, rows=rows, share=1)


def _put_back(refresh: Refresh, error: Exception) -> None:
    """After a failure: nothing of it stays but its message."""
    with transaction.atomic():
        state = Refresh.State.CANCELLED if isinstance(error, QueryCancelled) else Refresh.State.FAILED
        message = _describe_error(refresh, error)
        if not queue.finish(refresh, state, message):
            return  # it was taken back, and what it left is gone already
        refresh.dataset.versions.filter(number=None, shaped=None).exclude(pk=_find_current_intake(refresh)).delete()
        tell_upload(refresh, Upload.State.FAILED, message)
        if _is_tried_again(refresh, error):
            ask_again(refresh, not_before=timezone.now() + _choose_pause(refresh))


def _describe_error(refresh: Refresh, error: Exception) -> str:
    if is_full_disk(error):
        return str(FULL_DISK)
    if not isinstance(error, VedutaError):
        logger.error("Refresh %s failed", refresh.pk, exc_info=error)
        return "It failed because of a fault on our side. The dataset is as it was before."
    again = f" It is tried again in {pluralise(_choose_pause(refresh).seconds // 60, 'minute')}."
    return f"{error}{again if _is_tried_again(refresh, error) else ''}"


def _is_tried_again(refresh: Refresh, error: Exception) -> bool:
    """What nobody waits for is tried again later if a feed or a database did not answer."""
    return isinstance(error, SourceUnreachable) and refresh.started_by is None and refresh.tries < queue.TRIES


def _choose_pause(refresh: Refresh) -> dt.timedelta:
    return dt.timedelta(minutes=5 ** (refresh.tries - 1))


def _find_current_intake(refresh: Refresh) -> int | None:
    return Dataset.objects.filter(pk=refresh.dataset_id).values_list("current__intake", flat=True).first()
