"""Datasets, their immutable versions and the files they come from."""

from __future__ import annotations

import uuid
from pathlib import Path

from django.conf import settings
from django.db import models

from veduta.core.data.fields import DataField, Schema
from veduta.core.data.options import FORMAT_WORDS, FileOptions, LandedOptions, RecordsOptions, SheetOptions
from veduta.core.data.profile import Profile
from veduta.core.data.sources import DatasetSource, Fetched, Source, load_source
from veduta.core.errors import VedutaError
from veduta.core.model.definition import ModelDefinition, load_model
from veduta.core.phrases import pluralise
from veduta.core.shaping.shaping import Shaping, load_shaping
from veduta.web.jobs.models import Job

TAKING_WORDS = {
    "full": "replace all rows",
    "append": "are added below",
    "replace": "replace those with the same key",
}
"""What newer rows of a dataset do."""


class Dataset(models.Model):
    """One table of data.

    `fields` describes its columns as people have named and set them, also columns that the current version lacks;
    `taken_fields` those of its source's rows, before the steps. `source` says where rows come from; `steps` are the
    steps in force and `draft` those being worked on (None if they are the same). `model` joins other datasets to it and
    holds its formulas, parameters, drill paths and rules; empty is the model of one table."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    name = models.CharField(max_length=200)
    description = models.TextField(blank=True)
    fields = models.JSONField(default=list)
    taken_fields = models.JSONField(default=list)
    source = models.JSONField(default=dict)
    steps = models.JSONField(default=dict)
    draft = models.JSONField(null=True)
    draft_revision = models.PositiveIntegerField(default=0)
    draft_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    taking = models.JSONField(default=dict)
    schedule = models.JSONField(default=dict)
    model = models.JSONField(default=dict)
    model_revision = models.PositiveIntegerField(default=0)
    next_run = models.DateTimeField(null=True, blank=True)
    current = models.ForeignKey("Version", null=True, on_delete=models.SET_NULL, related_name="+")
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)
    updated_at = models.DateTimeField(auto_now=True)
    deleted_at = models.DateTimeField(null=True, blank=True)
    released = models.BooleanField(default=False)
    """Whether a steward lets people see it who may see only some rows of the datasets it is made from."""

    class Meta:
        ordering = ["name", "created_at"]

    def __str__(self) -> str:
        return self.name

    @property
    def all_fields(self) -> list[DataField]:
        return [DataField.model_validate(data) for data in self.fields]

    @property
    def schema(self) -> Schema:
        """The fields that the current version has. Raises VedutaError while there is none."""
        if self.deleted_at:
            raise VedutaError(
                f"The dataset “{self.name}” was deleted.", hint="Bring it back on the data page, or choose another one."
            )
        if self.current is None:
            raise VedutaError(
                f"The dataset “{self.name}” has no rows yet.", hint="Wait for its import, or upload a file."
            )
        stored = self.current.kinds
        there = [field for field in self.all_fields if field.id in stored]
        return Schema(there, gone={field.id: field.name for field in self.all_fields if field.id not in stored})

    @property
    def model_definition(self) -> ModelDefinition:
        """Raises VedutaError if it is unreadable."""
        return load_model(self.model)

    @property
    def shaping(self) -> Shaping:
        """The steps in force. Raises VedutaError if they are unreadable."""
        return load_shaping(self.steps)

    @property
    def drafted(self) -> Shaping:
        """The steps as they are being worked on."""
        return load_shaping(self.steps if self.draft is None else self.draft)

    @property
    def all_taken_fields(self) -> list[DataField]:
        return [DataField.model_validate(data) for data in self.taken_fields]

    @property
    def origin(self) -> Source:
        """Where its rows come from."""
        return load_source(self.source)

    @property
    def source_id(self) -> str:
        """The id of the dataset this one is made from, if it is."""
        return self.origin.dataset if isinstance(self.origin, DatasetSource) else ""

    def current_key(self) -> int:
        """The key of the current version. Raises VedutaError if there is none yet."""
        if self.current_id is None:
            raise VedutaError(f"“{self.name}” has no rows yet.", hint="Bring in a file first.")
        return self.current_id

    @property
    def source_words(self) -> str:
        """What kind of source its rows come from."""
        return self.origin.words

    @property
    def is_shaped(self) -> bool:
        """Whether its rows are not simply those of its source."""
        return bool(self.source_id or self.steps.get("steps"))

    @property
    def is_refreshable(self) -> bool:
        """Whether it can be brought up to date without a new file: it has a feed, a table or datasets as its source."""
        return isinstance(self.origin, Fetched) or self.is_shaped

    @property
    def intake(self) -> Version | None:
        """The newest rows of its own source, before the steps."""
        return (self.current.intake or self.current) if self.current and not self.source_id else None


class ModelVersion(models.Model):
    """A dataset's model as it was saved once."""

    dataset = models.ForeignKey(Dataset, on_delete=models.CASCADE, related_name="model_versions")
    number = models.PositiveIntegerField()
    definition = models.JSONField()
    saved_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    saved_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-number"]
        constraints = [models.UniqueConstraint(fields=["dataset", "number"], name="model_version_number")]


