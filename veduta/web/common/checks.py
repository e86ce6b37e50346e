"""What manage.py looks at before it changes the database."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from django.core.checks import Error, Tags, register
from django.db import connections
from django.db.migrations.loader import MigrationLoader


@register(Tags.database)
def check_all_or_none_squashed(databases: Sequence[str] | None = None, **options: Any) -> list[Error]:
    """A database has all of the migrations that were put together, or none: one half way would be changed wrongly."""
    found = []
    for alias in databases or ():
        loader = MigrationLoader(connections[alias])
        for (app, _), squashed in loader.replacements.items():
            missing = [name for its_app, name in squashed.replaces if (its_app, name) not in loader.applied_migrations]
            if 0 < len(missing) < len(squashed.replaces):
                found.append(
                    Error(
                        f"This database is of an earlier Veduta: “{app}” lacks {', '.join(missing)}.",
                        hint="Upgrade it with the release 0.5 first, then with this one. Nothing was changed.",
                        id="veduta.E001",
                    )
                )
    return found
