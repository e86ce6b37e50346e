from django.apps import AppConfig


class Config(AppConfig):
    name = "veduta.web.home"
    label = "pages"
    default_auto_field = "django.db.models.BigAutoField"
