"""Read rows from an SQL database: a table, or a query that only reads, in batches."""

from __future__ import annotations

import datetime as dt
import decimal
import os
import re
import sqlite3
from collections.abc import Callable, Iterator, Sequence
from typing import Any
from urllib.parse import quote

import polars as pl
import sqlglot
from sqlalchemy import URL, Connection, CursorResult, Executable, create_engine, inspect, select, table, text
from sqlalchemy.engine import Engine
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.pool import NullPool
from sqlglot import exp

from veduta.core.data.database_address import DatabaseAddress, DatabaseProblem, SqliteFile
from veduta.core.data.deadline import NO_DEADLINE, Deadline
from veduta.core.data.landing import Landing
from veduta.core.errors import SourceUnreachable

MOST_IN_BATCH, BATCH_BYTES = 50_000, 32 * 1024**2
LONGEST_VALUE = 64 * 1024**2
"""Bytes of one value that SQLite may make; without it one word of a query makes a gigabyte."""
CONNECT_SECONDS = 10


class DatabaseUnreachable(DatabaseProblem, SourceUnreachable):
    """The database does not answer, or not now."""


def open_engine(address: DatabaseAddress, number: str = "", seconds: float = 0) -> Engine:
    """An engine for a database, which only reads.

    A server is asked at `number`, where its name was found to lead, and ends each statement after `seconds` by itself.
    """
    if isinstance(address, SqliteFile):
        return create_engine("sqlite://", poolclass=NullPool, creator=lambda: _open_file(address))
    at = (address.host, address.port, address.database)
    url = URL.create("postgresql+psycopg", address.user or None, address.password or None, *at)
    # What the machine's own user keeps for itself (passwords, tickets) is not used for somebody else's connection.
    own = {"passfile": f"{os.devnull}/none", "gssencmode": "disable", "hostaddr": number or None}
    set_ = f"-c default_transaction_read_only=on -c statement_timeout={int(seconds * 1000)}"
    given = {key: value for key, value in own.items() if value}
    return create_engine(
        url,
        poolclass=NullPool,
        connect_args={"connect_timeout": CONNECT_SECONDS, "options": set_, **given, **address.options},
    )


def _open_file(address: SqliteFile) -> sqlite3.Connection:
    connection = sqlite3.connect(f"file:{quote(str(address.path))}?mode=ro", uri=True, check_same_thread=False)
    connection.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, LONGEST_VALUE)
    connection.setlimit(sqlite3.SQLITE_LIMIT_ATTACHED, 0)
    return connection


def list_tables(engine: Engine) -> list[str]:
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
        raise _make_unreachable(error) from None


def check_only_reads(query: str, dialect: str) -> str:
    """The query without its final semicolon. Raises DatabaseProblem unless it is one statement that only reads."""
    try:
        statements = [each for each in sqlglot.parse(query, dialect=dialect) if each is not None]
    except (sqlglot.errors.SqlglotError, RecursionError) as error:
        raise DatabaseProblem(
            f"The query cannot be read: {_locate_error(error)}.", hint="Check how it is written."
        ) from None
    if len(statements) != 1:
        raise DatabaseProblem(
            "There must be one statement." if statements else "There is no query yet.",
            hint="Write one that starts with SELECT.",
        )
    if not isinstance(statements[0], exp.Query | exp.Values) or statements[0].find(*CHANGES):
        raise DatabaseProblem(
            "This query would change something.", hint="Only queries that read are run: start with SELECT or WITH."
        )
    return query.strip().rstrip(";").rstrip()


CHANGES = (exp.DDL, exp.DML, exp.Command, exp.Into, exp.Lock, exp.Drop, exp.Alter, exp.Attach, exp.Pragma, exp.Set)


def _locate_error(error: Exception) -> str:
    if isinstance(error, sqlglot.errors.ParseError) and error.errors:
        first = error.errors[0]
        return f"line {first['line']}, near “{first['highlight'] or first['start_context'].strip()[-30:]}”"
    return "it is nested too deep" if isinstance(error, RecursionError) else "a quotation mark or bracket is left open"


