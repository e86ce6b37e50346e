"""Twenty questions that cover what can be calculated, over sailings, routes and targets: against hand-written Polars,
and the same as SQL on SQLite and in pandas."""

from __future__ import annotations

import datetime as dt
import os
import sqlite3
import statistics
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import polars as pl

from bench.measuring import Figure, Figures, alternately, once
from veduta.core.calendar import Grouping
from veduta.core.data.fields import DataField, DataType
from veduta.core.formula.measures import check_measure, replace_names_with_ids
from veduta.core.model.definition import JoinKey, ModelDefinition, ModelJoin, ModelTable
from veduta.core.model.model import Model
from veduta.core.model.tables import ColumnFacts
from veduta.core.query.answer import answer, make_context
from veduta.core.query.filters import Context, DatesFilter, ListFilter, MembershipFilter
from veduta.core.query.measures import Measure, TopN
from veduta.core.query.query import Query
from veduta.demo.generate import generate_routes, generate_sailings, generate_targets

KINDS = {
    pl.String: DataType.TEXT,
    pl.Int64: DataType.WHOLE,
    pl.Float64: DataType.DECIMAL,
    pl.Boolean: DataType.YES_NO,
    pl.Date: DataType.DATE,
    pl.Datetime: DataType.DATETIME,
}
LAST_12 = (dt.date(2025, 11, 1), dt.date(2026, 10, 31))
IN_2026 = (dt.date(2026, 1, 1), dt.date(2026, 10, 31))
MONTH, WEEK = pl.col("day").dt.truncate("1mo").alias("m"), pl.col("day").dt.truncate("1w").alias("w")
FARE = pl.col("fare").sum()


class FrameTable:
    """Columns in memory as the core's `Table`."""

    def __init__(self, frame: pl.DataFrame) -> None:
        self.frame, self.rows = frame, frame.height
        self._facts: dict[str, ColumnFacts] = {}

    def scan(self, names: list[str]) -> pl.LazyFrame:
        return self.frame.lazy().select(names) if names else self.frame.lazy().select(row=pl.repeat(True, pl.len()))

    def get_facts(self, column: str) -> ColumnFacts:
        if column not in self._facts:
            values = self.frame[column]
            low, high = (values.min(), values.max()) if values.dtype != pl.String else (None, None)
            plain = [v.isoformat() if isinstance(v, dt.date) else v for v in (low, high)]
            self._facts[column] = ColumnFacts(values.null_count(), values.drop_nulls().n_unique(), *plain)
        return self._facts[column]


