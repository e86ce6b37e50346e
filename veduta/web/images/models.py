"""Pictures that the workspace keeps, known by their names."""

from __future__ import annotations

import uuid

from django.conf import settings
from django.db import models
from django.urls import reverse


class KeptPicture(models.Model):
    """A PNG, JPEG, WebP or SVG.

    `words` say what is on it to who does not see it; without any its name does. The `key` is its name in small letters.
    """

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    name = models.CharField(max_length=200)
    key = models.CharField(max_length=600, editable=False)
    words = models.CharField(max_length=300, blank=True)
    content = models.BinaryField()
    content_type = models.CharField(max_length=20)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    updated_at = models.DateTimeField(auto_now=True)
    deleted_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["key", "pk"]
        constraints = (
            models.UniqueConstraint(fields=["key"], condition=models.Q(deleted_at=None), name="one_picture_of_a_name"),
        )

    def __str__(self) -> str:
        return self.name

    @property
    def said(self) -> str:
        return self.words or self.name

    @property
    def address(self) -> str:
        """Where it is, another one for each state of it, so that browsers may keep it."""
        return f"{reverse('picture', args=[self.pk])}?{self.updated_at.timestamp():.0f}"


class PublishedPicture(models.Model):
    """The content of a picture as it was when something was published with it, whatever becomes of the picture."""

    digest = models.CharField(max_length=64, primary_key=True)
    content = models.BinaryField()
    content_type = models.CharField(max_length=20)
