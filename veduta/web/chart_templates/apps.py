from django.apps import AppConfig


class Config(AppConfig):
    name = "veduta.web.chart_templates"
    label = "chart_templates"
    default_auto_field = "django.db.models.BigAutoField"
