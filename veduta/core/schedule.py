"""When something is done again and again: RFC 5545 recurrence rules, made and said in plain words."""

from __future__ import annotations

import datetime as dt
from typing import Literal
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from dateutil.rrule import rrulestr
from pydantic import Field, field_validator

from veduta.core.data.fields import Frozen
from veduta.core.errors import DefinitionProblem

DAYS = {
    "MO": "Monday",
    "TU": "Tuesday",
    "WE": "Wednesday",
    "TH": "Thursday",
    "FR": "Friday",
    "SA": "Saturday",
    "SU": "Sunday",
}
WEEKDAYS = "MO,TU,WE,TH,FR"
Often = Literal["hourly", "daily", "weekdays", "weekly", "monthly"]
OFTEN_WORDS: dict[Often, str] = {
    "hourly": "every hour",
    "daily": "every day",
    "weekdays": "on weekdays",
    "weekly": "every week",
    "monthly": "every month",
}


class Schedule(Frozen):
    """A recurrence rule (RFC 5545, as after "RRULE:") on the wall clock of a time zone."""

    rule: str = Field(max_length=500)
    zone: str = "UTC"

    @field_validator("zone")
    @classmethod
    def _validate_zone(cls, zone: str) -> str:
        try:
            ZoneInfo(zone)
        except (ZoneInfoNotFoundError, ValueError):
            raise DefinitionProblem(
                f"“{zone}” is not a time zone.", hint="Write one such as Europe/London or UTC."
            ) from None
        return zone

    @field_validator("rule")
    @classmethod
    def _validate_rule(cls, rule: str) -> str:
        try:
            rrulestr(rule, dtstart=dt.datetime(2026, 1, 1))
        except (ValueError, KeyError, TypeError, AttributeError):
            raise DefinitionProblem("That schedule cannot be read.", hint="Choose how often and when.") from None
        return rule

    def find_next(self, moment: dt.datetime) -> dt.datetime | None:
        """The first time after an aware moment, as UTC. A time that the clocks skip in spring comes an hour later."""
        zone = ZoneInfo(self.zone)
        local = moment.astimezone(zone).replace(tzinfo=None)
        start = local.replace(hour=0, minute=0, second=0, microsecond=0) - dt.timedelta(days=1)
        following = rrulestr(self.rule, dtstart=start).after(local)
        return following.replace(tzinfo=zone).astimezone(dt.UTC) if following else None

    @property
    def parts(self) -> dict[str, str]:
        return dict(part.split("=", 1) for part in self.rule.upper().split(";") if "=" in part)

    @property
    def often(self) -> Often:
        frequency, parts = self.parts.get("FREQ", ""), self.parts
        if frequency == "WEEKLY":
            return "weekdays" if parts.get("BYDAY") == WEEKDAYS else "weekly"
        others: dict[str, Often] = {"HOURLY": "hourly", "MONTHLY": "monthly"}
        return others.get(frequency, "daily")

    @property
    def clock(self) -> str:
        return f"{int(self.parts.get('BYHOUR', 0)):02d}:{int(self.parts.get('BYMINUTE', 0)):02d}"

    @property
    def words(self) -> str:
        """The schedule in a sentence.

        >>> Schedule(rule="FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR;BYHOUR=6;BYMINUTE=0", zone="Europe/Lisbon").words
        'on weekdays at 06:00 (Europe/Lisbon)'
        """
        parts = self.parts
        time = f"at {self.clock} ({self.zone})"
        if self.often == "hourly":
            return f"every hour, {int(parts.get('BYMINUTE', 0))} minutes past"
        if self.often == "weekdays":
            return f"on weekdays {time}"
        if self.often == "weekly":
            return f"every {' and '.join(DAYS[day] for day in parts.get('BYDAY', 'MO').split(','))} {time}"
        if self.often == "monthly":
            day = parts.get("BYMONTHDAY", "1")
            return f"monthly on the {'last day' if day == '-1' else _write_ordinal(int(day))} {time}"
        return f"every day {time}"


def _write_ordinal(number: int) -> str:
    return f"{number}{'th' if 10 < number % 100 < 14 else {1: 'st', 2: 'nd', 3: 'rd'}.get(number % 10, 'th')}"


def schedule_from(
    often: str, clock: str, zone: str, days: list[str] | tuple[str, ...] = (), month_day: int = 1
) -> Schedule:
    """A schedule from what a form asks. `clock` is "06:30"; `month_day` is 1 to 31, or -1 for the last.

    Raises DefinitionProblem for what does not fit.
    """
    try:
        hour, minute = (int(part) for part in clock.split(":")[:2])
        dt.time(hour, minute)
    except ValueError:
        raise DefinitionProblem("The time is not readable.", hint="Write it as 06:30.") from None
    time = f"BYHOUR={hour};BYMINUTE={minute};BYSECOND=0"
    if often == "hourly":
        return Schedule(rule=f"FREQ=HOURLY;BYMINUTE={minute};BYSECOND=0", zone=zone)
    if often == "weekdays":
        return Schedule(rule=f"FREQ=WEEKLY;BYDAY={WEEKDAYS};{time}", zone=zone)
    if often == "weekly":
        chosen = [day for day in DAYS if day in days]
        if not chosen:
            raise DefinitionProblem("No day of the week is chosen.", hint="Choose at least one.")
        return Schedule(rule=f"FREQ=WEEKLY;BYDAY={','.join(chosen)};{time}", zone=zone)
    if often == "monthly":
        if not (1 <= month_day <= 31 or month_day == -1):
            raise DefinitionProblem("The day of the month must be 1 to 31.", hint="Choose another day.")
        return Schedule(rule=f"FREQ=MONTHLY;BYMONTHDAY={month_day};{time}", zone=zone)
    if often == "daily":
        return Schedule(rule=f"FREQ=DAILY;{time}", zone=zone)
    raise DefinitionProblem("How often is not known.", hint="Choose from the list.")
