from django.apps import AppConfig


class Config(AppConfig):
    name = "veduta.web.pictures"
    label = "pictures"
    default_auto_field = "django.db.models.BigAutoField"
