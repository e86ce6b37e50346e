from django.apps import AppConfig


class Config(AppConfig):
    name = "veduta.web.dashboards"
    label = "dashboards"
    default_auto_field = "django.db.models.BigAutoField"
