"""What all filters share, and what an answer depends on besides the rows."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import dataclass
from dataclasses import field as attribute

from veduta.core.calendar import Days, Grain
from veduta.core.data.fields import Frozen
from veduta.core.errors import Stopped


@dataclass(frozen=True)
class Context:
    """What an answer depends on besides the rows: today, the latest date of each date field in all rows that may be
    seen, and the first month of the fiscal year."""

    today: dt.date
    latest: dict[str, dt.date] = attribute(default_factory=dict)
    fiscal_month: int = 1
    stopped: Callable[[], bool] | None = attribute(default=None, compare=False)
    """Whether nobody waits for the answer any more; asked between two passes over the rows."""

    def check_wanted(self) -> None:
        """Raises Stopped if nobody waits for the answer any more."""
        if self.stopped and self.stopped():
            raise Stopped("This question was stopped.", hint="A newer one has taken its place.")

    def latest_of_first(self) -> list[dt.date]:
        """The latest dates of the model's first table."""
        return [day for name, day in self.latest.items() if "." not in name]


class BaseFilter(Frozen):
    field: str

    def fields(self) -> set[str]:
        return {self.field}

    def with_field(self, field: str) -> BaseFilter:
        """The same filter on another dataset's field."""
        return self.model_copy(update={"field": field})

    def needs(self) -> set[tuple[str, str]]:
        """The fields that a table must have to be narrowed, each with the grain
        that it must know it by ("" its days)."""
        return {(self.field, "")}

    def in_other_periods(self, dates: set[str]) -> BaseFilter | None:
        """What is left of the filter where other periods of these dates (names of one date) are looked up: it is not
        about periods, so it holds there too."""
        return self

    def without(self, fields: frozenset[str]) -> BaseFilter | None:
        """What is left of the filter where filters on these fields do not count."""
        return None if self.field in fields else self

    def days(self, dates: set[str], context: Context) -> list[Days] | None:
        """The ranges of days of these dates that it lets pass; None if it is not about periods of them."""
        return None

    def period_grain(self, dates: set[str]) -> Grain | None:
        """The grain of the periods of these dates that it chooses, if it does."""
        return None
