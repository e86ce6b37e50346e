"""People and their roles."""

from typing import Any

from django.contrib.auth.models import AbstractUser
from django.db import models


class User(AbstractUser):
    """A person. Analysts build, explorers read and explore, stewards administer and may do all that analysts may."""

    class Role(models.TextChoices):
        STEWARD = "steward", "Steward"
        ANALYST = "analyst", "Analyst"
        EXPLORER = "explorer", "Explorer"

    role = models.CharField(max_length=10, choices=Role, default=Role.EXPLORER)
    attributes = models.JSONField(default=dict, blank=True)
    """What rules about rows can use: names and texts, or lists of texts."""

    @property
    def is_steward(self) -> bool:
        return self.role == self.Role.STEWARD

    @property
    def builds(self) -> bool:
        return self.role in (self.Role.STEWARD, self.Role.ANALYST)

    def owns(self, thing: Any) -> bool:
        """Whether they may delete something and say who sees its rows: whoever made it, and stewards."""
        return self.is_steward or (self.builds and thing.created_by_id is not None and thing.created_by_id == self.pk)

    @property
    def label(self) -> str:
        return self.get_full_name() or self.username


class Deed(models.Model):
    """What somebody did that not everybody may, or that takes something from others: kept for stewards to read."""

    class What(models.TextChoices):
        DELETED = "deleted", "deleted"
        RESTORED = "restored", "brought back"
        RELEASED = "released", "released"
        WITHHELD = "withheld", "took back the release of"
        RULED = "ruled", "changed who sees which rows of"
        GRANTED = "granted", "changed who may use"

    user = models.ForeignKey(User, null=True, on_delete=models.SET_NULL, related_name="+")
    at = models.DateTimeField(auto_now_add=True, db_index=True)
    what = models.CharField(max_length=10, choices=What)
    thing = models.CharField(max_length=300)
    words = models.TextField(blank=True)

    class Meta:
        ordering = ["-at", "-pk"]


def label_of(user: User | None) -> str:
    """What somebody is called, who may be unknown by now."""
    return user.label if user else "Somebody"
