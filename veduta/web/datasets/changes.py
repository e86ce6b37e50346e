"""What newer rows change about the columns of a dataset."""

from __future__ import annotations

from dataclasses import dataclass, field

from veduta.core.data.fields import DataField
from veduta.web.datasets.models import Dataset
from veduta.web.datasets.uses import Uses, find_all_uses


@dataclass(frozen=True)
class ChangedColumn:
    """A column that is missing or of another kind (which it `was`), and what uses it."""

    field: DataField
    uses: Uses
    was: str = ""

    def describe(self) -> str:
        what = f"was {self.was} and is now {self.field.kind.words}" if self.was else "is missing"
        return f"“{self.field.name}” {what}.{f' Used by {self.uses.describe()}.' if self.uses else ''}"


@dataclass(frozen=True)
class SchemaChanges:
    """Columns that are missing, of another kind (`retyped`), or new (`added`)."""

    missing: list[ChangedColumn] = field(default_factory=list)
    retyped: list[ChangedColumn] = field(default_factory=list)
    added: list[DataField] = field(default_factory=list)

    def describe(self) -> dict[str, list[str]]:
        """Each change in a sentence, by its kind, as a refresh keeps it."""
        return {
            "missing": [each.describe() for each in self.missing],
            "retyped": [each.describe() for each in self.retyped],
            "added": [f"“{each.name}” is new." for each in self.added],
        }


def find_changes(dataset: Dataset, fields: list[DataField]) -> SchemaChanges:
    """What rows with these fields change, with what uses the fields."""
    old = {field.id: field for field in dataset.schema}
    new = {field.id: field for field in fields}
    uses = find_all_uses(dataset)
    return SchemaChanges(
        missing=[ChangedColumn(field, uses[key]) for key, field in old.items() if key not in new],
        retyped=[
            ChangedColumn(field, uses[key], old[key].kind.words)
            for key, field in new.items()
            if key in old and old[key].kind != field.kind
        ],
        added=[field for key, field in new.items() if key not in old],
    )
