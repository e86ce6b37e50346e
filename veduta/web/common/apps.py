from django.apps import AppConfig


class Config(AppConfig):
    name = "veduta.web.common"
    label = "common"
