"""What a dataset's columns are: their kind of value, their role and how they are shown."""

from __future__ import annotations

from collections.abc import Iterator
from enum import StrEnum
from typing import Annotated, Literal

import polars as pl
from pydantic import AfterValidator, BaseModel, ConfigDict, Field

from veduta.core.data.languages import LanguageCode
from veduta.core.data.patterns import validate_pattern
from veduta.core.data.periods import Period
from veduta.core.errors import MissingField


class DataType(StrEnum):
    TEXT = "text"
    WHOLE = "whole"
    DECIMAL = "decimal"
    YES_NO = "yes_no"
    DATE = "date"
    DATETIME = "datetime"

    @property
    def words(self) -> str:
        return KIND_WORDS[self]

    @property
    def is_number(self) -> bool:
        return self is DataType.WHOLE or self is DataType.DECIMAL

    @property
    def is_date(self) -> bool:
        return self is DataType.DATE or self is DataType.DATETIME

    @property
    def dtype(self) -> pl.DataType:
        return DTYPES[self]


KIND_WORDS = {
    DataType.TEXT: "text",
    DataType.WHOLE: "whole number",
    DataType.DECIMAL: "decimal number",
    DataType.YES_NO: "yes/no",
    DataType.DATE: "date",
    DataType.DATETIME: "date and time",
}
DTYPES = {
    DataType.TEXT: pl.String(),
    DataType.WHOLE: pl.Int64(),
    DataType.DECIMAL: pl.Float64(),
    DataType.YES_NO: pl.Boolean(),
    DataType.DATE: pl.Date(),
    DataType.DATETIME: pl.Datetime("us"),
}


class FieldRole(StrEnum):
    DIMENSION = "dimension"
    MEASURE = "measure"


class Aggregate(StrEnum):
    SUM = "sum"
    MEAN = "mean"
    MEDIAN = "median"
    MIN = "min"
    MAX = "max"
    COUNT = "count"
    COUNT_DISTINCT = "count_distinct"
    OWN = "own"
    """What a formula of many rows says."""

    @property
    def words(self) -> str:
        return AGGREGATE_WORDS[self]


AGGREGATE_WORDS = {
    Aggregate.SUM: "sum",
    Aggregate.MEAN: "mean",
    Aggregate.MEDIAN: "median",
    Aggregate.MIN: "lowest",
    Aggregate.MAX: "highest",
    Aggregate.COUNT: "count",
    Aggregate.COUNT_DISTINCT: "distinct count",
    Aggregate.OWN: "formula",
}


def list_aggregates(kind: DataType) -> list[Aggregate]:
    """The aggregates that make sense on values of this kind, the usual one first."""
    counts = [Aggregate.COUNT, Aggregate.COUNT_DISTINCT]
    if kind.is_number:
        return [Aggregate.SUM, Aggregate.MEAN, Aggregate.MEDIAN, Aggregate.MIN, Aggregate.MAX, *counts]
    if kind.is_date:
        return [*counts, Aggregate.MIN, Aggregate.MAX]
    return counts


Total = Literal["again", "sum", "mean", "min", "max", "none"]
OverDates = Literal["", "last", "first", "mean", "max"]


