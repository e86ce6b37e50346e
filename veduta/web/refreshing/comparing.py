"""Two versions of a dataset side by side: rows, columns, sums of measures."""

from __future__ import annotations

from typing import Any

import polars as pl

from veduta.core.data.fields import Kind, NumberFormat
from veduta.core.errors import VedutaError
from veduta.core.formats import format_value, settle
from veduta.web.datasets.models import Dataset, Version
from veduta.web.datasets.store import table_of


def compare(dataset: Dataset, first: int, second: int) -> dict[str, Any]:
    """What differs between two versions by number. Raises VedutaError if one is not kept any more."""
    before, after = (_version(dataset, number) for number in (first, second))
    names = {field.id: field for field in dataset.all_fields}

    def name(key: str) -> str:
        return names[key].name if key in names else key

    measures = []
    for key, kind in after.kinds.items():
        if Kind(kind).is_number and key in names and names[key].role == "measure" and key in before.kinds:
            sums = [_sum(version, key) for version in (before, after)]
            form = settle(names[key].format, sums, Kind(kind), records=True)
            step = None if sums[0] is None or sums[1] is None else sums[1] - sums[0]
            measures.append(
                {
                    "name": name(key),
                    "before": format_value(sums[0], Kind(kind), form),
                    "after": format_value(sums[1], Kind(kind), form),
                    "step": format_value(step, Kind(kind), form),
                    "same": step == 0,
                    "up": step is not None and step > 0,
                }
            )
    return {
        "before": before,
        "after": after,
        "rows": after.rows - before.rows,
        "rows_words": format_value(after.rows - before.rows, Kind.WHOLE, NumberFormat(decimals=0)),
        "measures": measures,
        "missing": [name(key) for key in before.kinds if key not in after.kinds],
        "added": [name(key) for key in after.kinds if key not in before.kinds],
        "retyped": [
            (name(key), Kind(before.kinds[key]).words, Kind(kind).words)
            for key, kind in after.kinds.items()
            if before.kinds.get(key, kind) != kind
        ],
    }


def _version(dataset: Dataset, number: int) -> Version:
    version = dataset.versions.filter(number=number, state=Version.State.READY).first()
    if version is None:
        raise VedutaError(f"Version {number} is not kept any more.")
    return version


def _sum(version: Version, column: str) -> int | float | None:
    values = table_of(version.pk).scan([column]).collect()[column]
    if values.null_count() == len(values):
        return None
    return int(values.cast(pl.Int128).sum()) if values.dtype == pl.Int64 else float(values.sum())
