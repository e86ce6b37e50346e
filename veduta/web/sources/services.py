"""Connections to feeds and databases, and fetching rows through them."""

from __future__ import annotations

import base64
import hashlib
import socket
import uuid
from pathlib import Path
from typing import Any
from urllib.parse import quote, urlsplit

from cryptography.fernet import Fernet, InvalidToken
from django.conf import settings
from django.db import IntegrityError, transaction
from pydantic import ValidationError

from veduta.core.data.changing import matched_fields
from veduta.core.data.database import fetch_rows, only_reads, open_engine, tables
from veduta.core.data.feed import Brought, Feed, fetch, is_public
from veduta.core.data.landing import Landing
from veduta.core.data.recognise import recognise_fields
from veduta.core.data.sources import FeedSource, Fetched, TableSource, load_source
from veduta.core.errors import DefinitionProblem, VedutaError, what_is_wrong
from veduta.web.accounts.access import must_build
from veduta.web.accounts.models import User
from veduta.web.datasets.models import Connection, Dataset, Upload
from veduta.web.intake import services as intake

TRY_OUT = 200


def _cipher() -> Fernet:
    return Fernet(base64.urlsafe_b64encode(hashlib.sha256(settings.SECRET_KEY.encode()).digest()))


def secret_of(connection: Connection) -> str:
    """The secret in plain. Raises VedutaError if the installation's key has changed since it was kept."""
    if not connection.secret:
        return ""
    try:
        return _cipher().decrypt(bytes(connection.secret)).decode()
    except InvalidToken:
        raise VedutaError(
            f"The secret of “{connection.name}” can no longer be read, because the installation's key has changed.",
            hint="Enter it again.",
        ) from None


def save_connection(user: User, connection: Connection, data: dict[str, Any]) -> Connection:
    """Make or change a connection. An empty secret leaves the one there is; "-" takes it away."""
    must_build(user)
    before = urlsplit(connection.address)
    connection.name = str(data.get("name", "")).strip()[:200]
    connection.address = str(data.get("address", "")).strip()
    if not connection.name or not connection.address:
        raise DefinitionProblem("A connection needs a name and an address.", hint="Fill in both.")
    if connection.kind == Connection.Kind.FEED and urlsplit(connection.address).scheme not in ("http", "https"):
        raise DefinitionProblem("A feed's address starts with https:// or http://.", hint="Check the address.")
    secret = str(data.get("secret", ""))
    if connection.kind == Connection.Kind.DATABASE:
        if (typed := urlsplit(connection.address).password) and typed != "***":  # a password is kept as a secret only
            secret, connection.address = typed, connection.address.replace(f":{typed}@", ":***@", 1)
        _database(connection.address)
    after = urlsplit(connection.address)
    if connection.secret and not secret and (before.scheme, before.netloc) != (after.scheme, after.netloc):
        raise DefinitionProblem(
            "The address leads to another place, which the kept secret was not meant for.",
            hint="Enter the secret again, or - for none.",
        )
    connection.headers = dict(data.get("headers") or {})
    connection.sends = {key: str(data.get(key, "")).strip() for key in ("as", "sent_name", "before")}
    if secret:
        connection.secret = b"" if secret == "-" else _cipher().encrypt(secret.encode())
    try:
        with transaction.atomic():
            connection.created_by = connection.created_by or user
            connection.save()
    except IntegrityError:
        raise DefinitionProblem(
            f"There is already a connection named “{connection.name}”.", hint="Choose another name."
        ) from None
    return connection


def delete_connection(user: User, connection: Connection) -> None:
    must_build(user)
    users = [d.name for d in Dataset.objects.filter(deleted_at=None) if comes_through(d, connection)]
    if users:
        raise VedutaError(
            f"“{connection.name}” is used by {', '.join(users[:5])}.",
            hint="Delete those first, or let them use another.",
        )
    connection.delete()


def _database(address: str, secret: str = ""):
    """The database's engine; SQLite files only from the folders that the settings allow."""
    if address.startswith("sqlite:///"):
        path = Path(address.removeprefix("sqlite:///")).resolve()
        if not any(path.is_relative_to(folder) for folder in settings.DATABASE_FOLDERS):
            raise DefinitionProblem(
                "SQLite files are read only from folders that a steward has allowed in the settings."
            )
        if not path.exists():
            raise DefinitionProblem("There is no SQLite file at this address.", hint="Check the path.")
        return open_engine(f"sqlite:///{path}")
    host = urlsplit(address).hostname or ""
    if not host or (_is_inside(host) and host not in {each.split(":")[0] for each in settings.ALLOWED_FEEDS}):
        raise DefinitionProblem(
            f"“{host}” is inside a private network and not allowed.",
            hint="A steward can allow the host in the settings.",
        )
    return open_engine(address.replace(":***@", f":{quote(secret, safe='')}@") if secret else address)


