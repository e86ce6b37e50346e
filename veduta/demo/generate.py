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
    "Sandling": (2009, 320),
    "Ringed Plover": (2014, 410),
    "Whimbrel": (1998, 180),
    "Turnstone": (2019, 520),
    "Dunlin": (2003, 240),
    "Curlew": (2011, 360),
    "Greenshank": (2021, 480),
    "Knot": (1995, 150),
    "Oystercatcher": (2016, 440),
}
TREND = {"North Reach": 0.05, "Inner Sound": 0.035, "Outer Skerries": 0.12, "South Banks": -0.09}
WEEKDAY = np.array([0.9, 0.85, 0.88, 0.95, 1.2, 1.25, 1.1])
STORM = (dt.date(2025, 11, 10), dt.date(2025, 11, 23))
REASONS = ["Storm", "Technical fault", "Crew shortage", "Harbour closed"]


def generate_sailings(rows: int = 60_000, seed: int = SEED) -> pl.DataFrame:
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


PORTS = {
    # port: region, latitude, longitude, opened
    "Harrow": ("North Reach", 58.92, -3.41, 1911),
    "Tern": ("North Reach", 59.08, -3.12, 1924),
    "Gull Bank": ("North Reach", 59.21, -2.88, 1968),
    "Lowen": ("North Reach", 58.71, -3.66, 1933),
    "Kelda Rock": ("Outer Skerries", 59.34, -3.94, 1986),
    "Fennick": ("North Reach", 58.62, -3.31, 1957),
    "Brackhaven": ("Outer Skerries", 59.11, -4.35, 1979),
    "Stack Point": ("Inner Sound", 58.44, -3.02, 1899),
    "Quay": ("Inner Sound", 58.39, -2.79, 1887),
    "Isle of Ash": ("Inner Sound", 58.33, -2.61, 1949),
    "Vire Head": ("Inner Sound", 58.21, -2.93, 1964),
    "Ottersand": ("Inner Sound", 58.28, -2.44, 1972),
    "Merrin": ("Outer Skerries", 59.02, -4.71, 1938),
    "Outer Light": ("Outer Skerries", 59.27, -4.98, 1992),
    "Sallow Ness": ("South Banks", 57.98, -2.66, 1960),
    "Marram": ("South Banks", 57.86, -2.88, 1975),
}
# How the harbour office and the pass desk spell some ports.
SPELT = {
    "Kelda Rock": "Kelda-Rock",
    "Isle of Ash": "Ash, Isle of",
    "Outer Light": "OUTER LIGHT",
    "Stack Point": "Stackpoint",
    "Sallow Ness": "Sallow Nes",
    "Gull Bank": "Gull Bk.",
    "Vire Head": "Vire Head ",
}
CHANNELS = ["Web", "Telephone", "Harbour desk", "Partner"]
FARE_TYPES = ["Single", "Day return", "Return", "Islander", "Group"]
FIRST_NAMES = [
    "Ailsa",
    "Bran",
    "Cora",
    "Dorran",
    "Elva",
    "Finn",
    "Greer",
    "Hallan",
    "Isla",
    "Jory",
    "Kerra",
    "Lorn",
    "Mora",
    "Nevin",
    "Orla",
    "Perran",
]
LAST_NAMES = [
    "Marr",
    "Tern",
    "Skene",
    "Ottery",
    "Fell",
    "Harrow",
    "Brae",
    "Lowe",
    "Rennick",
    "Sallow",
    "Thole",
    "Vire",
    "Wrack",
    "Yole",
]


def generate_routes() -> pl.DataFrame:
    """Each route with its region, its crossing and its two ports; one of them has no sailings."""
    rows = [(name, *ROUTES[name]) for name in ROUTES]
    rows.append((ROUTE_WITHOUT_SAILINGS, "South Banks", 140, 0.0, 41.0))
    return pl.DataFrame(
        {
            "route": [row[0] for row in rows],
            "region": [row[1] for row in rows],
            "from_port": [row[0].split("–")[0] for row in rows],
            "to_port": [row[0].split("–")[1] for row in rows],
            "crossing_minutes": [row[2] for row in rows],
            "usual_fare": [row[4] for row in rows],
        }
    )


def generate_ports() -> pl.DataFrame:
    return pl.DataFrame(
        [(name, *about) for name, about in PORTS.items()],
        schema=["port", "region", "latitude", "longitude", "opened"],
        orient="row",
    )


def generate_vessels() -> pl.DataFrame:
    return pl.DataFrame(
        [(name, *about) for name, about in VESSELS.items()], schema=["vessel", "built", "capacity"], orient="row"
    )


