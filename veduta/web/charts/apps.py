from django.apps import AppConfig


class Config(AppConfig):
    name = "veduta.web.charts"
    label = "charts"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from veduta.web.modelling import hidden_values  # noqa: F401  (which values colours are not listed of)
