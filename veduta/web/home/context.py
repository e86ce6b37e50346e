from django.conf import settings
from django.http import HttpRequest
from django.utils.functional import SimpleLazyObject

from veduta.core.chart.theme import themes
from veduta.web.colours.models import paints_now
from veduta.web.dashboards.tasks import tasks_of


def shared(request: HttpRequest) -> dict:
    """What every template may use."""
    user = request.user if hasattr(request, "user") else None
    waiting = SimpleLazyObject(lambda: tasks_of(user).count() if user and user.is_authenticated else 0)
    return {"tasks_waiting": waiting, "upload_limit": settings.UPLOAD_LIMIT, "themes": themes(paints_now())}
