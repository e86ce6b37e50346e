"""Read rows from an SQL database: a table, or a query that only reads, in batches."""

from __future__ import annotations

import datetime as dt
import decimal
import re
from collections.abc import Callable, Sequence
from typing import Any

import polars as pl
import sqlparse
from sqlalchemy import Executable, create_engine, inspect, select, table, text
from sqlalchemy.engine import Engine
from sqlalchemy.exc import SQLAlchemyError

from veduta.core.data.landing import Landing
from veduta.core.errors import Unreached, VedutaError

BATCH = 50_000


class DatabaseProblem(VedutaError):
    """The database cannot be reached, or the query cannot be run."""

    code = "database"


class DatabaseUnreached(DatabaseProblem, Unreached):
    """The database does not answer, or not now."""


def open_engine(address: str) -> Engine:
    """An engine for a database's address. Raises DatabaseProblem for a kind of database that is not known."""
    try:
        if address.startswith("sqlite:///"):
            path = address.removeprefix("sqlite:///")
            return create_engine(f"sqlite:///file:{path}?mode=ro&uri=true")
        if address.startswith(("postgresql://", "postgres://")):
            address = "postgresql+psycopg://" + address.split("://", 1)[1]
        if not address.startswith("postgresql+psycopg://"):
            raise DatabaseProblem(
                "This kind of database is not known.", hint="Addresses start with postgresql:// or sqlite:///."
            )
        return create_engine(address, connect_args={"connect_timeout": 10})
    except SQLAlchemyError as error:
        raise DatabaseProblem(f"The database's address cannot be read: {_reason(error)}.", hint="Check it.") from None


def tables(engine: Engine) -> list[str]:
    """The names of tables and views, with their schema where it is not the usual one."""
    try:
        looked = inspect(engine)
        usual = looked.default_schema_name
        names = []
        for schema in looked.get_schema_names():
            if schema in ("information_schema", "pg_catalog"):
                continue
            own = [*looked.get_table_names(schema), *looked.get_view_names(schema)]
            names += own if schema in (usual, "main") else [f"{schema}.{name}" for name in own]
        return sorted(names)
    except SQLAlchemyError as error:
        raise _unreachable(error) from None


def only_reads(query: str) -> str:
    """The query without its final semicolon. Raises DatabaseProblem unless it is one statement that only reads."""
    statements = [each for each in sqlparse.parse(query) if str(each).strip().strip(";")]
    if len(statements) != 1:
        raise DatabaseProblem(
            "There must be one statement." if statements else "There is no query yet.",
            hint="Write one that starts with SELECT.",
        )
    statement = statements[0]
    words = {
        token.normalized.upper()
        for token in statement.flatten()
        if token.ttype in sqlparse.tokens.Keyword.DML or token.ttype in sqlparse.tokens.Keyword.DDL
    }
    if (
        statement.get_type() != "SELECT"
        or words - {"SELECT"}
        or " INTO " in f" {' '.join(str(statement).upper().split())} ".split(" FROM ")[0] + " "
    ):
        raise DatabaseProblem(
            "This query would change something.", hint="Only queries that read are run: start with SELECT or WITH."
        )
    return str(statement).strip().rstrip(";")


def fetch_rows(
    engine: Engine,
    landing: Landing,
    *,
    table_name: str = "",
    query: str = "",
    last: Any = None,
    limit: int | None = None,
    tick: Callable[[int], None] = lambda rows: None,
) -> None:
    """Land the rows of a table or of a query, all or about `limit`. In a query ":last" stands for the latest value
    taken in so far. Raises DatabaseProblem."""
    if table_name:
        schema, _, name = table_name.rpartition(".")
        whole = select(text("*")).select_from(table(name, schema=schema or None))
        statement: Executable = whole.limit(limit) if limit else whole
    else:
        # Only :last is a value to fill in; other colons are the query's own.
        written = text(re.sub(r"(?<!:):(?!last\b|:)(?=\w)", r"\:", only_reads(query)))
        statement = written.bindparams(last=last) if ":last" in query else written
    options: dict[str, Any] = {"stream_results": True}
    if engine.dialect.name == "postgresql":
        options["postgresql_readonly"] = True
    try:
        with engine.connect().execution_options(**options) as connection:
            rows = connection.execute(statement)
            names = unique(list(rows.keys()))
            while batch := rows.fetchmany(min(BATCH, limit) if limit else BATCH):
                landing.add(_frame(names, batch))
                tick(landing.rows)
                if limit and landing.rows >= limit:
                    break
    except SQLAlchemyError as error:
        if "connect" in type(error).__name__.lower() or "could not connect" in str(error).lower():
            raise _unreachable(error) from None
        raise DatabaseProblem(f"The database says: {_reason(error)}.", hint="Check the query.") from None


def unique(names: list[str]) -> list[str]:
    from veduta.core.data.formats import unique_headings

    return unique_headings([str(name) for name in names])


def _frame(names: list[str], rows: Sequence[Any]) -> pl.DataFrame:
    return pl.DataFrame([_column(name, [_plain(row[i]) for row in rows]) for i, name in enumerate(names)])


def _plain(value: Any) -> Any:
    if isinstance(value, decimal.Decimal):
        exponent = value.as_tuple().exponent
        whole = isinstance(exponent, int) and exponent >= 0 and value == value.to_integral_value()
        return int(value) if whole else float(value)
    if isinstance(value, dt.datetime) and value.tzinfo:
        return value.astimezone(dt.UTC).replace(tzinfo=None)
    if isinstance(value, bytes | memoryview):
        return bytes(value).hex()
    if value is None or isinstance(value, bool | int | float | str | dt.datetime | dt.date):
        return value
    return str(value)


def _column(name: str, values: list[Any]) -> pl.Series:
    kinds = {type(value) for value in values if value is not None}
    exact: dict[type, Any] = {
        bool: pl.Boolean,
        int: pl.Int64,
        str: pl.String,
        dt.date: pl.Date,
        dt.datetime: pl.Datetime("us"),
    }
    try:
        if len(kinds) <= 1:
            kind = next(iter(kinds), str)
            return pl.Series(name, values, dtype=exact.get(kind, pl.Float64))
        if kinds <= {int, float}:
            return pl.Series(name, [None if value is None else float(value) for value in values], dtype=pl.Float64)
    except (OverflowError, TypeError, pl.exceptions.PolarsError):
        pass
    return pl.Series(name, [None if value is None else str(value) for value in values], dtype=pl.String)


def _unreachable(error: SQLAlchemyError) -> DatabaseUnreached:
    return DatabaseUnreached(
        f"The database cannot be reached: {_reason(error)}.", hint="Check the address and the password."
    )


def _reason(error: SQLAlchemyError) -> str:
    text_ = str(getattr(error, "orig", None) or error).strip().splitlines()[0]
    return text_.rstrip(".")[:200]
