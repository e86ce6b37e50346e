from django.apps import AppConfig


class Config(AppConfig):
    name = "veduta.web.charts"
    label = "charts"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from django.conf import settings

        from veduta.web.charts.drawn import drawings
        from veduta.web.modelling import hidden_values  # noqa: F401  (which values colours are not listed of)

        drawings.set_limit(settings.MEMORY_FOR_ANSWERS // 4)
