"""The guide's worked examples: every table whose headings are a dimension and formulas is worked out again."""

from __future__ import annotations

import re
import unittest
from functools import cache
from pathlib import Path

import polars as pl

from tests.core.support import TODAY, MemoryTable, field
from veduta.core.calendar import Grain, Grouping
from veduta.core.chart.kinds_page import PAGE, write_kinds_page
from veduta.core.data.fields import DataType, Schema
from veduta.core.formula.measures import replace_names_with_ids
from veduta.core.model.definition import JoinKey, ModelDefinition, ModelJoin, ModelTable
from veduta.core.model.model import Model
from veduta.core.number_format import label_value
from veduta.core.query.answer import answer, make_context
from veduta.core.query.measures import Measure
from veduta.core.query.query import Query
from veduta.demo import generate

GUIDE = Path(__file__).parents[2] / "docs" / "guide"
KINDS = {
    pl.String: DataType.TEXT,
    pl.Int64: DataType.WHOLE,
    pl.Float64: DataType.DECIMAL,
    pl.Boolean: DataType.YES_NO,
    pl.Date: DataType.DATE,
}
DIMENSION = re.compile(r"^(?:(Year|Quarter|Month|Week|Day) of )?([A-Z][a-z ]+)$")


@cache
def model():
    """The demo's sailings, with routes and targets joined."""
    sailings = (
        generate.generate_sailings(60_000)
        .with_columns(cancelled=pl.col("cancelled") == "yes")
        .drop("departure", "sailing_id")
    )
    frames = {
        "": sailings,
        "routes": generate.generate_routes().select("route", "from_port"),
        "targets": generate.generate_targets(generate.generate_sailings(60_000)),
    }
    tables = {}
    for name, frame in frames.items():
        frame = frame.cast({c: pl.Int64 for c, t in frame.schema.items() if t.is_integer()})
        fields = [
            field(c.replace("_", " ").capitalize(), KINDS[type(t)]).model_copy(update={"id": c})
            for c, t in frame.schema.items()
        ]
        tables[name] = (MemoryTable(frame, Schema(fields)), fields)
    definition = ModelDefinition(
        tables=(
            ModelTable(id="routes", dataset="r", name="Routes"),
            ModelTable(id="targets", dataset="t", name="Targets"),
        ),
        joins=(
            ModelJoin(right="routes", keys=(JoinKey(left="route", right="route"),)),
            ModelJoin(
                right="targets",
                keys=(JoinKey(left="route", right="route"), JoinKey(left="sailing_date", right="month", grain="month")),
            ),
        ),
    )
    found = Model(tables, definition, name="Sailings")
    return found, make_context(found, TODAY)


def worked_out(heading: str, formulas: list[str]) -> dict[str, list]:
    """The formulas by a dimension, as words to values; "Total" too."""
    found, context = model()
    grain, name = DIMENSION.match(heading).groups()
    column = next(f for f in found.schema if f.name == name.capitalize())
    group = Grouping(field=column.id, grain=Grain(grain.lower()) if grain else None)
    measures = tuple(Measure(formula=replace_names_with_ids(text, found.schema)) for text in formulas)
    result = answer(Query(groups=(group,), measures=measures, totals=((),)), found, context)
    rows = {label_value(row[0], group.grain): list(row[1:]) for row in result.frame.iter_rows()}
    return rows | {"Total": list(result.totals[()].row(0))}


def tables(text: str):
    """The tables of a page, as (headings, rows) of texts."""
    for block in re.findall(r"(?:^\|.*\n)+", text, re.M):
        lines = [[cell.strip() for cell in line.strip().strip("|").split("|")] for line in block.splitlines()]
        yield lines[0], lines[2:]


class Guide(unittest.TestCase):
    def test_the_worked_examples_have_the_numbers_they_show(self):
        checked = 0
        for page in sorted(GUIDE.glob("*.md")):
            for headings, rows in tables(page.read_text()):
                formulas = [heading.strip("`") for heading in headings[1:] if heading.startswith("`")]
                if not DIMENSION.match(headings[0]) or len(formulas) != len(headings) - 1:
                    continue
                found = worked_out(headings[0], formulas)
                for row in rows:
                    for formula, said, value in zip(formulas, row[1:], found[row[0].strip("*")], strict=True):
                        with self.subTest(page=page.name, row=row[0], formula=formula):
                            checked += 1
                            if said == "–":
                                self.assertIsNone(value)
                                continue
                            number = said.replace(",", "").replace("−", "-")
                            decimals = len(number.partition(".")[2])
                            self.assertEqual(round(float(value), decimals), float(number))
        self.assertGreater(checked, 50)

    def test_the_numbers_in_its_sentences(self):
        text = (GUIDE / "10-calculation.md").read_text()
        sailings = generate.generate_sailings(60_000)
        day, region = pl.col("sailing_date"), pl.col("region")
        october = sailings.filter(day.dt.month() == 10, day.dt.weekday() == 6)
        by_region = sailings["region"].value_counts().sort("count", descending=True)["count"].to_list()
        kept, all_ = by_region[:2], sailings.height
        fares = sailings.group_by(day.dt.year().alias("year")).agg(
            pl.col("fare_revenue").filter(region == "North Reach").sum().alias("north"),
            pl.col("fare_revenue").sum().alias("all"),
        )
        in_2025 = fares.filter(pl.col("year") == 2025).row(0, named=True)
        for said in (
            f"Saturdays*, October 2026 has {october.filter(day.dt.year() == 2026).height} sailings, and a year before "
            f"{october.filter(day.dt.year() == 2025).height}",
            f"not all {sailings.filter(day.dt.month() == 10, day.dt.year() == 2025).height:,}",
            f"{sailings.filter(day.dt.year() == 2026).height:,} sailings of 2026",
            f"{sailings.filter(day.dt.year() == 2025).height:,} of all 2025",
            f"{sailings.filter(day.dt.year() == 2025, day.dt.month() <= 10).height:,} up to 31 October 2025",
            f"| Other | {all_ - sum(kept):,} | {1 - sum(kept) / all_:.3f} |",
            f"| Total | {all_:,} | 1.000 | {sum(kept) / all_:.3f} |",
            f"| 2025 | {in_2025['north']:,.0f} | {in_2025['north'] / in_2025['all']:.3f} |",
        ):
            self.assertTrue(said in text, said)


class PageOfKinds(unittest.TestCase):
    def test_it_is_as_the_kinds_declare_it(self):
        page = PAGE.read_text()
        self.assertEqual(page, write_kinds_page(page), "Run make guide.")
