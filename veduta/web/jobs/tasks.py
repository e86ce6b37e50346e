"""The worker's one task: do all that waits, whoever asked for it."""

from __future__ import annotations

from collections.abc import Callable

from django_tasks import task

Work = Callable[[], None]
_work: list[Work] = []


def work(do: Work) -> Work:
    """Registers what does all that waits of one kind."""
    _work.append(do)
    return do


@task()
def work_off() -> None:
    for do in _work:
        do()