def _is_inside(host: str) -> bool:
    try:
        return not all(is_public(str(info[4][0])) for info in socket.getaddrinfo(host, None))
    except OSError:
        return False


def connection_of(source: Fetched) -> Connection:
    return _connection(source.connection)


def _connection(number: Any) -> Connection:
    connection = Connection.objects.filter(pk=number or 0).first()
    if connection is None:
        raise VedutaError("The connection is gone.", hint="Choose another one.")
    return connection


def comes_through(dataset: Dataset, connection: Connection) -> bool:
    """Whether a dataset's rows are fetched through a connection."""
    origin = dataset.origin
    return isinstance(origin, Fetched) and origin.connection == connection.pk


def tables_of(user: User, connection: Connection) -> list[str]:
    must_build(user)
    return tables(_database(connection.address, secret_of(connection)))


def read_source(data: dict[str, Any]) -> FeedSource | TableSource:
    """A feed or table as a form defines it, checked. Raises DefinitionProblem."""
    connection = _connection(data.get("connection"))
    if connection.kind == Connection.Kind.DATABASE:
        table, query = str(data.get("table") or ""), str(data.get("query") or "")
        if not table:
            only_reads(query)
        return TableSource(connection=connection.pk, table=table, query="" if table else query)
    try:
        feed = Feed.model_validate(data.get("feed") or {})
    except ValidationError as error:
        message, where = what_is_wrong(error)
        raise DefinitionProblem(f"“{where}” does not fit: {message.lower()}.", where=where) from None
    return FeedSource(connection=connection.pk, feed=feed)


def land_source(source: FeedSource | TableSource, landing: Landing, **more: Any) -> Brought:
    """Fetch what a source defines into a landing."""
    connection = connection_of(source)
    secret = secret_of(connection)
    if isinstance(source, TableSource):
        engine = _database(connection.address, secret)
        try:
            more.pop("marks", None)
            fetch_rows(engine, landing, table_name=source.table, query=source.query, **more)
        finally:
            engine.dispose()
        return Brought([], {})
    headers, query = dict(connection.headers), dict[str, str]()
    if secret:
        name, how = connection.sends.get("sent_name") or "Authorization", connection.sends.get("as") or "header"
        words = connection.sends.get("before", "")
        (headers if how == "header" else query)[name] = f"{words} {secret}".strip() if words else secret
    more["last"] = str(more.get("last") or "")
    allowed = frozenset(settings.ALLOWED_FEEDS)
    return fetch(
        source.feed,
        connection.address,
        landing,
        headers=headers,
        query=query,
        allowed=allowed,
        **more,
    )


def name_of_source(source: Fetched) -> str:
    connection = connection_of(source)
    return f"{connection.name}: {source.name}" if source.name else connection.name


def try_out(user: User, data: dict[str, Any], dataset: Dataset | None = None) -> Upload:
    """Fetch some rows of a feed or table and look at them, as with a file."""
    must_build(user)
    source = read_source(data)
    upload = Upload(
        owner=user,
        dataset=dataset,
        file_name=name_of_source(source)[:255],
        path=f"{uuid.uuid4().hex}.fetched",
        format=source.kind,
        about={"source": source.model_dump(mode="json")},
    )
    try:
        landing = Landing.begin(upload.landing)
        brought = land_source(source, landing, limit=TRY_OUT)
        landing.finish()
        upload.about["lists"] = brought.lists
        upload.options = {}
        intake.take_fields(upload, recognise_fields(intake.text_sample(upload)))
        upload.save()
    except BaseException:
        intake.remove_files(upload)
        raise
    return upload


def fetch_all(upload: Upload, tick, marks: dict[str, str] | None = None, last: Any = None) -> Brought:
    """Fetch all rows of a feed or table for an upload, and match its columns with those known; columns that are new are
    taken in as they are recognised."""
    landing = Landing.begin(upload.landing)
    source = load_source(upload.about["source"])
    assert isinstance(source, FeedSource | TableSource)
    brought = land_source(source, landing, tick=tick, marks=marks, last=last)
    if brought.unchanged:
        return brought
    landing.finish()
    recognised = [each.field for each in recognise_fields(intake.text_sample(upload))]
    fields = matched_fields(recognised, upload.all_fields, lambda old, new: old)
    left_out = set(upload.about.get("left_out", []))
    taken = [(field, position) for position, field in enumerate(fields) if field.source not in left_out]
    upload.fields = [field.model_dump(mode="json") for field, _ in taken]
    upload.positions = [position for _, position in taken]
    upload.width = len(fields)
    return brought
