"""Two versions of a dataset side by side: rows, columns, sums of measures."""

from __future__ import annotations

from typing import Any

import polars as pl

from veduta.core.data.fields import DataType, NumberFormat
from veduta.core.errors import VedutaError
from veduta.core.number_format import format_value, settle
from veduta.web.datasets.models import Dataset, Version
from veduta.web.datasets.store import get_table


def compare(dataset: Dataset, first: int, second: int) -> dict[str, Any]:
    """What differs between two versions by number. Raises VedutaError if one is not kept any more."""
    before, after = (_get_version(dataset, number) for number in (first, second))
    names = {field.id: field for field in dataset.all_fields}

    def name(key: str) -> str:
        return names[key].name if key in names else key

    measures = []
    for key, kind in after.kinds.items():
        if DataType(kind).is_number and key in names and names[key].role == "measure" and key in before.kinds:
            sums = [_sum_column(version, key) for version in (before, after)]
            form = settle(names[key].format, sums, DataType(kind), records=True)
            step = None if sums[0] is None or sums[1] is None else sums[1] - sums[0]
            measures.append(
                {
                    "name": name(key),
                    "before": format_value(sums[0], DataType(kind), form),
                    "after": format_value(sums[1], DataType(kind), form),
                    "step": format_value(step, DataType(kind), form),
                    "same": step == 0,
                    "up": step is not None and step > 0,
                }
            )
    return {
        "before": before,
        "after": after,
        "rows": after.rows - before.rows,
        "rows_words": format_value(after.rows - before.rows, DataType.WHOLE, NumberFormat(decimals=0)),
        "measures": measures,
        "missing": [name(key) for key in before.kinds if key not in after.kinds],
        "added": [name(key) for key in after.kinds if key not in before.kinds],
        "retyped": [
            (name(key), DataType(before.kinds[key]).words, DataType(kind).words)
            for key, kind in after.kinds.items()
            if before.kinds.get(key, kind) != kind
        ],
    }


def _get_version(dataset: Dataset, number: int) -> Version:
    version = dataset.versions.filter(number=number, state=Version.State.READY).first()
    if version is None:
        raise VedutaError(f"Version {number} is not kept any more.")
    return version


def _sum_column(version: Version, column: str) -> int | float | None:
    values = get_table(version.pk).scan([column]).collect()[column]
    if values.null_count() == len(values):
        return None
    return int(values.cast(pl.Int128).sum()) if values.dtype == pl.Int64 else float(values.sum())
