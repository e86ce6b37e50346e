"""Turn columns of text into typed columns.

Each column is first cast the fast way. Only the values that did not come through are then read the
thorough way (signs, separators, other date shapes), and what still fails is counted and kept.
"""

from __future__ import annotations

import dataclasses
import re
from dataclasses import dataclass

import polars as pl

from veduta.core.data.fields import DataField, DataType
from veduta.core.data.periods import read_periods
from veduta.core.data.recognise import DATE_SHAPES, NO, NUMBER, TIMES, YES, build_digits_pattern

FAILURES_KEPT = 1_000


@dataclass
class Failures:
    """Values of one column that did not convert: how many, and the first as (row, text), rows from 1."""

    count: int = 0
    examples: list[tuple[int, str]] = dataclasses.field(default_factory=list)

    def add(self, rows: pl.Series, values: pl.Series) -> None:
        self.count += len(rows)
        room = FAILURES_KEPT - len(self.examples)
        if room > 0:
            self.examples += zip(rows[:room].to_list(), values[:room].to_list(), strict=True)


def convert(
    text: pl.Series, field: DataField, empties: tuple[str, ...], failures: Failures, first_row: int = 1
) -> pl.Series:
    """The column's values as `field.kind`; empties and values that do not convert become null.

    `first_row` is the row number of the column's first value; failures are added to `failures`.
    """
    if text.dtype != pl.String:
        if not _writes_periods(field) or text.dtype == field.kind.dtype:
            return _convert_typed(text, field, failures, first_row)
        text = text.cast(pl.String)
    if field.reading.empties:
        text = _strip_words(text, field.reading.empties)
    if field.kind is DataType.TEXT:
        return _clean_text(text, empties)
    quick = _cast_quickly(text, field)
    if quick is None:
        rows = pl.int_range(first_row, first_row + len(text), eager=True)
        return _read_each_once(text, rows, field, empties, failures).alias(text.name)
    left = (quick.is_null() & text.is_not_null() & (text != "")).arg_true()
    if not len(left):
        return quick
    rows = left.cast(pl.Int64) + first_row
    return quick.scatter(left, _read_each_once(text.gather(left), rows, field, empties, failures))


def _read_each_once(
    text: pl.Series, rows: pl.Series, field: DataField, empties: tuple[str, ...], failures: Failures
) -> pl.Series:
    """Texts of these rows read the thorough way: the same few words repeat, so each different one is read once."""
    different = text.unique()
    stripped = different.str.strip_chars()
    values = _read_thoroughly(stripped, field)
    is_empty = (stripped == "") | stripped.str.to_lowercase().is_in(list(empties))
    failing = different.filter(values.is_null() & ~is_empty)
    if len(failing):
        failed = text.is_in(failing.implode()).arg_true()
        failures.add(rows.gather(failed), text.gather(failed))
    return text.replace_strict(different, values, return_dtype=field.kind.dtype)


def _convert_typed(values: pl.Series, field: DataField, failures: Failures, first_row: int) -> pl.Series:
    """Values that came as such, not as text, in the kind that is wanted."""
    if values.dtype == field.kind.dtype:
        return values
    was = next(kind for kind in DataType if kind.dtype == values.dtype)
    result = cast_values(values, was, field.kind)
    lost = (result.is_null() & values.is_not_null()).arg_true()
    if len(lost):
        failures.add(lost.cast(pl.Int64) + first_row, values.gather(lost).cast(pl.String))
    return result


def cast_values(values: pl.Series, was: DataType, kind: DataType) -> pl.Series:
    """Values of one kind converted to another where that has a meaning.

    A decimal without a fraction is a whole number, a date-time's day is a date, 1 and 0 are yes and no, numbers are a
    spreadsheet's days; other values become empty."""
    frame, v = values.alias("v").to_frame(), pl.col("v")
    if kind is DataType.TEXT:
        made = write_as_text(v, was)
    elif (
        (was.is_number and kind is DataType.DECIMAL)
        or (was is DataType.YES_NO and kind.is_number)
        or (was.is_date and kind.is_date)
    ):
        made = v.cast(kind.dtype)
    elif was is DataType.DECIMAL and kind is DataType.WHOLE:
        made = pl.when((v == v.floor()) & (v.abs() < 2**63)).then(v.cast(pl.Int64, strict=False))
    elif was.is_number and kind is DataType.YES_NO:
        made = pl.when(v.is_in([0, 1])).then(v == 1)
    elif was.is_number and kind.is_date:
        made = convert_serial_day(v).cast(kind.dtype)
    else:
        made = pl.when(v.is_null()).then(None).otherwise(pl.lit(None, dtype=kind.dtype))
    return frame.select(made.cast(kind.dtype).alias(values.name)).to_series()


