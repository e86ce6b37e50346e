"""What the shaping tests share: small tables, and steps run on them both ways."""

from __future__ import annotations

from typing import Any

import polars as pl
from polars.testing import assert_frame_equal

from tests.core.support import TODAY, field
from veduta.core.data.fields import DataField, DataType, FieldRole, Schema
from veduta.core.query.filters import Context
from veduta.core.shaping.flow import Flow, Run
from veduta.core.shaping.shaping import Shaped, fill_in_rows, load_shaping, look, shape

KINDS = {
    pl.String: DataType.TEXT,
    pl.Int64: DataType.WHOLE,
    pl.Float64: DataType.DECIMAL,
    pl.Boolean: DataType.YES_NO,
    pl.Date: DataType.DATE,
    pl.Datetime: DataType.DATETIME,
}


def flow_of(columns: dict[str, Any], **kinds: DataType) -> Flow:
    """A table of columns by name; ids are the names in lower case. Kinds are told for columns that are all empty."""
    columns_made, fields = [], []
    for name, values in columns.items():
        series = pl.Series(values, dtype=kinds[name].dtype if name in kinds else None, strict=False)
        if series.dtype == pl.Null:
            series = series.cast(pl.String)
        made = field("X", KINDS[series.dtype.base_type()]).model_copy(update={"name": name, "source": name})
        made = made.model_copy(update={"id": "".join(c if c.isalnum() else "_" for c in name.lower())})
        fields.append(made)
        columns_made.append(series.alias(made.id))
    return Flow(pl.DataFrame(columns_made).lazy(), Schema(fields))


def run_with(**tables: Flow) -> Run:
    return Run(tables.__getitem__, Context(TODAY), str.capitalize)


def steps(*definitions: dict[str, Any]):
    return load_shaping({"steps": [{"id": f"s{i}", **each} for i, each in enumerate(definitions, 1)]})


def shaped(flow: Flow, *definitions: dict[str, Any], **tables: Flow) -> Shaped:
    """The steps run in one go and looked at one by one, which must agree in rows and in what they report.

    Decimals are added in the order that is fastest, which is not the same each time, so their last digits may differ;
    and so may the order of groups, which is nobody's."""
    shaping = steps(*definitions)
    result = shape(shaping, flow, run_with(**tables))
    fill_in_rows(shaping.active, result.reports, flow.rows.collect().height)
    looked = look(shaping, flow, run_with(**tables))
    assert looked.problem is None, looked.problem
    rows = looked.flow.rows.select(result.frame.columns).collect()
    ordered = all(step.do != "group" for step in shaping.active)
    assert_frame_equal(rows, result.frame, check_row_order=ordered, rel_tol=1e-12, abs_tol=1e-9)
    for key, report in result.reports.items():
        assert (report.rows_in, report.rows_out) == (looked.reports[key].rows_in, looked.reports[key].rows_out), (
            key,
            report,
        )
    return result


def table(result: Shaped) -> dict[str, list[Any]]:
    """The result's columns by name."""
    return {f.name: result.frame[f.id].to_list() for f in result.schema}


__all__ = ["DataField", "FieldRole", "flow_of", "run_with", "shaped", "steps", "table"]
