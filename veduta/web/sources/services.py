"""Connections to feeds and databases, and fetching rows through them."""

from __future__ import annotations

import base64
import hashlib
import threading
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

from cryptography.fernet import Fernet, InvalidToken
from django.conf import settings
from django.contrib.auth.models import Group
from django.core.exceptions import PermissionDenied
from django.db import IntegrityError, transaction
from pydantic import ValidationError
from sqlalchemy.engine import Engine

from veduta.core.data.database import check_only_reads, fetch_rows, list_tables, open_engine
from veduta.core.data.database_address import HIDDEN, DatabaseAddress, PostgresServer, read_address
from veduta.core.data.deadline import Deadline
from veduta.core.data.feed import Feed, FetchedFeed, fetch
from veduta.core.data.field_changes import match_fields
from veduta.core.data.hosts import check_number, must_be_open, resolve_host, split_address
from veduta.core.data.landing import Landing
from veduta.core.data.recognise import recognise_fields
from veduta.core.data.sources import FeedSource, Fetched, TableSource, load_source
from veduta.core.errors import DefinitionProblem, VedutaError, explain_validation_error
from veduta.core.phrases import join_names
from veduta.web.accounts.access import must_build
from veduta.web.accounts.models import User
from veduta.web.accounts.rights import What, keep, must_own
from veduta.web.datasets.models import Connection, Dataset, Upload
from veduta.web.datasets.row_access import is_bound
from veduta.web.imports import services as intake

TRY_OUT, TRY_OUT_SECONDS = 200, 20


def _make_cipher() -> Fernet:
    return Fernet(base64.urlsafe_b64encode(hashlib.sha256(settings.SECRET_KEY.encode()).digest()))


def decrypt_secret(connection: Connection) -> str:
    """The secret in plain. Raises VedutaError if the installation's key has changed since it was kept."""
    if not connection.secret:
        return ""
    try:
        return _make_cipher().decrypt(bytes(connection.secret)).decode()
    except InvalidToken:
        raise VedutaError(
            f"The secret of “{connection.name}” can no longer be read, because the installation's key has changed.",
            hint="Enter it again.",
        ) from None


def save_connection(user: User, connection: Connection, data: dict[str, Any]) -> Connection:
    """Make or change a connection. An empty secret leaves the one there is; "-" takes it away."""
    if connection.pk:
        must_own(user, connection, "change it")
    must_build(user)
    before = split_address(connection.address, DefinitionProblem)
    connection.name = str(data.get("name", "")).strip()[:200]
    connection.address = str(data.get("address", "")).strip()
    if not connection.name or not connection.address:
        raise DefinitionProblem("A connection needs a name and an address.", hint="Fill in both.")
    after = split_address(connection.address, DefinitionProblem)
    if connection.kind == Connection.Kind.FEED and after.scheme not in ("http", "https"):
        raise DefinitionProblem("A feed's address starts with https:// or http://.", hint="Check the address.")
    secret = str(data.get("secret", ""))
    if connection.kind == Connection.Kind.DATABASE:
        address = read_address(connection.address)
        if isinstance(address, PostgresServer) and address.password not in ("", HIDDEN):
            secret = address.password  # a password is kept as a secret only
        connection.address = address.shown
        _must_be_allowed(address)
    after = split_address(connection.address, DefinitionProblem)
    if connection.secret and not secret and (before.scheme, before.netloc) != (after.scheme, after.netloc):
        raise DefinitionProblem(
            "The address leads to another place, which the kept secret was not meant for.",
            hint="Enter the secret again, or - for none.",
        )
    connection.headers = dict(data.get("headers") or {})
    connection.sends = {key: str(data.get(key, "")).strip() for key in ("as", "sent_name", "before")}
    if secret:
        connection.secret = b"" if secret == "-" else _make_cipher().encrypt(secret.encode())  # noqa: S105 - a sign for none
    try:
        with transaction.atomic():
            connection.created_by = connection.created_by or user
            connection.save()
    except IntegrityError:
        raise DefinitionProblem(
            f"There is already a connection named “{connection.name}”.", hint="Choose another name."
        ) from None
    return connection