class Frozen(BaseModel):
    """A value: immutable, comparable, strict about unknown keys."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)


class NumberFormat(Frozen):
    """How numbers are written.

    `decimals` None means as many as the values need (at most two). Positive ones may have a `sign`, negative ones a
    minus or brackets; units stand `before` and `after` them, and `empty` is said of none. A `pattern` of CLDR goes
    before all but that. They are written, as are dates of a column that has this format, in a `language`."""

    style: Literal["number", "currency", "percent", "permille"] = "number"
    currency: str = Field("EUR", pattern="^[A-Z]{3}$")
    decimals: int | None = Field(None, ge=0, le=9)
    thousands: bool = True
    shorten: bool = False
    negative: Literal["minus", "brackets"] = "minus"
    sign: bool = False
    before: str = Field("", max_length=12)
    after: str = Field("", max_length=12)
    empty: str = Field("", max_length=20)
    pattern: Annotated[str, Field(max_length=60), AfterValidator(validate_pattern)] = ""
    language: LanguageCode = "en"


class ParseOptions(Frozen):
    """How a column's text becomes values.

    `formats` are strptime patterns for dates, the likeliest first; `order` is the order of day, month
    and year in numeric dates. `period` is what its texts write instead of days: months, quarters and so on.
    `empties` are words, in lower case, that mean empty in this column; rows that have one of `left_out` are not taken
    in.
    """

    decimal: Literal[".", ","] = "."
    thousands: Literal["", ",", ".", " ", "'"] = ""
    order: Literal["ymd", "dmy", "mdy"] = "ymd"
    formats: tuple[str, ...] = ()
    period: Period = ""
    empties: tuple[str, ...] = Field((), max_length=50)
    left_out: tuple[str, ...] = Field((), max_length=50)


class DataField(Frozen):
    """A column of a dataset, or a formula of a model.

    `id` never changes; fields of tables that a model joins have their table's before a dot. `source` is its heading in
    the file.

    `total` is how totals of it are worked out. A measure with `over_dates` is a stock: over dates it is not added, but
    the last (first, mean, highest) day's sum is taken. Values may be degrees (`place`), or name areas of the `shapes`
    with an id. A `formula` is of a row, or with `level` aggregate of many."""

    id: str = Field(pattern=r"^([a-z0-9_]{1,40}\.)?[a-z0-9_]{1,40}$")
    source: str
    name: str = Field(min_length=1, max_length=200)
    kind: DataType
    role: FieldRole = FieldRole.DIMENSION
    aggregate: Aggregate = Aggregate.COUNT
    description: str = Field("", max_length=2000)
    hidden: bool = False
    format: NumberFormat = NumberFormat()
    reading: ParseOptions = ParseOptions()
    folder: str = Field("", max_length=100)
    synonyms: tuple[str, ...] = Field((), max_length=20)
    total: Total = "again"
    over_dates: OverDates = ""
    place: Literal["", "latitude", "longitude", "country", "region", "town"] = ""
    shapes: str = Field("", max_length=40)
    sort_by: str = Field("", max_length=81)
    formula: str = ""
    level: Literal["row", "aggregate"] = "row"

    @property
    def table(self) -> str:
        """The table of the model it belongs to; "" for the one the model began with."""
        return self.id.partition(".")[0] if "." in self.id else ""


class Schema:
    """Fields, looked up by id: those of a dataset, or of a model with the names of the tables it joins.

    `gone` names fields that the current version lacks, by their ids; the fiscal
    year starts with month `fiscal_month`."""

    def __init__(
        self,
        fields: list[DataField],
        gone: dict[str, str] | None = None,
        tables: dict[str, str] | None = None,
        fiscal_month: int = 1,
    ) -> None:
        self.fields = list(fields)
        self.gone = gone or {}
        self.tables = tables or {}
        self.fiscal_month = fiscal_month
        self._by_id = {field.id: field for field in fields}

    def __iter__(self) -> Iterator[DataField]:
        return iter(self.fields)

    def __contains__(self, field_id: str) -> bool:
        return field_id in self._by_id

    def get(self, field_id: str | None) -> DataField | None:
        return self._by_id.get(field_id or "")

    def __getitem__(self, field_id: str) -> DataField:
        """The field with this id. Raises MissingField."""
        try:
            return self._by_id[field_id]
        except KeyError:
            raise MissingField(
                f"The field “{self.gone.get(field_id, field_id)}” is missing from the dataset's newest version.",
                where=field_id,
                hint="Take it out of the chart or choose another field; it works again once a file has the column.",
            ) from None

    @property
    def visible(self) -> list[DataField]:
        return [field for field in self.fields if not field.hidden]

    def find_named(self, name: str, kind: DataType) -> DataField | None:
        """The field with this name (ignoring case) and a comparable kind of value, if there is one."""
        for field in self.fields:
            alike = (
                field.kind == kind or (field.kind.is_number and kind.is_number) or (field.kind.is_date and kind.is_date)
            )
            if alike and field.name.casefold() == name.casefold():
                return field
        return None