def write_as_text(value: pl.Expr, kind: DataType | None) -> pl.Expr:
    """Values as text: decimals without a fraction without a point, yes or no, dates as ISO."""
    if kind is DataType.YES_NO:
        return pl.when(value).then(pl.lit("yes")).when(~value).then(pl.lit("no"))
    if kind is DataType.DECIMAL:
        whole = (value == value.floor()) & (value.abs() < 2**53)
        return pl.when(whole).then(value.cast(pl.Int64, strict=False).cast(pl.String)).otherwise(value.cast(pl.String))
    return value.dt.strftime("%Y-%m-%d %H:%M:%S") if kind is DataType.DATETIME else value.cast(pl.String)


def convert_serial_day(number: pl.Expr) -> pl.Expr:
    """A spreadsheet's number of a day as a date-time, where it can be one (from 1900 to 9999)."""
    plausible = (number >= 1) & (number < 2_958_466)
    micro = (number.cast(pl.Float64) * 86_400e6).round(0).cast(pl.Int64, strict=False)
    return pl.when(plausible).then(pl.datetime(1899, 12, 30, time_unit="us") + pl.duration(microseconds=micro))


def _clean_text(text: pl.Series, empties: tuple[str, ...]) -> pl.Series:
    different = text.unique()
    if len(different) > len(text) // 4:
        return _clean(text, empties)
    cleaned = _clean(different, empties)
    changed = different.ne_missing(cleaned)
    if not changed.any():
        return text
    if cleaned.filter(changed).is_null().all():
        return text.set(text.is_in(different.filter(changed).implode()), None)
    return text.replace_strict(different, cleaned, return_dtype=pl.String)


def _strip_words(text: pl.Series, words: tuple[str, ...]) -> pl.Series:
    """The texts with those that are one of some words, in whatever case, empty."""
    different = text.unique()
    gone = different.filter(different.str.strip_chars().str.to_lowercase().is_in(list(words)))
    return text.set(text.is_in(gone.implode()), None) if len(gone) else text


def _clean(text: pl.Series, empties: tuple[str, ...]) -> pl.Series:
    stripped = text.alias("t").to_frame().select(pl.col("t").str.strip_chars())
    is_empty = (pl.col("t") == "") | pl.col("t").str.to_lowercase().is_in(list(empties))
    return stripped.select(pl.when(~is_empty).then(pl.col("t")).alias(text.name)).to_series()


def _cast_quickly(text: pl.Series, field: DataField) -> pl.Series | None:
    """The values that Polars itself can read; None where it cannot be trusted with any."""
    kind = field.kind
    if kind is DataType.YES_NO or _writes_periods(field):
        return None
    if kind.is_number:
        if field.reading.decimal == "," or field.reading.thousands == ".":
            return None
        values = text.cast(kind.dtype, strict=False)
        return values if kind is DataType.WHOLE else _drop_infinite(values)
    pattern = field.reading.formats[0] if field.reading.formats else "%Y-%m-%d"
    if kind is DataType.DATE:
        return text.str.to_date(pattern, strict=False)
    return _to_datetime(text, pattern)


def _writes_periods(field: DataField) -> bool:
    return field.kind.is_date and field.reading.period != ""


def is_plain_number(field: DataField) -> bool:
    """Whether the column's values are numbers that a machine wrote, as far as its reading tells."""
    reading = field.reading
    plain = reading.decimal == "." and not reading.thousands and not reading.empties
    return field.kind.is_number and plain and field.format.style == "number"


def _drop_infinite(values: pl.Series) -> pl.Series:
    if values.is_finite().all():
        return values
    return values.to_frame("v").select(pl.when(pl.col("v").is_finite()).then(pl.col("v")))["v"].alias(values.name)


def _to_datetime(text: pl.Series, pattern: str) -> pl.Series:
    if pattern.endswith(("Z", "%z")):
        return _read_dates(text.str.strip_chars(), (pattern.removesuffix("Z").removesuffix("%z"),), "ymd")
    return text.str.to_datetime(pattern, time_unit="us", strict=False)


def _read_thoroughly(text: pl.Series, field: DataField) -> pl.Series:
    if field.kind is DataType.YES_NO:
        lower = text.str.to_lowercase()
        yes, no = lower.is_in([*YES, "1"]), lower.is_in([*NO, "0"])
        frame = pl.DataFrame({"yes": yes, "no": no})
        return frame.select(pl.when("yes").then(True).when("no").then(False).alias("v"))["v"]
    if field.kind.is_number:
        return _read_numbers(text, field)
    dates = _read_dates(text, field.reading.formats, field.reading.order)
    if _writes_periods(field):
        dates = read_periods(text, field.reading.period).cast(pl.Datetime("us")).fill_null(dates)
    return dates.cast(field.kind.dtype)


