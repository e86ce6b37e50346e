"""The made-up ferry company Skerry & Sound: a seeded generator of its data. The same seed gives the same rows."""

from __future__ import annotations

import datetime as dt
from pathlib import Path

import numpy as np
import polars as pl

FIRST_DAY = dt.date(2023, 1, 1)
LAST_DAY = dt.date(2026, 10, 31)
SEED = 20261031

# route: region, crossing minutes, weight, fare, first day
ROUTES = {
    "Harrow–Tern": ("North Reach", 55, 1.9, 21.0),
    "Tern–Gull Bank": ("North Reach", 40, 1.2, 15.5),
    "Lowen–Harrow": ("North Reach", 70, 0.8, 24.0),
    "Tern–Kelda Rock": ("North Reach", 95, 0.5, 31.0),
    "Lowen–Fennick": ("North Reach", 35, 0.9, 12.5),
    "Harrow–Brackhaven": ("North Reach", 120, 0.45, 38.0),
    "Stack Point–Quay": ("Inner Sound", 30, 1.9, 14.5),
    "Quay–Isle of Ash": ("Inner Sound", 25, 1.4, 11.0),
    "Quay–Vire Head": ("Inner Sound", 45, 1.0, 16.0),
    "Stack Point–Ottersand": ("Inner Sound", 50, 0.8, 17.5),
    "Isle of Ash–Ottersand": ("Inner Sound", 20, 0.7, 9.0),
    "Quay–Fennick": ("Inner Sound", 65, 0.5, 22.0),
    "Merrin–Outer Light": ("Outer Skerries", 80, 1.3, 29.0),
    "Merrin–Kelda Rock": ("Outer Skerries", 60, 0.7, 25.0),
    "Outer Light–Gull Bank": ("Outer Skerries", 75, 0.6, 27.0),
    "Brackhaven–Outer Light": ("Outer Skerries", 110, 0.4, 36.0),
    "Merrin–Sallow Ness": ("Outer Skerries", 50, 0.7, 21.5),
    "Sallow Ness–Marram": ("South Banks", 35, 0.9, 12.0),
    "Marram–Vire Head": ("South Banks", 60, 0.8, 18.0),
    "Marram–Ottersand": ("South Banks", 85, 0.5, 23.0),
    "Sallow Ness–Quay": ("South Banks", 40, 0.7, 13.5),
}
NEW_ROUTE, NEW_ROUTE_OPENS = "Merrin–Sallow Ness", dt.date(2025, 4, 1)
ROUTE_WITHOUT_SAILINGS = "Marram–Brackhaven"
VESSELS = {
    "Sandling": (2009, 320), "Ringed Plover": (2014, 410), "Whimbrel": (1998, 180), "Turnstone": (2019, 520),
    "Dunlin": (2003, 240), "Curlew": (2011, 360), "Greenshank": (2021, 480), "Knot": (1995, 150), "Oystercatcher": (2016, 440),
}  # fmt: skip
TREND = {"North Reach": 0.05, "Inner Sound": 0.035, "Outer Skerries": 0.12, "South Banks": -0.09}
WEEKDAY = np.array([0.9, 0.85, 0.88, 0.95, 1.2, 1.25, 1.1])
STORM = (dt.date(2025, 11, 10), dt.date(2025, 11, 23))
REASONS = ["Storm", "Technical fault", "Crew shortage", "Harbour closed"]