def set_access(user: User, connection: Connection, only_granted: bool, people: list[int], groups: list[int]) -> None:
    """Say who may use a connection: all who build, or only those it is granted."""
    must_own(user, connection, "say who may use it")
    with transaction.atomic():
        connection.only_granted = only_granted
        connection.save(update_fields=["only_granted"])
        granted = User.objects.filter(pk__in=people, is_active=True)
        connection.granted_people.set([each for each in granted if each.builds])
        connection.granted_groups.set(Group.objects.filter(pk__in=groups))
        named = [*connection.granted_people.all(), *connection.granted_groups.all()]
        words = join_names([str(each) for each in named]) if only_granted else "all who build"
        keep(user, What.GRANTED, f"the connection “{connection}”", words)


def may_use(user: User, connection: Connection) -> bool:
    """Whether somebody may see a connection and fetch through it.

    It must be granted to them, and no rule may keep from them rows of a dataset that it feeds, since they would fetch
    them all."""
    if user.is_steward:
        return True
    if not user.builds:
        return False
    if connection.only_granted and connection.created_by_id != user.pk:
        groups = user.groups.values("pk")
        granted = connection.granted_people.filter(pk=user.pk).exists()
        if not (granted or connection.granted_groups.filter(pk__in=groups).exists()):
            return False
    fed = (each for each in Dataset.objects.filter(deleted_at=None) if uses_connection(each, connection))
    return not any(is_bound(dataset, user) for dataset in fed)


def list_usable(user: User) -> list[Connection]:
    """The connections that somebody may use, by name."""
    return [each for each in Connection.objects.all() if may_use(user, each)]


def delete_connection(user: User, connection: Connection) -> None:
    must_own(user, connection, "delete it")
    users = [d.name for d in Dataset.objects.filter(deleted_at=None) if uses_connection(d, connection)]
    if users:
        raise VedutaError(
            f"“{connection.name}” is used by {', '.join(users[:5])}.",
            hint="Delete those first, or let them use another.",
        )
    with transaction.atomic():
        keep(user, What.DELETED, f"the connection “{connection}”")
        connection.delete()


def _must_be_allowed(address: DatabaseAddress) -> None:
    """SQLite files are read only from the folders that the settings allow, servers only where others are too."""
    if isinstance(address, PostgresServer):
        numbers = resolve_host(address.host, address.port)
        must_be_open(address.host, address.port, numbers, _list_allowed_hosts(), DefinitionProblem)
        return
    if not any(address.path.is_relative_to(folder) for folder in settings.DATABASE_FOLDERS):
        raise DefinitionProblem("SQLite files are read only from folders that a steward has allowed in the settings.")
    if not address.path.is_file():
        raise DefinitionProblem("There is no SQLite file at this address.", hint="Check the path.")


def _open_engine(connection: Connection, seconds: float) -> Engine:
    """A connection's database, each statement of which may take so long."""
    address = read_address(connection.address)
    _must_be_allowed(address)
    if not isinstance(address, PostgresServer):
        return open_engine(address)
    number = check_number(address.host, address.port, _list_allowed_hosts(), DefinitionProblem)
    return open_engine(address.set_password(decrypt_secret(connection)), number, seconds)


def _list_allowed_hosts() -> frozenset[str]:
    return frozenset(settings.ALLOWED_FEEDS)


def get_source_connection(source: Fetched) -> Connection:
    return _get_connection(source.connection)


def _get_connection(number: Any) -> Connection:
    connection = Connection.objects.filter(pk=number or 0).first()
    if connection is None:
        raise VedutaError("The connection is gone.", hint="Choose another one.")
    return connection


def uses_connection(dataset: Dataset, connection: Connection) -> bool:
    """Whether a dataset's rows are fetched through a connection."""
    origin = dataset.origin
    return isinstance(origin, Fetched) and origin.connection == connection.pk


def list_connection_tables(user: User, connection: Connection) -> list[str]:
    must_use(user, connection)
    with _limit_outside_questions():
        return list_tables(_open_engine(connection, TRY_OUT_SECONDS))


def must_use(user: User, connection: Connection) -> None:
    if not may_use(user, connection):
        raise PermissionDenied("This connection is not for you.")