def _read_numbers(text: pl.Series, field: DataField) -> pl.Series:
    thousands, decimal = field.reading.thousands, field.reading.decimal
    thousands = thousands or ("," if decimal == "." else ".")
    parts = pl.col("t").str.extract_groups(NUMBER.pattern)
    part = parts.struct.field
    digits = part("digits").str.replace_all("[\u00a0\u202f]", " ").str.replace_all("’", "'").str.strip_chars()
    frame = (
        text.alias("t")
        .to_frame()
        .select(
            digits=digits,
            power=part("power").fill_null(""),
            negative=part("sign").is_in(["-", "−"])
            | part("sign2").is_in(["-", "−"])
            | (part("sign3") == "-")
            | (part("open").is_not_null() & part("close").is_not_null()),
            percent=part("after") == "%",
            one_sign=pl.sum_horizontal(
                part(name).is_not_null().cast(pl.Int8) for name in ("sign", "sign2", "sign3", "open")
            )
            <= 1,
        )
    )
    fits = pl.col("digits").str.contains(build_digits_pattern(thousands, decimal)) & pl.col("one_sign")
    separators = f"[{re.escape(thousands)} ']"
    plain = pl.col("digits").str.replace_all(separators, "").str.replace_all(decimal, ".", literal=True)
    sign = pl.when(pl.col("negative").fill_null(False)).then(-1).otherwise(1)
    as_decimal = (plain + pl.col("power")).cast(pl.Float64, strict=False) * sign
    as_decimal = pl.when(pl.col("percent").fill_null(False)).then(as_decimal / 100).otherwise(as_decimal)
    as_decimal = pl.when(as_decimal.is_finite()).then(as_decimal)
    if field.kind is DataType.DECIMAL:
        return frame.select(pl.when(fits).then(as_decimal).alias("v"))["v"]
    exact = pl.when(pl.col("power") == "").then(plain.cast(pl.Int64, strict=False) * sign)
    integral = pl.when((as_decimal == as_decimal.floor()) & (as_decimal.abs() < 2**53)).then(
        as_decimal.cast(pl.Int64, strict=False)
    )
    not_percent = ~pl.col("percent").fill_null(False)
    return frame.select(pl.when(fits & not_percent).then(pl.coalesce(exact, integral)).alias("v"))["v"]


def _read_dates(text: pl.Series, formats: tuple[str, ...], order: str) -> pl.Series:
    """Date-times from texts of mixed shapes; an offset from UTC is applied, so that all are UTC."""
    orders = ["ymd", order] if order != "ymd" else ["ymd", "dmy"]
    patterns = dict.fromkeys(pattern.split("T")[0].split(" %H")[0].split(" %I")[0] for pattern in formats)
    patterns |= dict.fromkeys(pattern for shape in orders for pattern in DATE_SHAPES[shape])
    frame = (
        text.alias("t")
        .to_frame()
        .select(
            date=pl.col("t").str.replace(r"[T ]\d{1,2}:\d{2}.*$", ""),
            time=pl.col("t").str.extract(
                r"[T ](\d{1,2}:\d{2}(?::\d{2}(?:\.\d+)?)?(?: ?[AaPp][Mm])?)(?:Z|[-+]\d{2}:?\d{2})?$"
            ),
            offset=pl.col("t").str.extract(r":\d{2}.*([-+]\d{2}:?\d{2})$"),
        )
    )
    four_digits = pl.col("date").str.contains(r"\d{4}")
    day = pl.coalesce(
        pl.when(four_digits if "%Y" in pattern else ~four_digits).then(
            pl.col("date").str.to_date(pattern, strict=False)
        )
        for pattern in patterns
    )
    clock = pl.coalesce(
        pl.col("time").str.to_uppercase().str.replace(r"(\d)([AP]M)$", "${1} ${2}").str.to_time(pattern, strict=False)
        for pattern in TIMES
    )
    has_time = pl.col("date") != pl.col("t_all")
    minutes = pl.col("offset").str.replace(":", "")
    shift = (
        minutes.str.slice(1, 2).cast(pl.Int64, strict=False) * 60 + minutes.str.slice(3, 2).cast(pl.Int64, strict=False)
    ) * pl.when(minutes.str.starts_with("-")).then(-1).otherwise(1)
    whole = pl.when(has_time).then(day.dt.combine(clock)).otherwise(day.cast(pl.Datetime("us")))
    whole = whole - pl.duration(minutes=shift.fill_null(0))
    # A spreadsheet may show dates as the number of their day.
    serial = pl.when(pl.col("t_all").str.contains(r"^[2-7]\d{4}(\.\d+)?$")).then(
        convert_serial_day(pl.col("t_all").cast(pl.Float64, strict=False))
    )
    return frame.with_columns(t_all=text).select(pl.coalesce(whole, serial).alias("v"))["v"]
