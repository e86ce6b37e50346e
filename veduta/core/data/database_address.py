"""Addresses of databases: taken apart once, and only their checked parts are ever used."""

from __future__ import annotations

import re
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import ClassVar
from urllib.parse import parse_qsl, quote, unquote, urlsplit

from veduta.core.errors import VedutaError

HIDDEN = "***"
"""Stands for the password in an address that is shown."""
OPTIONS = {
    "sslmode": re.compile("disable|allow|prefer|require|verify-ca|verify-full"),
    "application_name": re.compile(r"[\w .-]{1,60}"),
}
"""What an address may say after its "?", and what that may be."""
_PLAIN = re.compile(r"[\x21-\x7e]+")
_NAME = re.compile(r"[A-Za-z0-9]([A-Za-z0-9._-]{0,251}[A-Za-z0-9])?|\[[0-9A-Fa-f:.]+\]")


class DatabaseProblem(VedutaError):
    """The database cannot be reached, or the query cannot be run."""

    code = "database"


@dataclass(frozen=True)
class SqliteFile:
    """A file on the machine Veduta runs on."""

    dialect: ClassVar[str] = "sqlite"
    path: Path

    @property
    def shown(self) -> str:
        return f"sqlite:///{self.path}"


@dataclass(frozen=True)
class PostgresServer:
    dialect: ClassVar[str] = "postgres"
    host: str
    database: str
    port: int = 5432
    user: str = ""
    password: str = ""
    options: dict[str, str] = field(default_factory=dict)

    @property
    def shown(self) -> str:
        """The address with its password hidden."""
        login = quote(self.user, safe="") + (f":{HIDDEN}" if self.password else "")
        name = f"[{self.host}]" if ":" in self.host else self.host
        port = f":{self.port}" if self.port != 5432 else ""
        more = "&".join(f"{key}={quote(value)}" for key, value in self.options.items())
        at = "@" if login else ""
        return f"postgresql://{login}{at}{name}{port}/{quote(self.database)}{'?' if more else ''}{more}"

    def set_password(self, password: str) -> PostgresServer:
        return replace(self, password=password)


DatabaseAddress = SqliteFile | PostgresServer


def read_address(text: str) -> DatabaseAddress:
    """A database's address, taken apart. Raises DatabaseProblem for a part that is not known or not allowed."""
    if text.startswith("sqlite:///") and "\0" not in text:
        return SqliteFile(Path(text.removeprefix("sqlite:///")).resolve())
    scheme, separator, _ = text.partition("://")
    if not separator or scheme.removesuffix("+psycopg") not in ("postgresql", "postgres"):
        raise DatabaseProblem(
            "This kind of database is not known.", hint="Addresses start with postgresql:// or sqlite:///."
        )
    if not _PLAIN.fullmatch(text) or "\\" in text:
        raise _make_problem("it has characters that stand in no address", "Write others as %20 and the like.")
    if "#" in text:
        raise _make_problem("“#” stands in it", "In a password write %23, or enter the password in its own box.")
    return _parse_server(text)


def _parse_server(text: str) -> PostgresServer:
    try:
        parts = urlsplit(text)
        port = parts.port or 5432
    except ValueError:
        raise _make_problem("its host or port is none", "It looks like postgresql://name@host:5432/database.") from None
    login, _, place = parts.netloc.rpartition("@")
    if "@" in login or "@" in parts.path or "@" in parts.query:
        raise _make_problem("“@” stands in it twice", "In a password write %40, or enter the password in its own box.")
    name = re.sub(r":\d+$", "", place)
    if not _NAME.fullmatch(name):
        raise _make_problem(f"“{name[:100]}” is not one host", "It looks like postgresql://name@host:5432/database.")
    database = unquote(parts.path.removeprefix("/"))
    if not database or re.search(r"[/=\s\0]", database):
        raise _make_problem("the name of a database is missing", "It looks like postgresql://name@host:5432/database.")
    user, _, password = login.partition(":")
    host = (parts.hostname or "").lower()
    return PostgresServer(host, database, port, unquote(user), unquote(password), _parse_options(parts.query))


def _parse_options(query: str) -> dict[str, str]:
    options = {}
    for key, value in parse_qsl(query, keep_blank_values=True):
        if key not in OPTIONS or not OPTIONS[key].fullmatch(value):
            raise _make_problem(
                f"“{key}={value}”"[:100] + " is not allowed in it", f"Known are {' and '.join(OPTIONS)}."
            )
        options[key] = value
    return options


def _make_problem(why: str, hint: str) -> DatabaseProblem:
    return DatabaseProblem(f"The database's address cannot be used: {why}.", hint=hint)
