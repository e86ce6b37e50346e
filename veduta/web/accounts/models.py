"""People and their roles."""

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

    @property
    def label(self) -> str:
        return self.get_full_name() or self.username


def label_of(user: User | None) -> str:
    """What somebody is called, who may be unknown by now."""
    return user.label if user else "Somebody"
