"""What all filters share, and what an answer depends on besides the rows."""

from __future__ import annotations

import dataclasses
import datetime as dt
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Self

import polars as pl

from veduta.core.calendar import Days, Grain
from veduta.core.data.fields import Frozen, Schema
from veduta.core.errors import DefinitionProblem, QueryCancelled
from veduta.core.formula.measures import Parameters

if TYPE_CHECKING:
    from veduta.core.query.filters.groups import MeasureFilter, MembershipFilter


@dataclass(frozen=True)
class Context:
    """What an answer depends on besides the rows.

    Today, the latest date of each date field in all rows that may be seen, and the first month of the fiscal year."""

    today: dt.date
    latest: dict[str, dt.date] = dataclasses.field(default_factory=dict)
    fiscal_month: int = 1
    stopped: Callable[[], bool] | None = dataclasses.field(default=None, compare=False)
    """Whether nobody waits for the answer any more; asked between two passes over the rows."""

    def check_wanted(self) -> None:
        """Raises QueryCancelled if nobody waits for the answer any more."""
        if self.stopped and self.stopped():
            raise QueryCancelled("This question was stopped.", hint="A newer one has taken its place.")

    @property
    def latest_of_first(self) -> dt.date | None:
        """The latest day of the first table's own date, its first one: others may lie far ahead, as when pay is due."""
        return next((day for name, day in self.latest.items() if "." not in name), None)


class Condition(Frozen):
    """What every filter says of itself, so that nobody else has to ask which kind it is."""

    kind: str

    def get_group_filter(self) -> MeasureFilter | None:
        """The filter itself if it leaves out groups, by their values, instead of rows."""
        return None

    def list_fields(self) -> set[str]:
        """The ids of all fields it reads."""
        raise NotImplementedError

    def describe(self, schema: Schema) -> str:
        raise NotImplementedError

    def build_expression(self, schema: Schema, context: Context) -> pl.Expr:
        """The condition on rows. Raises DefinitionProblem if it does not fit them."""
        raise DefinitionProblem(
            f"“{self.describe(schema)}” is not a condition on single rows.", hint="Choose another way."
        )

    def build_table_expression(self, schema: Schema, context: Context, known_grain: Callable[[str], str]) -> pl.Expr:
        """The condition on the rows of a table, of whose dates perhaps only the periods of a grain are known."""
        return self.build_expression(schema, context)

    def resolve_parameters(self, parameters: Parameters) -> Condition | None:
        """With the values of its parameters; None if these say no limit, so that nothing is narrowed."""
        return self

    def get_question(self) -> MembershipFilter | None:
        """The question whose answer it needs."""
        return None

    def apply_answer(self, values: pl.Series, schema: Schema) -> Condition:
        """With the values that its question returned."""
        raise NotImplementedError

    def needs(self) -> set[tuple[str, str]]:
        """The fields that a table must have for the filter to apply.

        Each with the grain that the table must know it by ("" is days)."""
        raise NotImplementedError

    def move_to_other_periods(self, dates: set[str]) -> Condition | None:
        """What is left of the filter where other periods of these dates are looked up.

        `names` are those of one date. The filter is not about periods, so it holds there too."""
        return self

    def drop_fields(self, fields: frozenset[str]) -> Condition | None:
        """What is left of the filter where filters on these fields do not count."""
        raise NotImplementedError

    def list_days(self, dates: set[str], context: Context) -> list[Days] | None:
        """The ranges of days of these dates that it lets pass; None if it is not about periods of them."""
        return None

    def get_period_grain(self, dates: set[str]) -> Grain | None:
        """The grain of the periods of these dates that it chooses, if it does."""
        return None

    def find_last_day(self, dates: set[str], context: Context) -> dt.date | None:
        """The last day of these dates that it lets pass, if it goes from one day to another."""
        return None

    def count_most_values(self, field: str) -> int | None:
        """How many different values of a field it lets pass at most, if it says so."""
        return None

    def get_named_values(self) -> str:
        """The field of which it names the values that pass, if it does."""
        return ""

    def get_counting_date(self) -> str:
        """The field from whose latest date it counts back, if it does."""
        return ""


class FieldCondition(Condition):
    """A filter on one field."""

    field: str

    def list_fields(self) -> set[str]:
        return {self.field}

    def with_field(self, field: str) -> Self:
        """The same filter on another dataset's field."""
        return self.model_copy(update={"field": field})

    def needs(self) -> set[tuple[str, str]]:
        return {(self.field, "")}

    def drop_fields(self, fields: frozenset[str]) -> Condition | None:
        return None if self.field in fields else self
