"""What uses the fields of a dataset."""

from __future__ import annotations

from collections import defaultdict
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

from veduta.core.errors import VedutaError
from veduta.core.formula.measures import list_formula_fields
from veduta.core.model.definition import FormulaField
from veduta.core.phrases import join_names
from veduta.web.datasets.models import Dataset

NAMED = 5


@dataclass(frozen=True)
class Uses:
    """The charts and the formulas of the model that use a field or a formula."""

    charts: list[Any]
    formulas: list[FormulaField]

    def __len__(self) -> int:
        return len(self.charts) + len(self.formulas)

    def describe(self) -> str:
        """What uses it, the charts first: "Late by route, and the formulas Share late and Lateness"."""
        charts = [chart.name or "a chart without a name" for chart in self.charts]
        if not self.formulas:
            return join_names(charts, "and", NAMED)
        names = join_names([formula.name for formula in self.formulas], "and", NAMED)
        formulas = f"the formula{'s' * (len(self.formulas) > 1)} {names}"
        return f"{join_names(charts, 'and', NAMED)}, and {formulas}" if charts else formulas


def find_all_uses(dataset: Dataset) -> dict[str, Uses]:
    """What uses each field or formula of a dataset, by its id; unreadable charts are passed over."""
    uses: dict[str, Uses] = defaultdict(lambda: Uses([], []))
    for chart in dataset.charts.filter(deleted_at=None):
        with suppress(VedutaError):
            for field_id in chart.load().list_fields():
                uses[field_id].charts.append(chart)
    for formula in dataset.model_definition.formulas:
        for field_id in list_formula_fields(formula.text):
            uses[field_id].formulas.append(formula)
    return uses


def find_uses(dataset: Dataset, field_id: str) -> Uses:
    """What uses a field or a formula of a dataset."""
    return find_all_uses(dataset)[field_id]
