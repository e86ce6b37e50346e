"""What the worker does for datasets."""

from django_tasks import task

from veduta.web.datasets import refreshing


@task()
def work_off() -> None:
    refreshing.work_off()
