from django.conf import settings
from django.http import HttpRequest
from django.utils.functional import SimpleLazyObject

from veduta.core.chart.theme import build_themes
from veduta.web.accounts.models import User
from veduta.web.dashboards.notices import list_notices
from veduta.web.dashboards.tasks import list_tasks
from veduta.web.palettes.models import load_paints


def _count_waiting(user: User) -> int:
    """What waits in somebody's inbox: tasks, and what was said to them and is not read."""
    tasks = list_tasks(user).count()
    # What somebody may see takes longer to find out than that they have nothing to read.
    unread = user.notices.filter(read_at=None).exists() and list_notices(user).filter(read_at=None).count()
    return tasks + unread


def make_shared_context(request: HttpRequest) -> dict:
    """What every template may use."""
    user = request.user if hasattr(request, "user") else None
    waiting = SimpleLazyObject(lambda: _count_waiting(user) if user and user.is_authenticated else 0)
    return {"tasks_waiting": waiting, "upload_limit": settings.UPLOAD_LIMIT, "themes": build_themes(load_paints())}