def fetch_rows(  # noqa: PLR0913 - options, each given by name
    engine: Engine,
    landing: Landing,
    *,
    table_name: str = "",
    query: str = "",
    last: Any = None,
    limit: int | None = None,
    most_rows: int = 50_000_000,
    tick: Callable[[int], None] = lambda rows: None,
    patience: Deadline = NO_DEADLINE,
) -> None:
    """Land the rows of a table or of a query, all or about `limit`.

    In a query ":last" stands for the latest value taken in so far. The database is told to stop when patience is over.
    Raises DatabaseProblem, and what `patience` raises."""
    statement = _build_statement(engine, table_name, query, last, limit)
    options: dict[str, Any] = {"stream_results": True}
    if engine.dialect.name == "postgresql":
        options["postgresql_readonly"] = True
    try:
        with engine.connect().execution_options(**options) as connection, patience.watch(_stop(connection)):
            rows = connection.execute(statement)
            for frame in _iterate_batches(rows, limit):
                landing.add(frame)
                tick(landing.rows)
                patience.check()
                if limit and landing.rows >= limit:
                    break
                if landing.rows > most_rows:
                    raise DatabaseProblem(
                        f"There are more than {most_rows:,} rows.", hint="Narrow what is asked for with WHERE."
                    )
    except SQLAlchemyError as error:
        if "connect" in type(error).__name__.lower() or "could not connect" in str(error).lower():
            raise _make_unreachable(error) from None
        raise DatabaseProblem(f"The database says: {_explain_error(error)}.", hint="Check the query.") from None


def _build_statement(engine: Engine, table_name: str, query: str, last: Any, limit: int | None) -> Executable:
    if table_name:
        schema, _, name = table_name.rpartition(".")
        whole = select(text("*")).select_from(table(name, schema=schema or None))
        return whole.limit(limit) if limit else whole
    dialect = "postgres" if engine.dialect.name == "postgresql" else "sqlite"
    # Only :last is a value to fill in; other colons are the query's own.
    written = text(re.sub(r"(?<!:):(?!last\b|:)(?=\w)", r"\:", check_only_reads(query, dialect)))
    return written.bindparams(last=last) if ":last" in query else written


def _stop(connection: Connection) -> Callable[[], object]:
    """Tells the database that a statement is to end, from whatever thread."""
    driver: Any = connection.connection.driver_connection
    return driver.interrupt if isinstance(driver, sqlite3.Connection) else driver.cancel


def _iterate_batches(rows: CursorResult[Any], limit: int | None) -> Iterator[pl.DataFrame]:
    """The rows in frames with a column for each of the query's, as large as memory well takes.

    The first ones tell how wide a row is."""
    names = make_unique(list(rows.keys()))
    most = min(MOST_IN_BATCH, limit or MOST_IN_BATCH)
    size = min(100, most)
    while batch := rows.fetchmany(size):
        frame = _make_frame(names, batch)
        yield frame
        size = max(1, min(most, int(BATCH_BYTES * len(batch) / max(1, frame.estimated_size()))))


def make_unique(names: list[str]) -> list[str]:
    from veduta.core.data.file_formats import make_unique_headings

    return make_unique_headings([str(name) for name in names])


def _make_frame(names: list[str], rows: Sequence[Any]) -> pl.DataFrame:
    return pl.DataFrame([_make_column(name, [_simplify(row[i]) for row in rows]) for i, name in enumerate(names)])


def _simplify(value: Any) -> Any:
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


def _make_column(name: str, values: list[Any]) -> pl.Series:
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


def _make_unreachable(error: SQLAlchemyError) -> DatabaseUnreachable:
    return DatabaseUnreachable(
        f"The database cannot be reached: {_explain_error(error)}.", hint="Check the address and the password."
    )


def _explain_error(error: SQLAlchemyError) -> str:
    text_ = str(getattr(error, "orig", None) or error).strip().splitlines()[0]
    return text_.rstrip(".")[:200]