def sailings(rows: int = 60_000, seed: int = SEED) -> pl.DataFrame:
    """About `rows` sailings in order of departure, one a row, imperfect on purpose."""
    random = np.random.default_rng(seed)
    names = list(ROUTES)
    weights = np.array([ROUTES[name][2] for name in names])
    days = (LAST_DAY - FIRST_DAY).days + 1
    dates = np.datetime64(FIRST_DAY) + np.arange(days)
    of_year = np.array([date.astype(object).timetuple().tm_yday for date in dates])
    season = 1 - 0.42 * np.cos(2 * np.pi * (of_year - 20) / 365.25)
    timetable = 0.75 + 0.25 * season
    day = np.sort(random.choice(days, rows, p=timetable / timetable.sum()))
    route = random.choice(len(names), rows, p=weights / weights.sum())
    new = names.index(NEW_ROUTE)
    too_early = (route == new) & (dates[day] < np.datetime64(NEW_ROUTE_OPENS))
    route[too_early] = names.index("Merrin–Outer Light")
    minute = np.clip(random.normal(13 * 60, 210, rows), 5 * 60 + 30, 23 * 60).astype(int) // 5 * 5
    order = np.lexsort((minute, day))
    day, route, minute = day[order], route[order], minute[order]
    region = np.array([ROUTES[name][0] for name in names])[route]
    crossing = np.array([ROUTES[name][1] for name in names])[route]
    fare = np.array([ROUTES[name][3] for name in names])[route]
    vessels, ships = list(VESSELS), len(VESSELS)
    vessel = np.where(random.random(rows) < 0.7, (route * 5 + day // 30) % ships, random.integers(0, ships, rows))
    capacity = np.array([VESSELS[name][1] for name in vessels])[vessel]

    years = day / 365.25
    growth = np.array([TREND[name] for name in region])
    weekday = WEEKDAY[(dates[day].astype("datetime64[D]").astype(int) + 3) % 7]
    late_in_winter = np.isin((dates[day].astype("datetime64[M]").astype(int)) % 12, [10, 11, 0, 1])
    storm = (dates[day] >= np.datetime64(STORM[0])) & (dates[day] <= np.datetime64(STORM[1]))
    load = 0.38 * season[day] * weekday * np.exp(growth * years) * random.gamma(12, 1 / 12, rows)
    cancelled = random.random(rows) < np.where(storm, 0.38, np.where(late_in_winter, 0.025, 0.008))
    passengers = np.where(cancelled, 0, np.minimum(capacity, np.round(capacity * load))).astype(np.int64)
    vehicles = np.round(passengers * random.uniform(0.12, 0.3, rows)).astype(np.int64)
    revenue = passengers * fare * random.uniform(0.82, 1.08, rows) + vehicles * fare * 1.7
    onboard = passengers * random.gamma(4, 0.9, rows) * (crossing / 60)
    fuel = crossing * (6.5 + capacity / 60) * (1.05 + 0.1 * np.sin(years * 2.2)) * np.where(cancelled, 0, 1)
    crew = 180 + crossing * 4.2 + capacity * 0.35
    late = np.where(random.random(rows) < 0.62, 0, random.gamma(1.3, 7, rows)) + np.where(late_in_winter, 1, 0)
    late = np.where(storm, late + random.gamma(2, 12, rows), late).astype(np.int64)
    reason = np.where(storm, 0, random.choice(4, rows, p=[0.35, 0.35, 0.2, 0.1]))

    midnight = dates[day].astype("datetime64[us]")
    frame = pl.DataFrame(
        {
            "sailing_id": np.arange(100_001, 100_001 + rows),
            "departure": midnight + minute.astype("timedelta64[m]"),
            "sailing_date": dates[day].astype("datetime64[D]"),
            "route": np.array(names)[route],
            "region": region,
            "vessel": np.array(vessels)[vessel],
            "capacity": capacity,
            "passengers": passengers,
            "vehicles": vehicles,
            "fare_revenue": revenue.round(2),
            "onboard_sales": onboard.round(2),
            "fuel_cost": fuel.round(2),
            "crew_cost": crew.round(2),
            "minutes_late": pl.Series(late).set(pl.Series(cancelled), None),
            "cancelled": pl.Series(np.where(cancelled, "yes", "no")),
            "cancel_reason": pl.Series(np.array(REASONS)[reason]).set(pl.Series(~cancelled), None),
        }
    )
    no_record = pl.Series(random.random(rows) < 0.002)
    frame = frame.with_columns(
        onboard_sales=pl.when(~no_record).then("onboard_sales"),
        departure=pl.col("departure").dt.strftime("%Y-%m-%d %H:%M"),
    )
    # One sailing was entered twice.
    return pl.concat([frame.head(rows // 2), frame.slice(rows // 2 - 1, 1), frame.slice(rows // 2)])


def write_sailings(path: Path, rows: int = 60_000, seed: int = SEED) -> Path:
    """Write the sailings as CSV."""
    path.parent.mkdir(parents=True, exist_ok=True)
    sailings(rows, seed).write_csv(path)
    return path
