"""Datasets, their immutable versions and the files they come from."""

from __future__ import annotations

import uuid
from pathlib import Path

from django.conf import settings
from django.db import models

from veduta.core.data.fields import Field, Schema
from veduta.core.data.options import FileOptions
from veduta.core.data.profile import Profile
from veduta.core.errors import VedutaError


class Dataset(models.Model):
    """One table of data. `fields` describes its columns as people have named and set them, also columns that the
    current version lacks."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    name = models.CharField(max_length=200)
    description = models.TextField(blank=True)
    fields = models.JSONField(default=list)
    current = models.ForeignKey("Version", null=True, on_delete=models.SET_NULL, related_name="+")
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)
    updated_at = models.DateTimeField(auto_now=True)
    deleted_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["name", "created_at"]

    def __str__(self) -> str:
        return self.name

    @property
    def all_fields(self) -> list[Field]:
        return [Field.model_validate(data) for data in self.fields]

    @property
    def schema(self) -> Schema:
        """The fields that the current version has. Raises VedutaError while there is none."""
        if self.deleted_at:
            raise VedutaError(
                f"The dataset “{self.name}” was deleted.", hint="Bring it back on the data page, or choose another one."
            )
        if self.current is None:
            raise VedutaError(f"The dataset “{self.name}” has no rows yet.", hint="Wait for its import, or upload a file.")
        stored = self.current.kinds
        there = [field for field in self.all_fields if field.id in stored]
        return Schema(there, gone={field.id: field.name for field in self.all_fields if field.id not in stored})


class Version(models.Model):
    """The rows of a dataset at one time. Once ready it never changes."""

    class State(models.TextChoices):
        LOADING = "loading"
        READY = "ready"

    dataset = models.ForeignKey(Dataset, on_delete=models.CASCADE, related_name="versions")
    number = models.PositiveIntegerField()
    state = models.CharField(max_length=10, choices=State, default=State.LOADING)
    rows = models.PositiveBigIntegerField(default=0)
    kinds = models.JSONField(default=dict)
    profiles = models.JSONField(default=dict)
    failures = models.JSONField(default=dict)
    ragged = models.JSONField(default=dict)
    file_name = models.CharField(max_length=255, blank=True)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-number"]
        constraints = [models.UniqueConstraint(fields=["dataset", "number"], name="version_number")]

    def profile(self, field_id: str) -> Profile:
        return Profile.model_validate(self.profiles[field_id])


class Chunk(models.Model):
    """Consecutive values of one column, as Parquet."""

    version = models.ForeignKey(Version, on_delete=models.CASCADE, related_name="chunks")
    column = models.CharField(max_length=40)
    position = models.PositiveIntegerField()
    data = models.BinaryField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["version", "column", "position"], name="chunk_place")]


class Upload(models.Model):
    """A file on its way into a dataset: uploaded, looked at, read in the background."""

    class State(models.TextChoices):
        CHECKING = "checking", "Waiting for you"
        QUEUED = "queued", "Waiting for its turn"
        READING = "reading", "Being read"
        DONE = "done", "Done"
        FAILED = "failed", "Did not work"

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    dataset = models.ForeignKey(Dataset, null=True, on_delete=models.CASCADE, related_name="uploads")
    owner = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    file_name = models.CharField(max_length=255)
    path = models.CharField(max_length=500)
    size = models.PositiveBigIntegerField(default=0)
    options = models.JSONField(default=dict)
    fields = models.JSONField(default=list)
    places = models.JSONField(default=list)
    width = models.PositiveIntegerField(default=0)
    answered = models.JSONField(default=list)
    state = models.CharField(max_length=10, choices=State, default=State.CHECKING)
    bytes_read = models.PositiveBigIntegerField(default=0)
    rows_read = models.PositiveBigIntegerField(default=0)
    message = models.TextField(blank=True)
    created_at = models.DateTimeField(auto_now_add=True)
    updated_at = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ["-created_at"]

    @property
    def file(self) -> Path:
        return settings.UPLOAD_DIR / self.path

    @property
    def file_options(self) -> FileOptions:
        return FileOptions.model_validate(self.options)

    @property
    def all_fields(self) -> list[Field]:
        return [Field.model_validate(data) for data in self.fields]

    @property
    def share_read(self) -> float:
        return min(1.0, self.bytes_read / self.size) if self.size else 0.0
