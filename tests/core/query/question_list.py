"""Questions over the demo's model, each with the same question as SQL."""

from __future__ import annotations

import datetime as dt
from typing import Any

from veduta.core.calendar import Grouping
from veduta.core.query.filters import DatesFilter, ListFilter, MeasureFilter, MembershipFilter, RangeFilter
from veduta.core.query.measures import Measure, TopN

MONTH, YEAR = "date({0}, 'start of month')", "date({0}, 'start of year')"
QUARTER = "date({0}, 'start of month', '-' || ((strftime('%m', {0}) - 1) % 3) || ' months')"
WEEK = "date({0}, '-6 days', 'weekday 1')"
M, Q, Y, W = (each.format("day") for each in (MONTH, QUARTER, YEAR, WEEK))
FARE = "sum(fare)"
IN_2025 = DatesFilter(field="day", start=dt.date(2025, 1, 1), end=dt.date(2025, 12, 31))
SQL_2025 = "day between '2025-01-01' and '2025-12-31'"
BY_MONTH = f"with m as (select {M} k, sum(fare) v, count(*) n from s group by 1)"
WITH_ROUTES = "s left join routes r on r.route = s.route"
WITH_PORTS = WITH_ROUTES + " left join ports p on p.port = r.from_port"


def by(*names: str) -> tuple[Grouping, ...]:
    return tuple(Grouping(field=name.partition("@")[0], grain=name.partition("@")[2] or None) for name in names)