def generate_harbour_counts(days: int = 120, last: dt.date = LAST_DAY) -> pl.DataFrame:
    """Passengers counted at the gates since the season's start: a row a port, a column a day, cumulative.

    Ports are spelt as the harbour office does; two gates were out of order on one day each."""
    random = np.random.default_rng(SEED + 2)
    first = last - dt.timedelta(days=days - 1)
    dates = [first + dt.timedelta(days=i) for i in range(days)]
    columns: dict[str, list] = {"port": [SPELT.get(name, name) for name in PORTS]}
    daily = random.poisson(
        random.gamma(6, 60, (len(PORTS), 1)) * WEEKDAY[[day.weekday() for day in dates]], (len(PORTS), days)
    )
    counts = daily.cumsum(axis=1) + random.integers(1_000, 30_000, (len(PORTS), 1))
    for i, day in enumerate(dates):
        columns[day.isoformat()] = [int(count) for count in counts[:, i]]
    columns[dates[days // 3].isoformat()][4] = None
    columns[dates[days // 2].isoformat()][11] = None
    return pl.DataFrame(columns)


def pass_holders(rows: int = 9_000) -> pl.DataFrame:
    """People with a season pass.

    Customer numbers stand in capitals with a hyphen, in bookings without; some are mistyped."""
    random = np.random.default_rng(SEED + 3)
    number = np.sort(random.choice(np.arange(10_000, 10_000 + rows * 3), rows, replace=False))
    names = list(PORTS)
    home = random.choice(len(names), rows, p=random.dirichlet(np.full(len(names), 4)))
    spelt = [SPELT.get(names[i], names[i]) if random.random() < 0.5 else names[i] for i in home]
    joined = np.datetime64("2019-01-01") + random.integers(0, 2_800, rows)
    return pl.DataFrame(
        {
            "pass_no": [f"P{n:06d}" for n in range(1, rows + 1)],
            "customer_no": [f"C-{n}" if random.random() < 0.96 else f"c {n}" for n in number],
            "name": [
                f"{FIRST_NAMES[a]} {LAST_NAMES[b]}"
                for a, b in zip(
                    random.integers(0, len(FIRST_NAMES), rows), random.integers(0, len(LAST_NAMES), rows), strict=True
                )
            ],
            "home_port": spelt,
            "kind": random.choice(["Season", "Weekly", "Islander"], rows, p=[0.5, 0.2, 0.3]),
            "joined": joined.astype("datetime64[D]"),
        }
    )


def generate_bookings(rows: int = 150_000) -> pl.DataFrame:
    """What customers booked, one booking a row.

    About a third of the customers hold a pass; many of 2025 did not come back."""
    random = np.random.default_rng(SEED + 4)
    people = max(10, rows // 5)
    customer = 10_000 + (random.power(0.6, rows) * people).astype(np.int64)
    days = (LAST_DAY - FIRST_DAY).days + 1
    booked = random.integers(0, days, rows)
    # Customers whose number ends in 0, 3 or 7 stopped coming after 2025.
    gone = np.isin(customer % 10, [0, 3, 7]) & (booked > (dt.date(2025, 12, 31) - FIRST_DAY).days)
    booked = np.where(gone, booked - 365, booked)
    travel = np.minimum(booked + random.geometric(0.08, rows), days - 1)
    names = list(ROUTES)
    route = random.choice(
        len(names), rows, p=np.array([ROUTES[n][2] for n in names]) / sum(ROUTES[n][2] for n in names)
    )
    party = np.minimum(random.geometric(0.45, rows), 12)
    fare = np.array([ROUTES[n][3] for n in names])[route]
    paid = (fare * party * random.uniform(0.7, 1.1, rows)).round(2)
    start = np.datetime64(FIRST_DAY)
    order = np.argsort(booked, kind="stable")
    return pl.DataFrame(
        {
            "booking": np.arange(500_001, 500_001 + rows),
            "customer": [f"C{n}" for n in customer[order]],
            "booked_on": (start + booked[order]).astype("datetime64[D]"),
            "travel_date": (start + travel[order]).astype("datetime64[D]"),
            "route": np.array(names)[route[order]],
            "channel": random.choice(CHANNELS, rows, p=[0.58, 0.12, 0.18, 0.12]),
            "fare_type": random.choice(FARE_TYPES, rows, p=[0.3, 0.2, 0.35, 0.1, 0.05]),
            "party_size": party[order],
            "paid": pl.Series(paid[order]).set(pl.Series(random.random(rows) < 0.004), None),
        }
    )


def generate_targets(frame: pl.DataFrame) -> pl.DataFrame:
    """What was aimed for, one row a month and route, to the end of the year: near what was reached the year before."""
    random = np.random.default_rng(SEED + 9)
    reached = frame.group_by("route", month=pl.col("sailing_date").dt.truncate("1mo")).agg(
        passengers=pl.col("passengers").sum(), revenue=pl.col("fare_revenue").sum()
    )
    months = [dt.date(2023 + i // 12, i % 12 + 1, 1) for i in range(48)]
    means = reached.group_by("route", of_year=pl.col("month").dt.month()).agg(
        pl.col("passengers").mean(), pl.col("revenue").mean()
    )
    grid = pl.DataFrame({"month": months}).join(reached.select("route").unique().sort("route"), how="cross")
    monthly = grid.with_columns(of_year=pl.col("month").dt.month()).join(means, on=["route", "of_year"], how="inner")
    monthly = monthly.sort("month", "route")
    ambition = random.uniform(0.9, 1.14, monthly.height)
    return monthly.select(
        "month",
        "route",
        passengers=(pl.col("passengers") * ambition / 10).round(0).cast(pl.Int64) * 10,
        revenue=((pl.col("revenue") * ambition) / 100).round(0) * 100,
    )


def generate_events() -> pl.DataFrame:
    """What happened in the seasons: first day, last day if it was several, and words."""
    happened = [
        ("Summer timetable", dt.date(2024, 5, 1), None),
        ("Island games", dt.date(2024, 7, 8), dt.date(2024, 7, 21)),
        (f"{NEW_ROUTE} opens", NEW_ROUTE_OPENS, None),
        ("Storm fortnight", *STORM),
        ("New ticket machines", dt.date(2026, 3, 2), None),
    ]
    return pl.DataFrame(happened, schema={"event": pl.String, "from_day": pl.Date, "to_day": pl.Date}, orient="row")


def write_sailings(path: Path, rows: int = 60_000, seed: int = SEED) -> Path:
    """Write the sailings as CSV."""
    path.parent.mkdir(parents=True, exist_ok=True)
    generate_sailings(rows, seed).write_csv(path)
    return path
