"""Who has open what several people can change."""

from __future__ import annotations

from django.conf import settings
from django.db import models


class Present(models.Model):
    """Somebody who has a thing, by its id, open in a `tab`, and the part of it on which they are."""

    tab = models.CharField(max_length=36, unique=True)
    thing = models.CharField(max_length=40, db_index=True)
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="+")
    part = models.CharField(max_length=40, blank=True)
    at = models.DateTimeField(db_index=True)
