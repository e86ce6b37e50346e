from django.apps import AppConfig


class Config(AppConfig):
    name = "veduta.web.datasets"
    label = "datasets"
    default_auto_field = "django.db.models.BigAutoField"