class Version(models.Model):
    """The rows of a dataset at one time. Once ready it never changes.

    A version that steps made keeps the source's rows it was made from as its `intake`, which has no number of its own,
    and in `inputs` the versions of other datasets it used (ids of datasets to version keys). `reports` say what each
    step did."""

    class State(models.TextChoices):
        LOADING = "loading"
        READY = "ready"

    dataset = models.ForeignKey(Dataset, on_delete=models.CASCADE, related_name="versions")
    number = models.PositiveIntegerField(null=True)
    state = models.CharField(max_length=10, choices=State, default=State.LOADING)
    rows = models.PositiveBigIntegerField(default=0)
    kinds = models.JSONField(default=dict)
    profiles = models.JSONField(default=dict)
    failures = models.JSONField(default=dict)
    ragged = models.JSONField(default=dict)
    file_name = models.CharField(max_length=255, blank=True)
    intake = models.ForeignKey("self", null=True, on_delete=models.SET_NULL, related_name="shaped")
    inputs = models.JSONField(default=dict)
    reports = models.JSONField(default=dict)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-number"]
        constraints = [models.UniqueConstraint(fields=["dataset", "number"], name="version_number")]

    @property
    def ragged_lines(self) -> str:
        """The first lines that had too few or too many cells, with how many: "12 (3 cells), 40 (5 cells)…"."""
        said = [f"{line:,} ({pluralise(cells, 'cell')})" for line, cells in self.ragged["examples"]]
        return ", ".join(said[:5]) + ("…" if len(said) > 4 else "")

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
    """Rows on their way into a dataset: sent or fetched, looked at, read in the background.

    All but text files land first (in `landing`). `parts` are the further files of several that become one dataset,
    `about` what was seen on landing: sheets, lists of records, marks of a feed."""

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
    format = models.CharField(max_length=12, default="text")
    parts = models.JSONField(default=list)
    about = models.JSONField(default=dict)
    options = models.JSONField(default=dict)
    fields = models.JSONField(default=list)
    positions = models.JSONField(default=list)
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
    def landing(self) -> Path:
        return settings.UPLOAD_DIR / f"{self.path}.landed"

    @property
    def is_text(self) -> bool:
        return self.format == "text"

    @property
    def is_fetched(self) -> bool:
        """Whether its rows are fetched, not sent."""
        return self.format in ("feed", "table")

    @property
    def format_words(self) -> str:
        return FORMAT_WORDS[self.format]

    @property
    def file_options(self) -> FileOptions | SheetOptions | RecordsOptions | LandedOptions:
        kinds: dict[str, type[FileOptions | SheetOptions | RecordsOptions]] = {
            "text": FileOptions,
            "sheet": SheetOptions,
            "json": RecordsOptions,
        }
        kind = kinds.get(self.format, LandedOptions)
        return kind.model_validate({key: value for key, value in self.options.items() if key in kind.model_fields})

    @property
    def rows_path(self) -> Path:
        """Where its rows are read from."""
        return self.file if self.is_text else self.landing

    @property
    def all_fields(self) -> list[DataField]:
        return [DataField.model_validate(data) for data in self.fields]

    @property
    def share_read(self) -> float:
        return min(1.0, self.bytes_read / self.size) if self.size else 0.0


class Connection(models.Model):
    """A feed's or a database's address with what is needed to be let in; the secret is kept encrypted.

    `sends` says how a feed's secret is sent: as a header or a query value of this name, with words before it. All who
    build may use it, or with `only_granted` whoever made it, stewards, and those who are `granted` it."""

    class Kind(models.TextChoices):
        FEED = "feed", "Web feed"
        DATABASE = "database", "Database"

    name = models.CharField(max_length=200, unique=True)
    kind = models.CharField(max_length=10, choices=Kind)
    address = models.CharField(max_length=1_000)
    headers = models.JSONField(default=dict)
    sends = models.JSONField(default=dict)
    secret = models.BinaryField(default=b"")
    only_granted = models.BooleanField(default=False)
    granted_people = models.ManyToManyField(settings.AUTH_USER_MODEL, related_name="+", blank=True)
    granted_groups = models.ManyToManyField("auth.Group", related_name="+", blank=True)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class Refresh(Job):
    """One bringing up to date of a dataset, from waiting to its end; kept as its history.

    One that `follows` was asked for because a source changed, by the refresh `root` if it was one; what is made from
    its dataset has been asked for then too."""

    class Cause(models.TextChoices):
        FILE = "file", "A file"
        HAND = "hand", "By hand"
        SCHEDULE = "schedule", "On schedule"
        SOURCE = "source", "Its source changed"
        STEPS = "steps", "Its steps changed"
        AGAIN = "again", "Tried again by itself"

    dataset = models.ForeignKey(Dataset, on_delete=models.CASCADE, related_name="refreshes")
    cause = models.CharField(max_length=10, choices=Cause)
    root = models.ForeignKey("self", null=True, on_delete=models.SET_NULL, related_name="followers")
    upload = models.ForeignKey(Upload, null=True, on_delete=models.SET_NULL, related_name="refreshes")
    follows = models.BooleanField(default=False)
    started_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    version = models.ForeignKey(Version, null=True, on_delete=models.SET_NULL, related_name="refreshes")
    rows = models.PositiveBigIntegerField(default=0)
    changes = models.JSONField(default=dict)

    class Meta:
        ordering = ["-pk"]
        constraints = [
            models.UniqueConstraint(
                fields=["dataset"], condition=models.Q(state="running"), name="one_running_refresh_a_dataset"
            )
        ]


class ShapeSet(models.Model):
    """Shapes of areas for maps.

    `content` has, packed, the properties and the outline of each; areas are those with the same value of the property
    `key`. `aliases` are the areas' keys by how names are spelt elsewhere."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    name = models.CharField(max_length=200)
    file_name = models.CharField(max_length=200)
    key = models.CharField(max_length=100)
    content = models.BinaryField()
    notes = models.JSONField(default=list)
    aliases = models.JSONField(default=dict)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)
    updated_at = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ["name", "created_at"]

    def __str__(self) -> str:
        return self.name
