from django.apps import AppConfig


class Config(AppConfig):
    name = "veduta.web.collaboration"
    label = "together"
    default_auto_field = "django.db.models.BigAutoField"
