from django.apps import AppConfig


class Config(AppConfig):
    name = "veduta.web.palettes"
    label = "colours"
    default_auto_field = "django.db.models.BigAutoField"
