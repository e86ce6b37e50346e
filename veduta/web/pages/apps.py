from django.apps import AppConfig


class Config(AppConfig):
    name = "veduta.web.pages"
    label = "pages"
    default_auto_field = "django.db.models.BigAutoField"
