"""What people say of dashboards: threads, whom they concern, and when they are settled."""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from django.core.exceptions import PermissionDenied
from django.db import transaction
from django.http import Http404
from django.utils import timezone

from veduta.core.dashboard.definition import Selection, ViewState
from veduta.core.errors import VedutaError
from veduta.web.accounts.models import User
from veduta.web.common.best_effort import note
from veduta.web.dashboards.access import list_viewers, may_view, must_view
from veduta.web.dashboards.models import Comment, Dashboard, Notice

MOST_LETTERS = 4_000


@dataclass(frozen=True)
class Thread:
    """The comment with which a thread began, and what is said in it; the first may be deleted while others stay."""

    begun: Comment
    said: list[Comment]


def list_threads(user: User, dashboard: Dashboard) -> list[Thread]:
    """The threads of a dashboard, those that are open first, the newest first."""
    must_view(user, dashboard)
    said: dict[Any, list[Comment]] = {}
    for comment in dashboard.comments.select_related("author", "resolved_by"):
        said.setdefault(comment.thread_id or comment.pk, []).append(comment)
    found = [Thread(each[0], [comment for comment in each if not comment.deleted_at]) for each in said.values()]
    there = [thread for thread in found if thread.said]
    return sorted(there, key=lambda each: (each.begun.resolved_at is not None, -each.begun.created_at.timestamp()))


def find(user: User, dashboard: Dashboard, pk: Any) -> Comment:
    """A comment of a dashboard that somebody may see. Raises Http404."""
    comment = dashboard.comments.filter(pk=pk).select_related("thread", "author").first()
    if comment is None or not may_view(user, dashboard):
        raise Http404
    return comment


def say(  # noqa: PLR0913 - options, each given by name
    user: User,
    dashboard: Dashboard,
    text: str,
    block: str = "",
    mark: Selection | None = None,
    state: ViewState | None = None,
    page: str = "",
    thread: Comment | None = None,
) -> Comment:
    """Begin a thread, or go on with one. Raises VedutaError for an empty text."""
    must_view(user, dashboard)
    comment = Comment(
        dashboard=dashboard,
        author=user,
        text=_validate_text(text),
        thread=thread and (thread.thread or thread),
        block=block,
        mark=json.loads(mark.model_dump_json(exclude_defaults=True)) if mark else None,
        state=json.loads(state.model_dump_json(exclude_defaults=True)) if state else {},
        page=page,
    )
    with transaction.atomic():
        comment.save()
        if comment.thread and comment.thread.resolved_at:
            resolve(user, comment.thread, False)  # who goes on has not settled it
        _tell(comment)
    return comment


def _validate_text(text: str) -> str:
    text = text.strip()
    if not text:
        raise VedutaError("The comment is empty.", hint="Write what you want to say.")
    if len(text) > MOST_LETTERS:
        raise VedutaError(f"The comment has more than {MOST_LETTERS:,} letters.", hint="Say it in two of them.")
    return text


def find_mentioned(text: str, people: Iterable[User]) -> list[User]:
    """Those of some people whose names stand in a text behind an @."""
    return [person for person in people if f"@{person.label}".casefold() in text.casefold()]


def _tell(comment: Comment) -> None:
    """Note whom a comment concerns: those mentioned, and those who have said something in its thread."""
    people = list(list_viewers(comment.dashboard).exclude(pk=comment.author_id))
    named = {person.pk for person in find_mentioned(comment.text, people)}
    taking_part: set[int] = set()
    if comment.thread:
        before = comment.thread.answers.filter(deleted_at=None).values_list("author_id", flat=True)
        taking_part = {comment.thread.author_id, *before}
    for person in people:
        if person.pk in named | taking_part:
            notice, _ = Notice.objects.get_or_create(comment=comment, user=person)
            notice.mentioned = person.pk in named
            notice.save()


def edit(user: User, comment: Comment, text: str) -> None:
    """Say something else; only who said it can."""
    _must_be_own(user, comment)
    comment.text, comment.edited_at = _validate_text(text), timezone.now()
    with transaction.atomic():
        comment.save()
        _tell(comment)


def delete(user: User, comment: Comment) -> None:
    _must_be_own(user, comment)
    comment.deleted_at = timezone.now()
    comment.save()


def restore(user: User, comment: Comment) -> None:
    _must_be_own(user, comment)
    comment.deleted_at = None
    comment.save()


def _must_be_own(user: User, comment: Comment) -> None:
    must_view(user, comment.dashboard)
    if comment.author_id != user.pk:
        raise PermissionDenied("Only who wrote a comment can change it.")


def resolve(user: User, comment: Comment, resolved: bool) -> None:
    """Have a thread as settled, or as open again."""
    must_view(user, comment.dashboard)
    comment.resolved_at, comment.resolved_by = (timezone.now(), user) if resolved else (None, None)
    comment.save()


def mark_read(user: User, comments: Iterable[Comment]) -> None:
    unread = Notice.objects.filter(user=user, comment__in=list(comments), read_at=None)
    if unread.exists():
        note(lambda: unread.update(read_at=timezone.now()))
