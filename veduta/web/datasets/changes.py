"""What newer rows change about the columns of a dataset."""

from __future__ import annotations

from dataclasses import dataclass, field

from veduta.core.data.fields import Field
from veduta.web.datasets.models import Dataset
from veduta.web.datasets.uses import Uses, uses_of


@dataclass(frozen=True)
class ChangedColumn:
    """A column that is missing or of another kind (which it `was`), and what uses it."""

    field: Field
    uses: Uses
    was: str = ""

    def words(self) -> str:
        what = f"was {self.was} and is now {self.field.kind.words}" if self.was else "is missing"
        return f"“{self.field.name}” {what}.{f' Used by {self.uses.words()}.' if self.uses else ''}"


@dataclass(frozen=True)
class Changes:
    """Columns that are missing, of another kind (`retyped`), or new (`added`)."""

    missing: list[ChangedColumn] = field(default_factory=list)
    retyped: list[ChangedColumn] = field(default_factory=list)
    added: list[Field] = field(default_factory=list)

    def words(self) -> dict[str, list[str]]:
        """Each change in a sentence, by its kind, as a refresh keeps it."""
        return {
            "missing": [each.words() for each in self.missing],
            "retyped": [each.words() for each in self.retyped],
            "added": [f"“{each.name}” is new." for each in self.added],
        }


def changes_to(dataset: Dataset, fields: list[Field]) -> Changes:
    """What rows with these fields change, with what uses the fields."""
    old = {field.id: field for field in dataset.schema}
    new = {field.id: field for field in fields}
    return Changes(
        missing=[ChangedColumn(field, uses_of(dataset, key)) for key, field in old.items() if key not in new],
        retyped=[
            ChangedColumn(field, uses_of(dataset, key), old[key].kind.words)
            for key, field in new.items()
            if key in old and old[key].kind != field.kind
        ],
        added=[field for key, field in new.items() if key not in old],
    )
