from django.apps import AppConfig


class Config(AppConfig):
    name = "veduta.web.refreshing"
    label = "refreshing"

    def ready(self) -> None:
        from veduta.web.refreshing import schedules, services, sweeping  # noqa: F401  (what workers do)
