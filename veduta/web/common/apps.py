from django.apps import AppConfig


class Config(AppConfig):
    name = "veduta.web.common"
    label = "common"

    def ready(self) -> None:
        from veduta.web.common import checks  # noqa: F401  (registers itself)
