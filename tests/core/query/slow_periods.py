"""Periods in plain Python, straight from what the guide says, for the oracle of the random tests."""

from __future__ import annotations

import datetime as dt

from dateutil.relativedelta import relativedelta

STEPS = {
    "year": relativedelta(years=1),
    "quarter": relativedelta(months=3),
    "month": relativedelta(months=1),
    "week": relativedelta(weeks=1),
    "day": relativedelta(days=1),
    "hour": relativedelta(hours=1),
}
PARTS = {"weekday": lambda d: d.isoweekday(), "month_of_year": lambda d: d.month, "hour_of_day": lambda d: d.hour}
FINENESS = ("year", "quarter", "month", "week", "day", "hour")


def start(day: dt.date, grain: str, fiscal: int = 1) -> dt.date:
    """The start of the period that holds a date or moment."""
    if grain == "hour":
        return day.replace(minute=0, second=0, microsecond=0)
    if isinstance(day, dt.datetime):
        day = day.date()
    if grain == "day":
        return day
    if grain == "week":
        return day - dt.timedelta(days=day.weekday())
    if grain == "month":
        return day.replace(day=1)
    length = 12 if grain == "year" else 3
    while (day.month - fiscal) % length:
        day = day.replace(day=1) - relativedelta(months=1)
    return day.replace(day=1)


def end(first: dt.date, grain: str) -> dt.date:
    return first + STEPS[grain] - dt.timedelta(days=1)


def enclosing(first: dt.date, grain: str, unit: str, fiscal: int) -> dt.date:
    if grain == "week" and unit == "year":
        return dt.date.fromisocalendar(first.isocalendar()[0], 1, 1)
    return first if grain == unit else start(first, unit, fiscal)


def moved(first: dt.date, grain: str, steps: int, unit: str) -> dt.date | None:
    if grain == "week" and unit == "year":
        year, week, _ = first.isocalendar()
        try:
            return dt.date.fromisocalendar(year + steps, week, 1)
        except ValueError:
            return None
    found = first + STEPS[unit] * steps
    return found if unit in ("week", "day", "hour") or found.day == first.day else None


def moved_run(first: dt.date, last: dt.date, steps: int, unit: str) -> tuple[dt.date, dt.date]:
    """Days so many units away; of several days that end with a month the last one ends a month there, too."""
    months = {"year": 12, "quarter": 3, "month": 1}.get(unit)
    if not months:
        return first + STEPS[unit] * steps, last + STEPS[unit] * steps

    def there(day: dt.date, ends: bool) -> dt.date:
        number = day.year * 12 + day.month - 1 + steps * months
        longest = (dt.date((number + 1) // 12, (number + 1) % 12 + 1, 1) - dt.timedelta(days=1)).day
        return dt.date(number // 12, number % 12 + 1, longest if ends else min(day.day, longest))

    ends = (last + dt.timedelta(days=1)).day == 1 and first != last
    return there(first, False), there(last, ends)
