"""Random tables and questions, and their comparison with the slow evaluator."""

from __future__ import annotations

import datetime as dt
import math
from dataclasses import dataclass, field
from typing import Any

from hypothesis import strategies as st

from tests.core.query.slow_periods import FINENESS
from tests.core.query.slowly import Slowly
from tests.core.support import SAILING_FIELDS, TODAY, sailings_table
from veduta.core.calendar import Grouping
from veduta.core.data.fields import DataType
from veduta.core.formula.measures import replace_names_with_ids
from veduta.core.model.definition import ModelDefinition, ParameterField
from veduta.core.model.model import Model
from veduta.core.query.answer import answer, make_context
from veduta.core.query.filters import (
    DatesFilter,
    EmptyFilter,
    ListFilter,
    MeasureFilter,
    PointsFilter,
    RangeFilter,
    RelativeFilter,
)
from veduta.core.query.measures import Measure, TopN
from veduta.core.query.query import Query


class asked:  # noqa: N801  a counter
    questions = 0


REGION, ROUTE = Grouping(field="region"), Grouping(field="route")
# Few enough days that what stood there a year, a month or a week before is often found.
FEW_DAYS = [dt.date(year, month, day) for year in (2023, 2024) for month in (1, 2, 12) for day in range(1, 8)]
DAYS = st.one_of(
    st.none(),
    st.sampled_from(FEW_DAYS),
    st.sampled_from(FEW_DAYS),
    st.sampled_from(FEW_DAYS),
    st.dates(dt.date(2023, 12, 25), dt.date(2025, 1, 8)),
    st.sampled_from(
        [dt.date(2024, 2, 29), dt.date(2023, 2, 28), dt.date(2025, 2, 28), dt.date(2024, 12, 31), dt.date(2024, 4, 1)]
    ),
)
MOMENTS = st.one_of(
    st.none(),
    st.datetimes(dt.datetime(2024, 2, 28), dt.datetime(2024, 3, 2)).map(
        lambda d: d.replace(minute=d.minute // 30 * 30, second=0, microsecond=0)
    ),
)
ROWS = st.lists(
    st.fixed_dictionaries(
        {
            "region": st.sampled_from(["North Reach", "Inner Sound", None]),
            "route": st.sampled_from(["A", "B", "Other", None]),
            "sailed": DAYS,
            "departure": MOMENTS,
            "fare": st.one_of(st.none(), st.integers(-50, 50).map(float)),
            "passengers": st.one_of(st.none(), st.integers(-3, 9)),
            "cancelled": st.sampled_from([True, False, None]),
        }
    ),
    max_size=24,
)
PLAIN = [
    "sum(fare)",
    "sum(fare where cancelled)",
    "sum(fare) / sum(passengers)",
    "mean(fare)",
    "median(fare)",
    "count_rows()",
    "count(fare)",
    "count_distinct(passengers)",
    "min(sailed)",
    "max(passengers)",
    "percentile(fare, 25)",
    "count_rows(where passengers > 2) / count_rows()",
    "sum(fare - passengers)",
    "if(sum(fare) > 0, 'more', 'less')",
    "count_rows(where passengers > :free)",
    "count_rows(where not (passengers < :free))",
    "sum(if(fare > :free + 1, passengers))",
    "count_rows(where passengers > 2 and fare > :free)",
    "count_rows(where passengers > 2 or fare > :free)",
    "count_rows(where not (cancelled and not fare > :free))",
    "sum(fare) per ()",
    "sum(fare) per (region)",
    "sum(fare) per (shown) / sum(fare) per ()",
    "count_rows() / count_rows() per ()",
    "mean(sum(fare) per (shown, sailed))",
    "max(count_rows() per (shown, route))",
    "sum(fare) - sum(fare) per (shown except sailed)",
    "sum(fare) per (shown except month)",
    "sum(if(fare = max(fare) per (route), passengers))",
    "median(sum(fare) per (route, sailed))",
    "sum(fare) unfiltered (route)",
    "last(sum(passengers) per (shown, sailed))",
    "max(count_rows() per (shown, departure))",
    "max(count_rows() per (shown, trunc(departure, 'day')))",
    "max(sum(fare) per (shown, trunc(sailed, 'quarter')))",
]
WINDOWS = [
    "running(count_rows())",
    "previous(sum(fare))",
    "difference(count_rows())",
    "moving(mean, count_rows(), 2)",
    "moving(mean, sum(fare), 3)",
    "running(max, sum(passengers))",
]
RANKS = ["share(count_rows())", "rank(sum(fare))", "rank(count_rows(), 'lowest first')"]
TIMED = [
    "shift(sum(fare), -1, '{}')",
    "shift(count_distinct(passengers), 1, '{}')",
    "whole(sum(fare), '{}')",
    "whole(median(fare), '{}')",
    "to_date(sum(fare), '{}')",
    "to_date(count_distinct(passengers), '{}')",
    "change(count_rows(), '{}')",
    "growth(sum(fare), '{}')",
    "to_date(sum(fare) / count_rows(), '{}')",
    "to_date(median(passengers), '{}')",
    "sum(fare) - shift(sum(fare), -2, '{}')",
    "shift(sum(fare) / count_rows() per (), -1, '{}')",
]
DEEPER = [
    "to_date(mean, count_rows(), '{}')",
    "whole(shift(sum(fare), -1, '{0}'), '{0}')",
    "shift(to_date(sum(fare), 'year'), -1, '{}')",
    "since(sum(passengers) > 3) + shift(count_rows(), -1, '{}')",
    "to_date(max(sum(fare) per (shown, sailed)), '{}')",
]
NESTS = {
    "year": ("year",),
    "quarter": ("quarter", "year"),
    "month": ("month", "quarter", "year"),
    "week": ("week", "year"),
    "day": ("day", "week", "month", "quarter", "year"),
    "hour": ("hour", "day", "month"),
}
SOME_DAY = st.one_of(st.none(), st.dates(dt.date(2023, 10, 1), dt.date(2025, 2, 1)))
MONTHS = st.lists(
    st.sampled_from(["2024-01-01", "2024-02-01", "2024-03-01", "2024-12-01"]), min_size=1, max_size=3, unique=True
)
PERIOD_FILTERS = st.one_of(
    st.builds(lambda a, b: DatesFilter(field="sailed", start=a, end=b), SOME_DAY, SOME_DAY).filter(
        lambda f: (f.start or f.end) and not (f.start and f.end and f.start > f.end)
    ),
    st.builds(
        RelativeFilter,
        field=st.just("sailed"),
        unit=st.sampled_from(["year", "quarter", "month"]),
        count=st.integers(1, 6),
        back=st.integers(0, 2),
    ),
    MONTHS.map(lambda months: ListFilter(field="sailed", grain="month", values=tuple(months))),
)
OTHER_FILTERS = st.one_of(
    st.just(ListFilter(field="route", values=("A", None))),
    st.lists(st.integers(1, 7), min_size=1, max_size=4, unique=True).map(
        lambda d: ListFilter(field="sailed", grain="weekday", values=tuple(d))
    ),
    st.just(ListFilter(field="sailed", grain="month_of_year", values=(1, 2, 12))),
    st.just(ListFilter(field="departure", grain="hour_of_day", values=(0, 1, 2, 8, 12), exclude=True)),
    st.just(EmptyFilter(field="sailed", exclude=True)),
    st.just(RangeFilter(field="passengers", low=0)),
    st.just(RangeFilter(field="passengers", low_parameter="free")),
    st.just(
        PointsFilter(
            groups=(Grouping(field="sailed", grain="month"), ROUTE),
            points=(("2024-01-01", "A"), ("2024-12-01", "B"), ("2024-02-01", None)),
        )
    ),
)
GROUP_FILTERS = st.sampled_from(
    [
        MeasureFilter(measure=Measure(formula="count_rows()"), low=2),
        MeasureFilter(measure=Measure(formula="sum(fare)"), high=40),
        MeasureFilter(measure=Measure(formula="sum(fare)"), low_parameter="free"),
    ]
)


def grains(*names: str, date: str = "sailed") -> tuple[Grouping, ...]:
    return tuple(Grouping(field=date, grain=name) for name in names)


AXES = [
    *(grains(name) for name in FINENESS[:5]),
    grains("year", "month"),
    grains("quarter", "month"),
    grains("year", "month_of_year"),
    grains("month", "weekday"),
    grains("year", "quarter", "month"),
    grains("month_of_year", "month"),
    grains("hour", date="departure"),
    grains("day", "hour_of_day", date="departure"),
]
OTHERS = [(), (ROUTE,), (REGION, ROUTE)]


@dataclass
class Asked:
    """A random question with its table."""

    rows: list[dict[str, Any]]
    groups: tuple[Grouping, ...] = ()
    texts: list[str] = field(default_factory=list)
    filters: tuple = ()
    fiscal: int = 1
    keep: TopN | None = None
    totals: tuple[tuple[int, ...], ...] = ()
    stock: str = ""


@st.composite
def questions(draw, timed: bool) -> Asked:
    """A question; a timed one is about other periods, along a time axis or over those that its filters let pass."""
    periods = draw(st.lists(PERIOD_FILTERS, max_size=2))
    filters = (*periods, *draw(st.lists(OTHER_FILTERS, max_size=2)), *draw(st.lists(GROUP_FILTERS, max_size=1)))
    if timed:
        with_axis = not periods or draw(st.booleans())
        axis = draw(st.sampled_from(AXES)) if with_axis else ()
        groups = (*axis, *draw(st.sampled_from(OTHERS)))
        finest = max((g.grain for g in axis if g.grain in FINENESS), key=FINENESS.index, default="")
        unit = draw(st.sampled_from(NESTS[finest] if finest else ("year", "quarter", "month")))
        offered = [*TIMED, *(DEEPER + WINDOWS if finest else [])]
        if finest == "week" and unit == "year":
            offered = [text for text in offered if "whole" not in text]
        if "year" not in NESTS.get(finest, ("year",)):
            offered = [text for text in offered if "'year'), -1" not in text]
        texts = [
            text.format(unit) for text in draw(st.lists(st.sampled_from(offered), min_size=1, max_size=3, unique=True))
        ]
    else:
        groups = draw(
            st.sampled_from(
                [
                    (),
                    (REGION,),
                    (ROUTE, REGION),
                    grains("month"),
                    (*grains("month"), ROUTE),
                    (ROUTE, *grains("year", "month")),
                ]
            )
        )
        texts = draw(st.lists(st.sampled_from(PLAIN), min_size=1, max_size=4, unique=True))
    keep, totals = None, ()
    if groups and draw(st.booleans()):
        keep = TopN(count=draw(st.integers(1, 2)), by=Measure(), rest=draw(st.booleans()), empties=draw(st.booleans()))
    if groups and draw(st.booleans()):
        totals = draw(st.sampled_from([((),), ((0,), ()), ((len(groups) - 1,),)]))
    return Asked(
        draw(ROWS),
        groups,
        texts,
        filters,
        draw(st.sampled_from([1, 1, 4, 2])),
        keep,
        totals,
        draw(st.sampled_from(["", "", "fare"])),
    )


def posed(question: Asked) -> tuple[Query, Model]:
    """The question as it is asked, and the model of its table."""
    table = sailings_table(question.rows)
    fields = [f.model_copy(update={"over_dates": "last"}) if f.id == question.stock else f for f in SAILING_FIELDS]
    parameter = ParameterField(id="free", name="Free", kind=DataType.DECIMAL, required=False)
    model = Model({"": (table, fields)}, ModelDefinition(fiscal_month=question.fiscal, parameters=(parameter,)))
    filters = tuple(
        f.model_copy(update={"measure": Measure(formula=replace_names_with_ids(f.measure.formula, model.schema))})
        if isinstance(f, MeasureFilter)
        else f
        for f in question.filters
    )
    query = Query(
        groups=question.groups,
        measures=tuple(Measure(formula=replace_names_with_ids(text, model.schema)) for text in question.texts),
        filters=filters,
        keep=question.keep,
        totals=question.totals,
    )
    return query, model


def compare(test, question: Asked) -> None:
    """The same answer from the engine and from the slow evaluator."""
    asked.questions += len(question.texts)
    query, model = posed(question)
    result = answer(query, model, make_context(model, TODAY))
    slow = Slowly(
        question.rows, question.groups, question.filters, question.fiscal, frozenset(("free",)), question.stock
    )
    _Comparison(test, question, result, slow).run()


class _Comparison:
    def __init__(self, test, question: Asked, result: Any, slow: Slowly) -> None:
        self.test, self.question, self.result, self.slow = test, question, result, slow
        self.depth = len(question.groups)

    def run(self) -> None:
        shown = self.slow.shown()
        self.there, self.drops = len(shown), any(not each.low_parameter for each in self.slow.conditions)
        kept, dropped = self.kept(shown)
        rest = bool(self.question.keep and self.question.keep.rest and dropped)
        found = {}
        for row in self.result.frame.iter_rows(named=True):
            key = tuple(row[f"d{i}"] for i in range(self.depth))
            found[(*key, bool(row.get("rest")))] = [row[f"m{i}"] for i in range(len(self.question.texts))]
        wanted = {(*cell, False): ("cell", cell) for cell in kept}
        if rest:
            wanted |= {(None, *cell, True): ("rest", cell) for cell in dict.fromkeys(cell[1:] for cell in dropped)}
        self.test.assertEqual(set(found), set(wanted))
        for key, (what, cell) in wanted.items():
            for text, value in zip(self.question.texts, found[key], strict=True):
                if what == "cell":
                    self.same(text, key, value, self.slow.of_cell(text, cell))
                elif self.fits_totals(text):
                    expected = self.slow.of_line(text, self.question.groups[1:], cell, list(dropped), True)
                    if "share" not in text:
                        self.same(text, key, value, expected)
        self.totals(kept, dropped if rest else [])

    def fits_totals(self, text: str) -> bool:
        """Functions of time inside others are worked out in cells only."""
        nested = ("whole(shift", "shift(to_date", "since(", "to_date(mean", "shift(sum(fare) / count")
        return not any(text.startswith(each) for each in nested) and "shift(to_date" not in text

    def kept(self, shown: list) -> tuple[list, list]:
        keep = self.question.keep
        if not keep or not self.question.groups:
            return shown, []
        sizes: dict[Any, int] = {}
        for cell in shown:
            sizes[cell[0]] = sizes.get(cell[0], 0) + len(self.slow.inside(self.slow.rows, self.question.groups, cell))
        ranked = [name for name in sizes if name is not None or keep.empties]
        best = sorted(ranked, key=lambda name: (-sizes[name], name is None, name if name is not None else 0))[
            : keep.count
        ]
        return [c for c in shown if c[0] in best], [c for c in shown if c[0] not in best]

    def totals(self, kept: list, gathered: list) -> None:
        for positions, frame in self.result.totals.items():
            groups = tuple(self.question.groups[i] for i in positions)
            lines = {}
            for row in frame.iter_rows(named=True):
                key = tuple(row[f"d{i}"] for i in positions)
                lines[(*key, bool(row.get("rest")))] = [row[f"m{i}"] for i in range(len(self.question.texts))]
            apart = bool(gathered) and 0 in positions
            behind = kept if apart else [*kept, *gathered]
            wanted = {(*tuple(cell[i] for i in positions), False): behind for cell in behind} or {}
            if apart:
                place = positions.index(0)
                for cell in gathered:
                    key = [cell[i] for i in positions]
                    key[place] = None
                    wanted[(*key, True)] = gathered
            if not positions:
                wanted = {(False,): behind}
            self.test.assertEqual(set(lines), set(wanted), positions)
            for key, cells in wanted.items():
                own = [(g, v) for i, g, v in zip(positions, groups, key, strict=False) if not (key[-1] and i == 0)]
                for text, value in zip(self.question.texts, lines[key], strict=True):
                    if self.fits_totals(text):
                        narrowed = apart or self.drops or len(behind) < self.there
                        line = self.slow.of_line(
                            text, tuple(g for g, _ in own), tuple(v for _, v in own), cells, narrowed
                        )
                        self.same(f"{text} in a total", key, value, line)

    def same(self, text: str, key: Any, value: Any, wanted: Any) -> None:
        wanted = None if isinstance(wanted, float) and not math.isfinite(wanted) else wanted
        numbers = isinstance(value, float | int) and isinstance(wanted, float | int)
        close = numbers and math.isclose(value, wanted, rel_tol=1e-9, abs_tol=1e-9)
        self.test.assertTrue(
            value == wanted or close, f"{text} by {self.question.groups} at {key}: {value!r}, not {wanted!r}"
        )
