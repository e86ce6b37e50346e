"""Dashboards and what was published of them."""

from __future__ import annotations

import secrets
import uuid

from django.conf import settings
from django.db import models
from django.utils import timezone

from veduta.core.cache import Cache
from veduta.core.dashboard.definition import DashboardDefinition, load_dashboard
from veduta.core.errors import DefinitionProblem

publications: Cache[DashboardDefinition] = Cache(200)


class Dashboard(models.Model):
    """`draft` is what analysts edit; explorers see `published`."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    name = models.CharField(max_length=200)
    draft = models.JSONField(default=dict)
    revision = models.PositiveIntegerField(default=0)
    published = models.ForeignKey("Publication", null=True, on_delete=models.SET_NULL, related_name="+")
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    updated_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)
    updated_at = models.DateTimeField(auto_now=True)
    deleted_at = models.DateTimeField(null=True, blank=True)

    starred_by = models.ManyToManyField(settings.AUTH_USER_MODEL, related_name="starred", blank=True)

    class Meta:
        ordering = ["name", "created_at"]
        permissions = [("download_rows", "Can see and download the rows behind")]

    def __str__(self) -> str:
        return self.name

    @property
    def charts_of_draft(self) -> set[str]:
        """The ids of the charts on the draft; none of one that cannot be read."""
        try:
            return {block.chart for block in self.load_draft().charts}
        except DefinitionProblem:
            return set()

    def load_draft(self) -> DashboardDefinition:
        return load_dashboard(self.draft)


class Publication(models.Model):
    """A read-only version, or a draft that was set aside when somebody else's was kept.

    One with a time in `due_at` is what readers see from then on."""

    dashboard = models.ForeignKey(Dashboard, on_delete=models.CASCADE, related_name="publications")
    number = models.PositiveIntegerField()
    name = models.CharField(max_length=200)
    definition = models.JSONField()
    set_aside = models.BooleanField(default=False)
    note = models.CharField(max_length=500, blank=True)
    due_at = models.DateTimeField(null=True, blank=True)
    published_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    published_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-number"]
        constraints = [models.UniqueConstraint(fields=["dashboard", "number"], name="publication_number")]

    def load(self) -> DashboardDefinition:
        """A publication never changes."""
        return publications.get(self.pk, lambda: load_dashboard(self.definition))


class DraftState(models.Model):
    """A draft as it was saved once, by its revision.

    Where that went over what others had set, `over` says whose settings these were (the id of a person, and the kind,
    id and setting of a part) and `otherwise` is the definition in which they are as the others had them."""

    dashboard = models.ForeignKey(Dashboard, on_delete=models.CASCADE, related_name="draft_states")
    number = models.PositiveIntegerField()
    name = models.CharField(max_length=200)
    definition = models.JSONField()
    saved_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    saved_at = models.DateTimeField(db_index=True)
    over = models.JSONField(default=list, blank=True)
    otherwise = models.JSONField(null=True, blank=True)

    class Meta:
        ordering = ["-number"]
        constraints = [models.UniqueConstraint(fields=["dashboard", "number"], name="draft_state_number")]

    def load(self) -> DashboardDefinition:
        return load_dashboard(self.definition)


class LastVisit(models.Model):
    """When somebody last visited a dashboard, and how they had set its `controls`.

    Only controls that begin with the last setting are kept."""

    dashboard = models.ForeignKey(Dashboard, on_delete=models.CASCADE, related_name="last_visits")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="last_visits")
    at = models.DateTimeField()
    controls = models.JSONField(default=dict, blank=True)

    class Meta:
        ordering = ["-at"]
        constraints = [models.UniqueConstraint(fields=["dashboard", "user"], name="seen_once_each")]


class SeenFigures(models.Model):
    """The figures that somebody saw on a dashboard, or in a view of it.

    Those of their last visit (`now`) and of the one before, by their places."""

    dashboard = models.ForeignKey(Dashboard, on_delete=models.CASCADE, related_name="seen_figures")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="seen_figures")
    view = models.CharField(max_length=16, blank=True)
    now = models.JSONField(default=dict)
    now_at = models.DateTimeField()
    before = models.JSONField(default=dict, blank=True)
    before_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["dashboard", "user", "view"], name="looked_once_each")]


class LongState(models.Model):
    """A state of a dashboard that is too long for an address, which has its key instead."""

    dashboard = models.ForeignKey(Dashboard, on_delete=models.CASCADE, related_name="long_states")
    key = models.CharField(max_length=32)
    state = models.JSONField()
    used_at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["dashboard", "key"], name="kept_view_key")]


def _new_key() -> str:
    return secrets.token_urlsafe(9)


class SavedView(models.Model):
    """A reader's own named state of a dashboard, at one of its pages.

    The `usual` one is shown where none is asked for. It is private, given to some people, or to everybody who may see
    the dashboard. `words` say what its parts were when it was kept, by the names that the core gives them."""

    dashboard = models.ForeignKey(Dashboard, on_delete=models.CASCADE, related_name="saved_views")
    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="saved_views")
    key = models.CharField(max_length=16, unique=True, default=_new_key, editable=False)
    name = models.CharField(max_length=100)
    state = models.JSONField(default=dict)
    page = models.CharField(max_length=40, blank=True)
    words = models.JSONField(default=dict, blank=True)
    usual = models.BooleanField(default=False)
    for_everybody = models.BooleanField(default=False)
    given_to = models.ManyToManyField(settings.AUTH_USER_MODEL, related_name="views_given", blank=True)
    created_at = models.DateTimeField(auto_now_add=True)
    updated_at = models.DateTimeField(auto_now=True)
    deleted_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["name"]
        constraints = [
            models.UniqueConstraint(
                fields=["dashboard", "owner", "name"],
                condition=models.Q(deleted_at=None),
                name="kept_view_name",
            ),
            models.UniqueConstraint(
                fields=["dashboard", "owner"],
                condition=models.Q(usual=True, deleted_at=None),
                name="one_usual_view",
            ),
        ]

    def __str__(self) -> str:
        return self.name


class Comment(models.Model):
    """A comment on a dashboard, on a block of it or on marks in one (`mark`, a selection).

    It keeps the view in which it was made. One that answers another has it as its `thread`; a thread may be resolved.
    """

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    dashboard = models.ForeignKey(Dashboard, on_delete=models.CASCADE, related_name="comments")
    thread = models.ForeignKey("self", null=True, blank=True, on_delete=models.CASCADE, related_name="answers")
    author = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="comments")
    text = models.CharField(max_length=4_000)
    block = models.CharField(max_length=40, blank=True)
    mark = models.JSONField(null=True, blank=True)
    state = models.JSONField(default=dict, blank=True)
    page = models.CharField(max_length=40, blank=True)
    created_at = models.DateTimeField(auto_now_add=True)
    edited_at = models.DateTimeField(null=True, blank=True)
    resolved_at = models.DateTimeField(null=True, blank=True)
    resolved_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, blank=True, on_delete=models.SET_NULL, related_name="+"
    )
    deleted_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["created_at"]

    def __str__(self) -> str:
        return self.text


class Notice(models.Model):
    """A notice for somebody.

    They are mentioned in a comment, it answers a thread of theirs, they were given a view, or a state of a draft went
    over what they had set."""

    comment = models.ForeignKey(Comment, null=True, on_delete=models.CASCADE, related_name="notices")
    view = models.ForeignKey(SavedView, null=True, on_delete=models.CASCADE, related_name="notices")
    state = models.ForeignKey(DraftState, null=True, on_delete=models.CASCADE, related_name="notices")
    at = models.DateTimeField(default=timezone.now)
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="notices")
    mentioned = models.BooleanField(default=False)
    read_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["-at"]
        constraints = [
            models.UniqueConstraint(fields=["comment", "user"], name="one_notice_each"),
            models.UniqueConstraint(fields=["view", "user"], name="one_notice_of_a_view_each"),
            models.UniqueConstraint(fields=["state", "user"], name="one_notice_of_a_state_each"),
        ]


class Task(models.Model):
    """An empty place of a dashboard's draft that somebody was asked to fill.

    `words` say what is wanted there, and `answer` why it was handed back."""

    class State(models.TextChoices):
        OPEN = "open"
        DONE = "done"
        HANDED_BACK = "handed back"
        WITHDRAWN = "withdrawn"

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    dashboard = models.ForeignKey(Dashboard, on_delete=models.CASCADE, related_name="tasks")
    block = models.CharField(max_length=20)
    words = models.CharField(max_length=500)
    due = models.DateField(null=True, blank=True)
    state = models.CharField(max_length=20, choices=State.choices, default=State.OPEN)
    answer = models.CharField(max_length=500, blank=True)
    asked_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="asked")
    asked_of = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="tasks")
    created_at = models.DateTimeField(auto_now_add=True)
    ended_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = [models.F("due").asc(nulls_last=True), "created_at"]
        constraints = [
            models.UniqueConstraint(
                fields=["dashboard", "block"], condition=models.Q(state="open"), name="one_open_task_of_a_place"
            )
        ]

    def __str__(self) -> str:
        return self.words

    @property
    def is_open(self) -> bool:
        return self.state == self.State.OPEN

    @property
    def is_late(self) -> bool:
        return self.is_open and self.due is not None and self.due < timezone.localdate()
