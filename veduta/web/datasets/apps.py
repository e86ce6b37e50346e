from django.apps import AppConfig


class Config(AppConfig):
    name = "veduta.web.datasets"
    label = "datasets"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from django.conf import settings

        from veduta.core.query.answer import answers

        answers.set_limit(settings.MEMORY_FOR_ANSWERS * 3 // 4)
