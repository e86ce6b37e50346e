from django.apps import AppConfig


class Config(AppConfig):
    name = "veduta.web.charts"
    label = "charts"
    default_auto_field = "django.db.models.BigAutoField"
