from django.conf import settings
from django.http import HttpRequest
from django.utils.functional import SimpleLazyObject

from veduta.core.chart.theme import themes
from veduta.web.accounts.models import User
from veduta.web.colours.models import paints_now
from veduta.web.dashboards.notices import notices_of
from veduta.web.dashboards.tasks import tasks_of


def _waiting(user: User) -> int:
    """What waits in somebody's inbox: tasks, and what was said to them and is not read."""
    return tasks_of(user).count() + notices_of(user).filter(read_at=None).count()


def shared(request: HttpRequest) -> dict:
    """What every template may use."""
    user = request.user if hasattr(request, "user") else None
    waiting = SimpleLazyObject(lambda: _waiting(user) if user and user.is_authenticated else 0)
    return {"tasks_waiting": waiting, "upload_limit": settings.UPLOAD_LIMIT, "themes": themes(paints_now())}
