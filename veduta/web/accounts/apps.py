from django.apps import AppConfig


class Config(AppConfig):
    name = "veduta.web.accounts"
    label = "accounts"
    default_auto_field = "django.db.models.BigAutoField"
