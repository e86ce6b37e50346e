from typing import Any

from django.apps import AppConfig


class Config(AppConfig):
    name = "veduta.web.accounts"
    label = "accounts"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        from django.contrib.auth.models import update_last_login
        from django.contrib.auth.signals import user_logged_in

        user_logged_in.disconnect(update_last_login, dispatch_uid="update_last_login")
        user_logged_in.connect(_note_sign_in, dispatch_uid="veduta.note_sign_in")


def _note_sign_in(sender: Any, user: Any, **more: Any) -> None:
    """When somebody signed in last is merely noted: they do without it."""
    from django.contrib.auth.models import update_last_login

    from veduta.web.common.best_effort import note

    note(lambda: update_last_login(sender, user, **more))