# (dimensions, formulas, what else the query has, SQL)
QUESTIONS: list[tuple[tuple[str, ...], list[str], dict[str, Any], str]] = [
    # Aggregates, with empties in keys and values.
    (("route",), [FARE, "count_rows()"], {}, "select route, sum(fare), count(*) from s group by 1"),
    (
        ("region", "vessel"),
        ["mean(late)", "max(passengers)"],
        {},
        "select region, vessel, avg(late), max(passengers) from s group by 1, 2",
    ),
    (
        (),
        [FARE, "count(late)", "count_distinct(route)"],
        {},
        "select sum(fare), count(late), count(distinct route) from s",
    ),
    (("vessel",), ["min(day)", "max(day)"], {}, "select vessel, min(day), max(day) from s group by 1"),
    (
        ("cancelled",),
        ["sum(passengers)", "min(fare)"],
        {},
        "select cancelled, sum(passengers), min(fare) from s group by 1",
    ),
    (
        ("region",),
        ["variance(late)"],
        {},
        "select region, case when count(late) > 1"
        " then (sum(1.0*late*late) - sum(late)*sum(late)*1.0/count(late))/(count(late)-1) end from s group by 1",
    ),
    # Conditions.
    (
        ("route",),
        ["sum(fare where cancelled)"],
        {},
        "select route, sum(case when cancelled then fare end) from s group by 1",
    ),
    (
        ("region",),
        ["count_rows(where late > 10)"],
        {},
        "select region, count(case when late > 10 then 1 end) from s group by 1",
    ),
    (
        ("vessel",),
        ["count_rows(where cancelled) / count_rows()"],
        {},
        "select vessel, 1.0 * count(case when cancelled then 1 end) / count(*) from s group by 1",
    ),
    (
        ("region",),
        ["count_rows(where late <= :late_after) / count(late)"],
        {},
        "select region, 1.0 * count(case when late <= 10 then 1 end) / nullif(count(late), 0) from s group by 1",
    ),
    (
        ("route",),
        ["sum(if(passengers > 100, fare, 0))"],
        {},
        "select route, sum(case when passengers > 100 then fare else 0 end) from s group by 1",
    ),
    (
        ("vessel",),
        ["count_distinct(route where not cancelled)"],
        {},
        "select vessel, count(distinct case when not cancelled then route end) from s group by 1",
    ),
    # Ratios stay ratios of sums.
    (
        ("day@month",),
        ["sum(fare) / sum(passengers)"],
        {},
        f"select {M}, sum(fare) / nullif(sum(passengers), 0) from s group by 1",
    ),
    (
        ("region",),
        ["sum(passengers) / sum(capacity where not cancelled)"],
        {},
        "select region, 1.0 * sum(passengers) / sum(case when not cancelled then capacity end) from s group by 1",
    ),
    (
        ("vessel",),
        ["sum(fare + onboard)", "sum(fare) + sum(onboard)"],
        {},
        "select vessel, sum(fare + onboard), sum(fare) + sum(onboard) from s group by 1",
    ),
    # Grains of dates.
    (("day@year",), [FARE], {}, f"select {Y}, sum(fare) from s group by 1"),
    (("day@quarter",), [FARE], {}, f"select {Q}, sum(fare) from s group by 1"),
    (("day@week",), ["count_rows()"], {}, f"select {W}, count(*) from s group by 1"),
    (("day@day",), ["count_rows()"], {}, "select day, count(*) from s group by 1"),
    # Looked-up tables.
    (("routes.area",), [FARE], {}, f"select r.area, sum(fare) from {WITH_ROUTES} group by 1"),
    (("ports.opened",), ["count_rows()"], {}, f"select p.opened, count(*) from {WITH_PORTS} group by 1"),
    (
        ("routes.area", "day@year"),
        ["sum(passengers)"],
        {},
        f"select r.area, {Y}, sum(passengers) from {WITH_ROUTES} group by 1, 2",
    ),
    ((), ["sum(passengers * Routes.minutes)"], {}, f"select sum(passengers * r.minutes) from {WITH_ROUTES}"),
    (
        ("vessels.built",),
        ["mean(passengers where Routes.area = 'North Reach')"],
        {},
        f"select built, avg(case when r.area = 'North Reach' then passengers end) from {WITH_ROUTES} left"
        " join vessels v on v.vessel = s.vessel group by 1",
    ),
    # Several tables side by side.
    (
        ("route",),
        [FARE, "sum(Targets.goal)"],
        {},
        "with a as (select route k, sum(fare) v from s group by 1), b as (select route k, sum(goal) v"
        " from targets group by 1) select a.k, a.v, b.v from a left join b on a.k = b.k union"
        " select b.k, a.v, b.v from b left join a on a.k = b.k",
    ),
    (
        ("day@month",),
        ["sum(fare) - sum(Targets.goal)"],
        {},
        f"with a as (select {M} k, sum(fare) v from s group by 1), b as (select month k, sum(goal) v from targets"
        " group by 1) select a.k, a.v - b.v from a left join b on a.k = b.k union select b.k, a.v - b.v from b"
        " left join a on a.k = b.k",
    ),
    (
        ("day@year", "routes.area"),
        ["sum(fare) / sum(Targets.goal)"],
        {},
        f"with a as (select {Y} k, r.area g, sum(fare) v from {WITH_ROUTES} group by 1, 2),"
        f" b as (select {YEAR.format('month')} k, r.area g, sum(goal) v from targets t"
        " join routes r on r.route = t.route group by 1, 2) select a.k, a.g, a.v / b.v from a left"
        " join b on a.k is b.k and a.g is b.g union select b.k, b.g, a.v / b.v from b left"
        " join a on a.k is b.k and a.g is b.g",
    ),
    (
        ("routes.area",),
        ["sum(Bookings.paid)", "count_rows()"],
        {},
        f"with a as (select r.area k, count(*) v from {WITH_ROUTES} group by 1),"
        " b as (select r.area k, sum(paid) v from bookings o left join routes r on r.route = o.route group by 1)"
        " select a.k, b.v, a.v from a left join b on a.k is b.k",
    ),
    (
        ("day@day",),
        ["sum(Bookings.party)"],
        {"filters": (DatesFilter(field="day", start=dt.date(2025, 5, 1), end=dt.date(2025, 5, 31)),)},
        "select travelled, sum(party) from bookings where travelled between '2025-05-01' and '2025-05-31' group by 1",
    ),
    (
        (),
        ["sum(Targets.goal)", FARE],
        {"filters": (ListFilter(field="route", values=("Harrow–Tern",)),)},
        "select (select sum(goal) from targets where route = 'Harrow–Tern'), (select sum(fare) from s"
        " where route = 'Harrow–Tern')",
    ),
    (
        (),
        ["sum(Targets.goal)"],
        {"filters": (ListFilter(field="routes.area", values=("Inner Sound",)),)},
        "select sum(goal) from targets t join routes r on r.route = t.route where r.area = 'Inner Sound'",
    ),
    (
        (),
        ["sum(Targets.goal)", "count_rows()"],
        {"filters": (IN_2025,)},
        "select (select sum(goal) from targets"
        f" where month between '2025-01-01' and '2025-12-31'), (select count(*) from s where {SQL_2025})",
    ),
    (("bookings.channel",), ["sum(Bookings.paid)"], {}, "select channel, sum(paid) from bookings group by 1"),
    # Grains of their own.
    (("route",), ["sum(fare) per ()"], {}, "select route, (select sum(fare) from s) from s group by 1"),
    (
        ("route", "region"),
        ["sum(fare) / sum(fare) per (region)"],
        {},
        "select route, region, sum(fare) / (select sum(fare) from s t where t.region is s.region) from s group by 1, 2",
    ),
    (
        ("day@month",),
        ["mean(sum(fare) per (shown, day))"],
        {},
        f"select {M}, avg(v) from (select day, sum(fare) v from s group by 1) group by 1",
    ),
    (
        ("region",),
        ["max(count_rows() per (shown, day))"],
        {},
        "select region, max(n) from (select region, day, count(*) n from s group by 1, 2) group by 1",
    ),
    (
        ("region", "day@year"),
        ["sum(fare) per (shown except year)"],
        {},
        f"select region, {Y}, (select sum(fare) from s t where t.region is s.region) from s group by 1, 2",
    ),
    (
        ("vessel",),
        ["mean(sum(passengers) per (shown, route))"],
        {},
        "select vessel, avg(v) from (select vessel, route, sum(passengers) v from s group by 1, 2) group by 1",
    ),
    (
        (),
        ["median(count_rows() per (day))"],
        {},
        "with c as (select count(*) n, row_number() over (order by count(*)) i, count(*) over () t from s"
        " group by day) select avg(n) from c where i in ((t + 1) / 2, (t + 2) / 2)",
    ),
    (
        ("region",),
        ["count_distinct(route) - count_distinct(route) per ()"],
        {},
        "select region, count(distinct route) - (select count(distinct route) from s) from s group by 1",
    ),
    (
        ("route",),
        ["sum(if(fare = max(fare) per (route), 1))"],
        {},
        "select route, sum(case when fare = (select max(fare) from s t where t.route = s.route) then 1 end)"
        " from s where route is not null group by 1 union select null, 1",
    ),
    # Windows.
    (("route",), ["rank(sum(fare))"], {}, "select route, rank() over (order by sum(fare) desc) from s group by 1"),
    (("route",), ["share(sum(fare))"], {}, "select route, sum(fare) / sum(sum(fare)) over () from s group by 1"),
    (
        ("day@month",),
        ["running(sum(fare))"],
        {},
        f"select {M}, sum(sum(fare)) over (order by {M} nulls last) from s group by 1",
    ),
    (
        ("day@month", "region"),
        ["previous(count_rows())"],
        {},
        f"select {M}, region, lag(count(*)) over (partition by region order by {M} nulls last) from s group by 1, 2",
    ),
    (
        ("day@quarter",),
        ["difference(sum(passengers))"],
        {},
        f"select {Q}, sum(passengers) - lag(sum(passengers)) over (order by {Q} nulls last) from s group by 1",
    ),
    (
        ("day@month",),
        ["moving(mean, sum(fare), 3)"],
        {"filters": (IN_2025,)},
        f"{BY_MONTH}, w as (select k, avg(v) over (order by k nulls last rows 2 preceding) a from m) select *"
        " from w where k between '2025-01-01' and '2025-12-01'",
    ),
    (
        ("region", "vessel"),
        ["rank(sum(fare)) + 0", "share(sum(fare)) restart (region)"],
        {},
        "select region, vessel, rank() over (order by sum(fare) desc), sum(fare) / sum(sum(fare))"
        " over (partition by region) from s group by 1, 2",
    ),
    # Time.
    (
        ("day@month",),
        ["shift(sum(fare), -1, 'year')"],
        {"filters": (IN_2025,)},
        f"{BY_MONTH} select m.k, b.v from m left join m b on b.k = date(m.k, '-1 year')"
        " where m.k between '2025-01-01' and '2025-12-01'",
    ),
    (
        ("day@month",),
        ["growth(sum(fare), 'year')"],
        {},
        f"{BY_MONTH} select m.k, (m.v - b.v) / abs(b.v) from m left join m b on b.k = date(m.k, '-1 year')",
    ),
    (
        ("day@month",),
        ["whole(shift(sum(fare), -1, 'quarter'), 'quarter')"],
        {},
        f"with q as (select {Q} k, sum(fare) v from s where day is not null group by 1),"
        f" m as (select distinct {M} k from s) select m.k, q.v from m left"
        f" join q on q.k = date({QUARTER.format('m.k')}, '-3 months')",
    ),
    (
        ("day@month",),
        ["to_date(sum(fare), 'year')"],
        {"filters": (IN_2025,)},
        f"{BY_MONTH} select m.k, (select sum(b.v) from m b where b.k <= m.k and b.k >= {YEAR.format('m.k')})"
        " from m where m.k between '2025-01-01' and '2025-12-01'",
    ),
    (
        ("day@month",),
        ["to_date(count_distinct(vessel), 'year')"],
        {},
        f"with m as (select distinct {M} k from s) select k, case when k is not null"
        f" then (select count(distinct vessel) from s where {M} <= k and {Y} = {YEAR.format('k')}) end from m",
    ),
    (
        ("day@month",),
        ["to_date(mean, sum(fare), 'year')"],
        {},
        f"{BY_MONTH} select m.k, (select avg(b.v) from m b where b.k <= m.k and b.k >= {YEAR.format('m.k')}) from m",
    ),
    (
        ("day@quarter", "region"),
        ["change(count_rows(), 'year')"],
        {},
        f"with q as (select {Q} k, region g, count(*) n from s group by 1, 2) select q.k, q.g, q.n - b.n from q"
        " left join q b on b.g is q.g and b.k = date(q.k, '-1 year')",
    ),
    (
        ("day@day",),
        ["shift(count_rows(), -1, 'year')"],
        {"filters": (DatesFilter(field="day", start=dt.date(2024, 2, 27), end=dt.date(2024, 3, 2)),)},
        "with d as (select day k, count(*) n from s group by 1) select d.k, case when d.k <> '2024-02-29'"
        " then b.n end from d left join d b on b.k = date(d.k, '-1 year')"
        " where d.k between '2024-02-27' and '2024-03-02'",
    ),
    (
        ("region",),
        ["growth(sum(fare), 'year')"],
        {"filters": (IN_2025,)},
        "select region, (sum(fare) - (select sum(fare) from s t"
        " where t.region is s.region and day between '2024-01-01' and '2024-12-31')) / (select sum(fare) from s t"
        f" where t.region is s.region and day between '2024-01-01' and '2024-12-31') from s where {SQL_2025}"
        " group by 1",
    ),
    (
        (),
        ["to_date(sum(fare), 'year')"],
        {"filters": (DatesFilter(field="day", start=dt.date(2025, 3, 1), end=dt.date(2025, 4, 30)),)},
        "select sum(fare) from s where day between '2025-01-01' and '2025-04-30'",
    ),
    (
        ("route", "day@year"),
        ["since(sum(passengers) > 20000)"],
        {},
        f"with y as (select route r, {Y} k, sum(passengers) v from s group by 1, 2), f as (select r, min(k) k"
        " from y where v > 20000 group by 1) select y.r, y.k, case when y.k >= f.k"
        " then strftime('%Y', y.k) - strftime('%Y', f.k) end from y left join f on f.r is y.r",
    ),
    (
        ("day@month",),
        ["sum(Targets.goal) - shift(sum(Targets.goal), -1, 'month')"],
        {"filters": (IN_2025,)},
        f"with t as (select month k, sum(goal) v from targets group by 1), m as (select {M} k from s"
        f" where {SQL_2025} group by 1) select m.k, t.v - b.v from m join t on t.k = m.k"
        " join t b on b.k = date(m.k, '-1 month')",
    ),
    # Filters, keep, membership.
    (
        ("route",),
        ["sum(fare)"],
        {"filters": (MeasureFilter(measure=Measure(), low=300),)},
        "select route, sum(fare) from s group by 1 having count(*) >= 300",
    ),
    (
        ("route",),
        ["sum(fare)"],
        {"keep": TopN(count=4, by=Measure(field="passengers", aggregate="sum"))},
        "select route, sum(fare) from s group by 1 order by sum(passengers) desc limit 4",
    ),
    (
        ("route",),
        ["sum(fare)"],
        {"keep": TopN(parameter="top_n", end="bottom", by=Measure())},
        "select route, sum(fare) from s group by 1 order by count(*), route nulls last limit 3",
    ),
    (
        ("day@year",),
        ["sum(fare)"],
        {
            "filters": (
                MembershipFilter(
                    field="route", keep=TopN(parameter="top_n", by=Measure(field="fare", aggregate="sum"))
                ),
            )
        },
        f"select {Y}, sum(fare) from s where route in (select route from s group by 1"
        " order by sum(fare) desc limit 3) or (route is null and (select count(*) from (select route from s"
        " group by 1 order by sum(fare) desc limit 3) where route is null)) group by 1",
    ),
    (
        ("region",),
        ["count_rows()"],
        {"filters": (MembershipFilter(field="vessel", measure=Measure(field="late", aggregate="mean"), high=6.5),)},
        "select region, count(*) from s where vessel in (select vessel from s where vessel is not null"
        " group by 1 having avg(late) <= 6.5) group by 1",
    ),
    (
        ("region",),
        ["count_rows()"],
        {
            "filters": (
                IN_2025,
                MembershipFilter(
                    field="route",
                    keep=TopN(count=5, by=Measure(field="passengers", aggregate="sum")),
                    follows=True,
                    exclude=True,
                ),
            )
        },
        f"select region, count(*) from s where {SQL_2025} and coalesce(route not in (select route from s"
        f" where {SQL_2025} group by 1 order by sum(passengers) desc limit 5), 1) group by 1",
    ),
    (
        ("region",),
        ["count_rows()"],
        {"filters": (RangeFilter(field="late", low_parameter="late_after"),)},
        "select region, count(*) from s where late >= 10 group by 1",
    ),
    (
        ("region",),
        ["count_rows()"],
        {"filters": (ListFilter(field="route", parameter="chosen"),)},
        "select region, count(*) from s group by 1",
    ),
    (
        ("region",),
        ["count_rows()"],
        {"filters": (ListFilter(field="vessel", values=("No such vessel",)),)},
        "select region, count(*) from s where 0 group by 1",
    ),
]