def make(rows: int) -> tuple[dict[str, pl.DataFrame], Model]:
    """The tables, and the model that joins them."""
    some = generate_sailings(min(rows, 1_000_000))
    days = some.select(
        "route",
        "vessel",
        pl.col("sailing_date").alias("day"),
        pl.col("capacity").cast(pl.Int64),
        pl.col("passengers").cast(pl.Int64),
        pl.col("sailing_date")
        .cast(pl.Datetime("us"))
        .dt.offset_by(pl.int_range(pl.len()).mod(18).add(5).cast(pl.String) + "h")
        .alias("at"),
        pl.col("fare_revenue").alias("fare"),
        pl.col("minutes_late").cast(pl.Int64).alias("late"),
        cancelled=pl.col("cancelled") == "yes",
    )
    frames = {
        "": pl.concat([days] * max(1, rows // days.height)).rechunk(),
        "routes": generate_routes().select("route", pl.col("region").alias("area")),
        "targets": generate_targets(some).select("month", "route", pl.col("revenue").alias("goal")),
    }
    tables = {}
    for name, frame in frames.items():
        fields = [DataField(id=c, source=c, name=c, kind=KINDS[type(t)]) for c, t in frame.schema.items()]
        tables[name] = (FrameTable(frame), fields)
    definition = ModelDefinition(
        tables=(
            ModelTable(id="routes", dataset="r", name="routes"),
            ModelTable(id="targets", dataset="t", name="targets"),
        ),
        joins=(
            ModelJoin(right="routes", keys=(JoinKey(left="route", right="route"),)),
            ModelJoin(
                right="targets",
                keys=(JoinKey(left="route", right="route"), JoinKey(left="day", right="month", grain="month")),
            ),
        ),
    )
    return frames, Model(tables, definition, name="sailings")


@dataclass
class Case:
    """One question in four ways, or in two."""

    name: str
    query: Query
    polars: Callable[[], object]
    sql: str = ""
    pandas: Callable[[], object] | None = None


def asked(model: Model, by: list[str], *formulas: str, **more) -> Query:
    """A question of formulas by dimensions, a date's with its grain: day@month."""
    groups = tuple(Grouping(field=b.partition("@")[0], grain=b.partition("@")[2] or None) for b in by)
    return Query(
        groups=groups,
        measures=tuple(Measure(formula=replace_names_with_ids(f, model.schema)) for f in formulas),
        **more,
    )


def cases(frames: dict[str, pl.DataFrame], model: Model, p, r, t) -> list[Case]:
    """`p`, `r` and `t` are the tables as pandas frames (None: not measured)."""
    s, lazy_routes, goals = frames[""].lazy(), frames["routes"].lazy(), frames["targets"].lazy()

    query = partial(asked, model)

    def between(days) -> pl.Expr:
        return pl.col("day").is_between(*days)

    def months() -> pl.LazyFrame:
        return s.group_by(MONTH).agg(FARE).sort("m")

    def month():
        return p["day"].dt.to_period("M")

    dates = DatesFilter(field="day", start=LAST_12[0], end=LAST_12[1])
    shown = DatesFilter(field="day", start=IN_2026[0], end=IN_2026[1])
    fare = Measure(field="fare", aggregate="sum")
    passengers = Measure(field="passengers", aggregate="sum")
    m = "date(day, 'start of month')"
    by_month = f"with m as (select {m} k, sum(fare) v from s group by 1)"
    return [
        Case(
            "One sum",
            query([], "sum(fare)"),
            lambda: s.select(FARE, n=pl.col("fare").count(), rows=pl.len()).collect(),
            "select sum(fare) from s",
            lambda: p["fare"].sum(),
        ),
        Case(
            "By route, sorted",
            query(["route"], "sum(fare)"),
            lambda: s.group_by("route").agg(FARE).sort("route").collect(),
            "select route, sum(fare) from s group by 1",
            lambda: p.groupby("route")["fare"].sum(),
        ),
        Case(
            "By month",
            query(["day@month"], "sum(fare)"),
            lambda: months().collect(),
            f"select {m}, sum(fare) from s group by 1",
            lambda: p.groupby(month())["fare"].sum(),
        ),
        Case(
            "By month and looked-up region",
            query(["day@month", "routes.area"], "sum(fare)"),
            lambda: (
                s.join(lazy_routes, on="route", how="left")
                .group_by(MONTH, "area")
                .agg(FARE)
                .sort("m", "area")
                .collect()
            ),
            f"select {m}, area, sum(fare) from s left join routes using (route) group by 1, 2",
            lambda: p.merge(r, on="route", how="left").groupby([month(), "area"])["fare"].sum(),
        ),
        Case(
            "A ratio of sums with its total",
            query(["vessel"], "sum(fare) / sum(passengers)", totals=((),)),
            lambda: pl.collect_all(
                [
                    s.group_by("vessel").agg(x=FARE / pl.col("passengers").sum()).sort("vessel"),
                    s.select(x=FARE / pl.col("passengers").sum()),
                ]
            ),
            "select vessel, sum(fare) / sum(passengers) from s group by 1 union all"
            " select null, sum(fare) / sum(passengers) from s",
            lambda: (p.groupby("vessel")[["fare", "passengers"]].sum(), p[["fare", "passengers"]].sum()),
        ),
        Case(
            "A conditional share",
            query(["route"], "count_rows(where late > 10) / count_rows()"),
            lambda: s.group_by("route").agg(x=(pl.col("late") > 10).sum() / pl.len()).sort("route").collect(),
            "select route, 1.0 * count(case when late > 10 then 1 end) / count(*) from s group by 1",
            lambda: (p["late"] > 10).groupby(p["route"]).mean(),
        ),
        Case(
            "Distinct values",
            query(["route"], "count_distinct(vessel)"),
            lambda: s.group_by("route").agg(pl.col("vessel").drop_nulls().n_unique()).sort("route").collect(),
            "select route, count(distinct vessel) from s group by 1",
            lambda: p.groupby("route")["vessel"].nunique(),
        ),
        Case(
            "A median",
            query(["vessel"], "median(late)"),
            lambda: s.group_by("vessel").agg(pl.col("late").median()).sort("vessel").collect(),
            "with o as (select vessel, late, row_number() over (partition by vessel order by late) i, count(*)"
            " over (partition by vessel) n from s where late is not null) select vessel, avg(late) from o"
            " where i in ((n + 1) / 2, (n + 2) / 2) group by 1",
            lambda: p.groupby("vessel")["late"].median(),
        ),
        Case(
            "The top 8 of a year",
            query(["route"], "sum(fare)", filters=(dates,), keep=TopN(count=8, by=fare)),
            lambda: s.filter(between(LAST_12)).group_by("route").agg(FARE).top_k(8, by="fare").collect(),
            f"select route, sum(fare) from s where day between '{LAST_12[0]}' and '{LAST_12[1]}' group by 1"
            " order by 2 desc limit 8",
            lambda: p[p["day"].between(*map(str, LAST_12))].groupby("route")["fare"].sum().nlargest(8),
        ),
        Case(
            "A membership",
            query(
                ["day@quarter"],
                "sum(fare)",
                filters=(MembershipFilter(field="route", keep=TopN(count=5, by=passengers)),),
            ),
            lambda: (
                s.join(
                    s.group_by("route").agg(pl.col("passengers").sum()).top_k(5, by="passengers").select("route"),
                    on="route",
                    how="semi",
                )
                .group_by(pl.col("day").dt.truncate("1q"))
                .agg(FARE)
                .sort("day")
                .collect()
            ),
            "select strftime('%Y', day) || (strftime('%m', day) + 2) / 3, sum(fare) from s"
            " where route in (select route from s group by 1 order by sum(passengers) desc limit 5) group by 1",
            lambda: (
                p[p["route"].isin(p.groupby("route")["passengers"].sum().nlargest(5).index)]
                .groupby(p["day"].dt.to_period("Q"))["fare"]
                .sum()
            ),
        ),
        Case(
            "Beside the grand total",
            query(["route"], "sum(fare) / sum(fare) per ()"),
            lambda: (
                s.group_by("route")
                .agg(FARE)
                .with_columns(x=pl.col("fare") / pl.col("fare").sum())
                .sort("route")
                .collect()
            ),
            "select route, sum(fare) / (select sum(fare) from s) from s group by 1",
            lambda: p.groupby("route")["fare"].sum() / p["fare"].sum(),
        ),
        Case(
            "The mean of daily sums",
            query(["day@month"], "mean(sum(fare) per (shown, day))"),
            lambda: s.group_by("day").agg(FARE).group_by(MONTH).agg(pl.col("fare").mean()).sort("m").collect(),
            f"select {m}, avg(v) from (select day, sum(fare) v from s group by 1) group by 1",
            lambda: p.groupby("day")["fare"].sum().pipe(lambda x: x.groupby(x.index.to_period("M")).mean()),
        ),
        Case(
            "A rank",
            query(["route"], "rank(sum(fare))"),
            lambda: (
                s.group_by("route")
                .agg(FARE)
                .with_columns(x=pl.col("fare").rank("min", descending=True))
                .sort("route")
                .collect()
            ),
            "select route, rank() over (order by sum(fare) desc) from s group by 1",
            lambda: p.groupby("route")["fare"].sum().rank(ascending=False),
        ),
        Case(
            "A share, with its total",
            query(["routes.area"], "share(sum(fare))", totals=((),)),
            lambda: (
                s.join(lazy_routes, on="route", how="left")
                .group_by("area")
                .agg(FARE)
                .with_columns(x=pl.col("fare") / pl.col("fare").sum())
                .sort("area")
                .collect()
            ),
            "select area, sum(fare) / sum(sum(fare)) over () from s left join routes using (route) group by 1",
            lambda: p.merge(r, on="route", how="left").groupby("area")["fare"].sum().pipe(lambda x: x / x.sum()),
        ),
        Case(
            "A running sum",
            query(["day@month"], "running(sum(fare))"),
            lambda: months().with_columns(x=pl.col("fare").cum_sum()).collect(),
            f"{by_month} select k, sum(v) over (order by k) from m",
            lambda: p.groupby(month())["fare"].sum().cumsum(),
        ),
        Case(
            "A moving mean of weeks",
            query(["day@week"], "moving(mean, sum(fare), 4)"),
            lambda: (
                s.group_by(WEEK)
                .agg(FARE)
                .sort("w")
                .with_columns(x=pl.col("fare").rolling_mean(4, min_samples=1))
                .collect()
            ),
            "with m as (select date(day, '-6 days', 'weekday 1') k, sum(fare) v from s group by 1)"
            " select k, avg(v) over (order by k rows 3 preceding) from m",
            lambda: p.groupby(p["day"].dt.to_period("W"))["fare"].sum().rolling(4, min_periods=1).mean(),
        ),
        Case(
            "The same month a year before",
            query(["day@month"], "sum(fare)", "shift(sum(fare), -1, 'year')", filters=(shown,)),
            lambda: (
                months()
                .collect()
                .pipe(
                    lambda x: x.filter(pl.col("m") >= IN_2026[0]).join(
                        x.select(pl.col("m").dt.offset_by("1y"), y="fare"), on="m", how="left"
                    )
                )
            ),
            f"{by_month} select m.k, m.v, b.v from m left join m b on b.k = date(m.k, '-1 year')"
            " where m.k between '2026-01-01' and '2026-10-31'",
            lambda: p.groupby(month())["fare"].sum().pipe(lambda x: (x, x.shift(12))),
        ),
        Case(
            "The year to date",
            query(["day@month"], "to_date(sum(fare), 'year')"),
            lambda: months().with_columns(x=pl.col("fare").cum_sum().over(pl.col("m").dt.year())).collect(),
            f"{by_month} select k, sum(v) over (partition by strftime('%Y', k) order by k) from m",
            lambda: p.groupby(month())["fare"].sum().pipe(lambda x: x.groupby(x.index.year).cumsum()),
        ),
        Case(
            "The whole quarter before",
            query(["day@month"], "whole(shift(sum(fare), -1, 'quarter'), 'quarter')"),
            lambda: (
                months()
                .collect()
                .pipe(
                    lambda x: x.with_columns(
                        q=pl.col("m").dt.truncate("1q"), b=pl.col("m").dt.truncate("1q").dt.offset_by("-1q")
                    ).pipe(lambda y: y.join(y.group_by("q").agg(v=FARE), left_on="b", right_on="q", how="left"))
                )
            ),
            f"{by_month}, q as (select strftime('%Y', k) * 4 + (strftime('%m', k) - 1) / 3 k, sum(v) v from m"
            " group by 1) select m.k, q.v from m left"
            " join q on q.k = strftime('%Y', m.k) * 4 + (strftime('%m', m.k) - 1) / 3 - 1",
            lambda: p.groupby(month())["fare"].sum().pipe(lambda x: x.groupby(x.index.asfreq("Q")).sum().shift(1)),
        ),
        Case(
            "Two tables side by side",
            query(["day@month", "route"], "sum(fare) - sum(targets.goal)"),
            lambda: (
                s.group_by(MONTH, "route")
                .agg(FARE)
                .join(
                    goals.group_by("month", "route").agg(pl.col("goal").sum()),
                    left_on=["m", "route"],
                    right_on=["month", "route"],
                    how="full",
                    coalesce=True,
                )
                .with_columns(x=pl.col("fare") - pl.col("goal"))
                .sort("m", "route")
                .collect()
            ),
            f"with a as (select {m} k, route r, sum(fare) v from s group by 1, 2),"
            " b as (select month k, route r, sum(goal) v from targets group by 1, 2) select a.k, a.r, a.v - b.v"
            " from a left join b on a.k = b.k and a.r = b.r union all select b.k, b.r, null from b left"
            " join a on a.k = b.k and a.r = b.r where a.k is null",
            lambda: (
                p.groupby([month(), "route"])["fare"]
                .sum()
                .reset_index()
                .merge(t.assign(day=t["month"].dt.to_period("M")), on=["day", "route"], how="outer")
            ),
        ),
    ]


def more_cases(frames: dict[str, pl.DataFrame], model: Model) -> list[Case]:
    """Hours, parts of dates, percent, other filters, and values to date that cannot simply be added up."""
    query, s = partial(asked, model), frames[""].lazy()
    year, month = pl.col("day").dt.year().alias("y"), MONTH
    late_2025 = DatesFilter(field="day", start=dt.date(2025, 1, 1), end=dt.date(2025, 12, 31))
    saturdays = ListFilter(field="day", grain="weekday", values=(6,))

    def distinct_to_date() -> pl.DataFrame:
        first = s.group_by(year, "route").agg(pl.col("day").min()).group_by("y", "day").agg(pl.len()).collect()
        days = s.select("day").unique().with_columns(year).sort("day").collect()
        found = days.join(first, on=["y", "day"], how="left").sort("day")
        return found.with_columns(pl.col("len").fill_null(0).cum_sum().over("y"))

    def highest_to_date() -> pl.DataFrame:
        found = s.group_by("day").agg(pl.col("fare").max()).with_columns(year).sort("day").collect()
        return found.with_columns(pl.col("fare").cum_max().over("y"))

    def median_to_date() -> pl.DataFrame:
        months = s.select(later=month).unique().with_columns(y=pl.col("later").dt.year())
        rows = s.select("late", month, year).join(months, on="y").filter(pl.col("m") <= pl.col("later"))
        return rows.group_by("later").agg(pl.col("late").median()).sort("later").collect()

    def saturdays_a_year_before() -> pl.DataFrame:
        found = s.filter(pl.col("day").dt.weekday() == 6).group_by(month).agg(FARE).sort("m").collect()
        before = found.select(pl.col("m").dt.offset_by("1y"), y="fare")
        return found.join(before, on="m", how="left")

    def top_tenth() -> pl.DataFrame:
        found = s.group_by("day").agg(FARE).sort("fare", descending=True).collect()
        return found.head(-(-found.height // 10))

    def part_of_all() -> pl.DataFrame:
        own = s.filter(pl.col("route") == pl.col("route").first(), pl.col("day").dt.year() == 2025).select(FARE)
        return pl.collect_all([own, s.filter(pl.col("day").dt.year() == 2025).select(FARE)])

    one_route = ListFilter(field="route", values=(frames[""]["route"][0],))
    return [
        Case(
            "By hour",
            query(["at@hour"], "sum(fare)"),
            lambda: s.group_by(pl.col("at").dt.truncate("1h")).agg(FARE).sort("at").collect(),
        ),
        Case(
            "By weekday and hour of day",
            query(["day@weekday", "at@hour_of_day"], "sum(fare)"),
            lambda: (
                s.group_by(pl.col("day").dt.weekday(), pl.col("at").dt.hour()).agg(FARE).sort("day", "at").collect()
            ),
        ),
        Case(
            "The top 10% of days",
            query(
                ["day@day"], "sum(fare)", keep=TopN(count=10, percent=True, by=Measure(field="fare", aggregate="sum"))
            ),
            top_tenth,
        ),
        Case(
            "Saturdays, beside those a year before",
            query(["day@month"], "sum(fare)", "shift(sum(fare), -1, 'year')", filters=(saturdays,)),
            saturdays_a_year_before,
        ),
        Case(
            "The part of all routes",
            query([], "sum(fare) / sum(fare) unfiltered (route)", filters=(one_route, late_2025)),
            part_of_all,
        ),
        Case(
            "Distinct values to date, by day",
            query(["day@day"], "to_date(count_distinct(route), 'year')"),
            distinct_to_date,
        ),
        Case("The highest to date, by day", query(["day@day"], "to_date(max(fare), 'year')"), highest_to_date),
        Case("A median to date, by month", query(["day@month"], "to_date(median(late), 'year')"), median_to_date),
        Case(
            "The last value of each route",
            query(["route"], "last(fare)"),
            lambda: (
                s.group_by("route")
                .agg(pl.col("fare").sort_by("day", maintain_order=True).last())
                .sort("route")
                .collect()
            ),
        ),
    ]


class Watched(threading.Thread):
    """The most memory the process has had since the start of watching, beyond what it had then."""

    def __init__(self) -> None:
        super().__init__(daemon=True)
        self.first, self.most = self.now(), 0
        self.start()

    def now(self) -> int:
        return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")

    def run(self) -> None:
        while True:
            self.most = max(self.most, self.now() - self.first)
            time.sleep(0.01)


def run(rows: int, figures: Figures, others: bool) -> None:
    """Measure all; `others` takes SQLite and pandas in too."""
    frames, model = make(rows)
    size = sum(frame.estimated_size() for frame in frames.values())
    context = make_context(model, dt.date(2026, 11, 23))
    found = cases(frames, model, None, None, None)
    watched = Watched()

    def measure(group: str, case: Case, goal: str) -> None:
        a, b = alternately(lambda: answer(case.query, model, context), case.polars, 5)
        figures.groups.setdefault(group, [])
        figures.group = group
        figures.add(Figure(case.name, a, b, goal, rows))

    print(f"At {rows:,} rows:")
    for case in found:
        measure("engine", case, "at most 1.6")
    most = watched.most / size
    for case in more_cases(frames, model):
        measure("more", case, "")
    figures.start("around")
    _around(figures, model, found[3].query, context)
    figures.add(Figure("Memory while asking the twenty, to that of the columns", 1 + most, goal="1.5", unit="times"))
    if others:
        figures.start("others")
        compare(frames, found, model, context, figures)


def _around(figures: Figures, model: Model, query: Query, context: Context) -> None:
    """What is not the working out: reading a formula, and an answer that is kept."""
    text = "sum(fare where late > 10) / sum(fare)"
    for name, formula in (
        (f"Building a question (parse, check) of `{text}`", text),
        (
            "the same of one of 100 characters with two functions of time",
            f"({text}) - shift({text}, -1, 'year') + to_date(sum(fare), 'year')",
        ),
    ):
        builds = [
            once(lambda i=i, formula=formula: check_measure(f"{formula} + {i}", model.schema)) for i in range(200)
        ]
        figures.add(Figure(name, statistics.median(builds), goal="3 ms"))
    model.key = "bench"
    answer(query, model, context)
    cached = statistics.median(once(lambda: answer(query, model, context)) for _ in range(200))
    model.key = None
    figures.add(Figure("A kept answer in the core", cached, goal="1 ms"))


def to_pandas(frame: pl.DataFrame):
    import pandas

    columns = {
        name: frame[name].to_list() if frame[name].dtype == pl.String else frame[name].to_numpy()
        for name in frame.columns
    }
    return pandas.DataFrame(columns)


def compare(
    frames: dict[str, pl.DataFrame], found: list[Case], model: Model, context: Context, figures: Figures
) -> None:
    """The same questions in SQL and in pandas, once each."""
    path = Path("/tmp/veduta-bench.sqlite")
    path.unlink(missing_ok=True)
    with sqlite3.connect(path) as database:
        for name, frame in frames.items():
            table = name or "s"
            database.execute(f"create table {table} ({', '.join(frame.columns)})")
            dated = frame.with_columns(pl.col(pl.Date, pl.Datetime).cast(pl.String))
            for start in range(0, frame.height, 500_000):
                rows = dated.slice(start, 500_000).rows()
                database.executemany(f"insert into {table} values ({', '.join('?' * frame.width)})", rows)
        database.commit()
        in_sql = [once(lambda case=case: database.execute(case.sql).fetchall()) for case in found]
    path.unlink()
    pandas_frames = [to_pandas(frames[name]) for name in ("", "routes", "targets")]
    in_pandas = [once(case.pandas) for case in cases(frames, model, *pandas_frames)]
    for case, a, b in zip(found, in_sql, in_pandas, strict=True):
        ours = once(lambda case=case: answer(case.query, model, context))
        figures.add(Figure(case.name, ours, beside={"SQLite": a, "pandas": b}))