outside = threading.BoundedSemaphore(max(1, settings.THREADS // 2))


@contextmanager
def _limit_outside_questions() -> Iterator[None]:
    """Asking something outside while somebody waits.

    Half of this process' threads at most do so at once: endless queries must not keep others from reading. Raises
    VedutaError where as many are asked already."""
    if not outside.acquire(blocking=False):
        raise VedutaError(
            "Other databases or feeds are being asked just now, as many as may be at once.",
            hint="Try again in a few seconds.",
        )
    try:
        yield
    finally:
        outside.release()


def read_source(data: dict[str, Any]) -> FeedSource | TableSource:
    """A feed or table as a form defines it, checked. Raises DefinitionProblem."""
    connection = _get_connection(data.get("connection"))
    if connection.kind == Connection.Kind.DATABASE:
        table, query = str(data.get("table") or ""), str(data.get("query") or "")
        if not table:
            check_only_reads(query, read_address(connection.address).dialect)
        return TableSource(connection=connection.pk, table=table, query="" if table else query)
    try:
        feed = Feed.model_validate(data.get("feed") or {})
    except ValidationError as error:
        message, where = explain_validation_error(error)
        raise DefinitionProblem(f"“{where}” does not fit: {message.lower()}.", where=where) from None
    return FeedSource(connection=connection.pk, feed=feed)


def land_source(
    source: FeedSource | TableSource,
    landing: Landing,
    *,
    patience: Deadline,
    marks: dict[str, str] | None = None,
    last: Any = None,
    limit: int | None = None,
    tick: Callable[[int], None] = lambda rows: None,
) -> FetchedFeed:
    """Fetch what a source defines into a landing, or about `limit` rows of it."""
    connection = get_source_connection(source)
    if isinstance(source, TableSource):
        fetch_rows(
            _open_engine(connection, patience.seconds),
            landing,
            table_name=source.table,
            query=source.query,
            last=last,
            limit=limit,
            most_rows=settings.MOST_ROWS,
            tick=tick,
            patience=patience,
        )
        return FetchedFeed([], {})
    headers, query = _build_credentials(connection)
    return fetch(
        source.feed,
        connection.address,
        landing,
        headers=headers,
        query=query,
        allowed=_list_allowed_hosts(),
        marks=marks,
        last=str(last or ""),
        limit=limit,
        tick=tick,
        patience=patience,
    )


def _build_credentials(connection: Connection) -> tuple[dict[str, str], dict[str, str]]:
    """Headers and query values that go with every request of a feed, its secret among them."""
    headers, query = dict(connection.headers), dict[str, str]()
    if secret := decrypt_secret(connection):
        name, how = connection.sends.get("sent_name") or "Authorization", connection.sends.get("as") or "header"
        words = connection.sends.get("before", "")
        (headers if how == "header" else query)[name] = f"{words} {secret}".strip() if words else secret
    return headers, query


def name_of_source(source: Fetched) -> str:
    connection = get_source_connection(source)
    return f"{connection.name}: {source.name}" if source.name else connection.name


def try_out(
    user: User, data: dict[str, Any], dataset: Dataset | None = None, wanted: Callable[[], bool] = lambda: True
) -> Upload:
    """Fetch and preview some rows of a feed or table, as of a file.

    For some seconds at most, and only as long as somebody wants them."""
    must_build(user)
    source = read_source(data)
    must_use(user, get_source_connection(source))
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
        with _limit_outside_questions():
            brought = land_source(source, landing, limit=TRY_OUT, patience=Deadline(TRY_OUT_SECONDS, wanted))
        landing.finish()
        upload.about["lists"] = brought.lists
        upload.options = {}
        intake.take_fields(upload, recognise_fields(intake.take_text_sample(upload)))
        upload.save()
    except BaseException:
        intake.remove_files(upload)
        raise
    return upload


def fetch_all(
    upload: Upload,
    tick: Callable[[int], None],
    wanted: Callable[[], bool],
    marks: dict[str, str] | None = None,
    last: Any = None,
) -> FetchedFeed:
    """Fetch all rows of a feed or table for an upload, and match its columns with those known.

    New columns are taken in as they are recognised. `wanted` is called from another thread."""
    landing = Landing.begin(upload.landing)
    source = load_source(upload.about["source"])
    assert isinstance(source, FeedSource | TableSource)
    patience = Deadline(settings.FETCH_SECONDS, wanted)
    brought = land_source(source, landing, tick=tick, marks=marks, last=last, patience=patience)
    if brought.unchanged:
        return brought
    landing.finish()
    recognised = [each.field for each in recognise_fields(intake.take_text_sample(upload))]
    fields = match_fields(recognised, upload.all_fields, lambda old, new: old)
    left_out = set(upload.about.get("left_out", []))
    taken = [(field, position) for position, field in enumerate(fields) if field.source not in left_out]
    upload.fields = [field.model_dump(mode="json") for field, _ in taken]
    upload.positions = [position for _, position in taken]
    upload.width = len(fields)
    return brought
