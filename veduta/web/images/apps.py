from django.apps import AppConfig


class Config(AppConfig):
    name = "veduta.web.images"
    label = "pictures"
    default_auto_field = "django.db.models.BigAutoField"
