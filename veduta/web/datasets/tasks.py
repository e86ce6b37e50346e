"""What the worker does for datasets."""

from django_tasks import task

from veduta.web.datasets import services


@task()
def import_upload(upload_id: str) -> None:
    services.run_import(upload_id)
