from django.conf import settings
from django.http import HttpRequest

from veduta.core.chart.theme import themes
from veduta.web.colours.models import paints_now


def shared(request: HttpRequest) -> dict:
    """What every template may use."""
    return {"upload_limit": settings.UPLOAD_LIMIT, "themes": themes(paints_now())}
