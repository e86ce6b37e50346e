"""Every change to datasets on their pages, each with its permission check."""

from __future__ import annotations

from typing import Any

from django.db import transaction
from django.utils import timezone

from veduta.core.data.field_changes import change_field
from veduta.core.data.sources import Fetched
from veduta.core.errors import VedutaError
from veduta.web.accounts.access import must_build, must_steward
from veduta.web.accounts.models import User
from veduta.web.accounts.rights import What, keep, must_own
from veduta.web.common.revisions import get_numbered
from veduta.web.datasets.models import Dataset, Refresh, Upload, Version
from veduta.web.datasets.refreshes import ask_for, refresh_followers
from veduta.web.datasets.row_access import must_see_all
from veduta.web.imports.services import start_import, take_text_sample
from veduta.web.modelling.services import check_rules_hold


def update_dataset(user: User, dataset: Dataset, name: str, description: str) -> None:
    must_build(user)
    dataset.name = name.strip()[:200] or dataset.name
    dataset.description = description.strip()
    dataset.save()


def update_field(user: User, dataset: Dataset, field_id: str, changes: dict[str, Any]) -> Upload | Refresh | None:
    """Change how a field is named, shown or used; a change of type or reading reads the rows again in the background.

    Returns the upload or the refresh that does so, if any. Raises VedutaError if the change does not fit.
    """
    must_build(user)
    with transaction.atomic():
        dataset = Dataset.objects.select_for_update().get(pk=dataset.pk)
        fields = dataset.all_fields
        position = next((i for i, field in enumerate(fields) if field.id == field_id), None)
        if position is None:
            raise VedutaError("That field is not there any more.", hint="Load the page again.")
        if "name" in changes:
            taken = {field.name.casefold() for field in fields if field.id != field_id}
            if changes["name"].strip().casefold() in taken:
                raise VedutaError(
                    f"There is already a field named “{changes['name'].strip()}”.", hint="Choose another name."
                )
        read_again = {"order", "decimal", "empty_words"}
        if changes.keys() & read_again or changes.get("kind", fields[position].kind) != fields[position].kind:
            must_see_all(user, dataset, "have its rows read again")
            if dataset.is_shaped:
                raise VedutaError(
                    "This dataset is made by steps, so types are changed there.", hint="Add the step Change type."
                )
            if isinstance(dataset.origin, Fetched):
                fields[position] = change_field(fields[position], changes)
                dataset.taken_fields = [field.model_dump(mode="json") for field in fields]
                dataset.source = dataset.origin.model_copy(update={"marks": {}}).model_dump(mode="json")
                dataset.save()
                return ask_for(user, dataset, Refresh.Cause.HAND)
            again = _make_reread_upload(user, dataset, field_id, changes)
            start_import(user, again)
            return again
        fields[position] = change_field(fields[position], changes)
        dataset.fields = [field.model_dump(mode="json") for field in fields]
        if not dataset.is_shaped:
            dataset.taken_fields = dataset.fields
        dataset.save()
    return None


def _make_reread_upload(user: User, dataset: Dataset, field_id: str, changes: dict[str, Any]) -> Upload:
    last = dataset.uploads.filter(state=Upload.State.DONE).first()
    if last is None or not last.rows_path.exists():
        raise VedutaError("The file this dataset was read from is gone.", hint="Upload it again, then change the type.")
    if dataset.uploads.filter(state__in=[Upload.State.QUEUED, Upload.State.READING]).exists():
        raise VedutaError("This dataset is being read just now.", hint="Wait until that is done.")
    now = {field.id: field for field in dataset.all_taken_fields}
    fields = [now.get(field.id, field) for field in last.all_fields]
    again = Upload(
        dataset=dataset,
        owner=user,
        file_name=last.file_name,
        path=last.path,
        size=last.size,
        options=last.options,
        format=last.format,
        parts=last.parts,
        about=last.about,
        positions=last.positions,
        width=last.width,
        answered=[field.id for field in fields],
    )
    position = next((i for i, field in enumerate(fields) if field.id == field_id), None)
    if position is None:
        raise VedutaError("That column is not in the newest file, so its type cannot be changed.")
    sample = take_text_sample(again)
    fields[position] = change_field(fields[position], changes, sample.get_column(last.positions[position]))
    again.fields = [field.model_dump(mode="json") for field in fields]
    again.save()
    return again


def delete_dataset(user: User, dataset: Dataset) -> None:
    must_own(user, dataset, "delete it")
    with transaction.atomic():
        Dataset.objects.filter(pk=dataset.pk).update(deleted_at=timezone.now(), updated_at=timezone.now())
        keep(user, What.DELETED, f"the dataset “{dataset}”")


def restore_dataset(user: User, dataset: Dataset) -> None:
    must_own(user, dataset, "bring it back")
    with transaction.atomic():
        Dataset.objects.filter(pk=dataset.pk).update(deleted_at=None, updated_at=timezone.now())
        keep(user, What.RESTORED, f"the dataset “{dataset}”")


def release(user: User, dataset: Dataset, released: bool) -> None:
    """Let those see a dataset who may see only some rows of what it is made from, or no longer."""
    must_steward(user)
    with transaction.atomic():
        Dataset.objects.filter(pk=dataset.pk).update(released=released, updated_at=timezone.now())
        keep(user, What.RELEASED if released else What.WITHHELD, f"the dataset “{dataset}”")


def bring_back_version(user: User, dataset: Dataset, number: int) -> None:
    """Make an earlier version current again."""
    must_build(user)
    with transaction.atomic():
        dataset = Dataset.objects.select_for_update().get(pk=dataset.pk)
        version = get_numbered(dataset.versions.filter(state=Version.State.READY), number, "these rows")
        fields = [
            change_field(field, {"kind": version.kinds[field.id]}) if field.id in version.kinds else field
            for field in dataset.all_fields
        ]
        dataset.fields = [field.model_dump(mode="json") for field in fields]
        if not dataset.is_shaped:
            dataset.taken_fields = dataset.fields
        dataset.current = version
        with check_rules_hold(dataset):
            dataset.save()
    refresh_followers(dataset)
