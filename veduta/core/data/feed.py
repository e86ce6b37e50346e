"""Fetch rows from a web feed: JSON or CSV over HTTP, page by page, politely and within limits."""

from __future__ import annotations

import datetime as dt
import hashlib
import random
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from email.utils import parsedate_to_datetime
from typing import Any, Literal
from urllib.parse import urljoin

import httpx
from pydantic import Field

from veduta.core.data.deadline import NO_DEADLINE, Deadline
from veduta.core.data.fields import Frozen
from veduta.core.data.file_formats import find_records, land_csv_bytes, make_records_frame, parse_json, record_lists
from veduta.core.data.hosts import check_number, split_address
from veduta.core.data.landing import Landing
from veduta.core.errors import SourceUnreachable, VedutaError

MOST_BYTES = 500 * 1024**2
MOST_PAGES = 20_000
TRIES = 4
LONGEST_WAIT = 60.0
MOST_REDIRECTS = 5


class FeedProblem(VedutaError):
    """The feed cannot be fetched, or gives something else than expected."""

    code = "feed"


class FeedUnreachable(FeedProblem, SourceUnreachable):
    """The feed does not answer, or not now."""


PagingHow = Literal["none", "page", "offset", "next"]
PAGING_WORDS: dict[PagingHow, str] = {
    "none": "it comes in one piece",
    "page": "counted by page number",
    "offset": "counted by row",
    "next": "each answer tells the next",
}


class Paging(Frozen):
    """How a feed is cut into pages.

    "page" counts pages and "offset" rows in the query value `parameter`, from `start`; "next" follows the address (or
    takes the mark for `parameter`) that is at `next` in each answer. `size` is sent as `size_parameter` if that is set.
    """

    how: PagingHow = "none"
    parameter: str = Field("", max_length=100)
    start: int = 1
    size_parameter: str = Field("", max_length=100)
    size: int = Field(100, ge=1, le=100_000)
    next: str = Field("", max_length=200)


class Feed(Frozen):
    """One end point.

    `path` is added to the connection's address; ":last" in a query value stands for the latest value taken in so far.
    """

    path: str = Field("", max_length=2_000)
    query: dict[str, str] = {}
    headers: dict[str, str] = {}
    format: Literal["json", "csv"] = "json"
    records: str = Field("", max_length=300)
    paging: Paging = Paging()
    timeout: float = Field(30, gt=0, le=600)


MARKS = {"etag": "etag", "modified": "last-modified"}
"""The headers of an answer by which the next one can be asked for only if it is new."""
ASKS_FOR_NEWS = {"etag": "If-None-Match", "modified": "If-Modified-Since"}


@dataclass
class FetchedFeed:
    """What fetching brought besides rows.

    The lists of records that were seen (path and length), and marks for asking only for news the next time."""

    lists: list[tuple[str, int]]
    marks: dict[str, str]
    unchanged: bool = False
    pages: int = 0


def fetch(  # noqa: PLR0913 - options, each given by name
    feed: Feed,
    address: str,
    landing: Landing,
    *,
    headers: dict[str, str] | None = None,
    query: dict[str, str] | None = None,
    allowed: frozenset[str] = frozenset(),
    marks: dict[str, str] | None = None,
    last: str = "",
    limit: int | None = None,
    tick: Callable[[int], None] = lambda rows: None,
    sleep: Callable[[float], None] = time.sleep,
    most_bytes: int = MOST_BYTES,
    patience: Deadline = NO_DEADLINE,
) -> FetchedFeed:
    """Fetch a feed's rows into a landing: all, or about `limit` for trying out.

    The headers of the feed, and `headers` and `query` of the connection (its secret among them), go only to the
    connection's own host. `allowed` are the hosts ("name" or "name:port") that may be asked although they are not
    public. `marks` are those of the time before. Raises FeedProblem, and what `patience` raises.
    """
    visit = _Visit(address, feed, headers or {}, query or {}, allowed, sleep, most_bytes, patience)
    brought = FetchedFeed([], {})
    seen: set[str] = set()
    values = {key: value.replace(":last", last) for key, value in feed.query.items()}
    for page in _iterate_pages(feed, values, address):
        conditional = marks if feed.paging.how == "none" and not brought.pages else None
        body, answered = visit.get(*page.send(), conditional or {})
        if body is None:
            return FetchedFeed([], marks or {}, unchanged=True)
        brought.pages += 1
        _must_be_new(body, seen, brought.pages)
        rows = landing.rows
        data = _land_page(feed, body, landing, brought)
        if brought.pages == 1 and feed.paging.how == "none":
            brought.marks = {key: answered[name] for key, name in MARKS.items() if name in answered}
        tick(landing.rows)
        if limit and landing.rows >= limit:
            break
        if brought.pages >= MOST_PAGES:
            raise FeedProblem(
                f"The feed has more than {MOST_PAGES:,} pages.", hint="Take larger pages, or narrow what is asked for."
            )
        page.take_answer(data, landing.rows - rows)
    return brought


def _must_be_new(body: bytes, seen: set[str], page: int) -> None:
    """Refuse a page that was there before; `seen` are the digests of those."""
    digest = hashlib.sha256(body).hexdigest()
    if digest in seen:
        raise FeedProblem(
            f"Page {page:,} of the feed is the same as one before, so it would never end.",
            hint="Check how it is cut into pages.",
        )
    seen.add(digest)


def _land_page(feed: Feed, body: bytes, landing: Landing, brought: FetchedFeed) -> Any:
    """Land a page's rows. Returns what was parsed, None where it is not JSON."""
    if feed.format == "csv":
        if body.strip():
            land_csv_bytes(body, landing)
        return None
    data = parse_json(body)
    brought.lists = brought.lists or record_lists(data)
    records = find_records(data, feed.records) if not _is_empty(data, feed.records) else []
    if records:
        landing.add(make_records_frame(records))
    return data


def _is_empty(data: Any, path: str) -> bool:
    """Whether the answer is a list without records at the place where records are."""
    value = data
    for key in filter(None, path.split(".")):
        value = value.get(key) if isinstance(value, dict) else None
    return value == [] or (
        isinstance(data, dict) and not path and not record_lists(data) and any(v == [] for v in data.values())
    )


class _Page:
    """One request to make; the answer decides whether another follows."""

    def __init__(self, address: str, values: dict[str, str]) -> None:
        self.address, self.values = address, values
        self.data: Any = None
        self.rows = 0

    def send(self) -> tuple[str, dict[str, str]]:
        return self.address, self.values

    def take_answer(self, data: Any, rows: int) -> None:
        self.data, self.rows = data, rows


def _iterate_pages(feed: Feed, values: dict[str, str], address: str) -> Iterator[_Page]:
    paging = feed.paging
    start = _join_address(address, feed.path)
    sized = {
        **values,
        **({paging.size_parameter: str(paging.size)} if paging.how != "none" and paging.size_parameter else {}),
    }
    if paging.how == "none":
        yield _Page(start, values)
    elif paging.how == "next":
        target, more = start, sized
        while True:
            page = _Page(target, more)
            yield page
            mark = _get_at(page.data, paging.next)
            if not mark:
                return
            if paging.parameter:
                more = {**sized, paging.parameter: str(mark)}
            else:
                target, more = _follow_redirect(target, str(mark)), {}
    else:
        number = paging.start
        while True:
            page = _Page(start, {**sized, (paging.parameter or paging.how): str(number)})
            yield page
            if not page.rows or (paging.size_parameter and page.rows < paging.size):
                return
            number += 1 if paging.how == "page" else page.rows


def _get_at(data: Any, path: str) -> Any:
    for key in filter(None, path.split(".")):
        data = data.get(key) if isinstance(data, dict) else None
    return data if path and isinstance(data, str | int) else None


def _join_address(address: str, path: str) -> str:
    return address.rstrip("/") + ("/" + path.lstrip("/") if path else "")


@dataclass
class _Visit:
    """Requests to one feed, each checked before it is made."""

    address: str
    feed: Feed
    headers: dict[str, str]
    query: dict[str, str]
    allowed: frozenset[str]
    sleep: Callable[[float], None]
    most_bytes: int
    patience: Deadline

    def __post_init__(self) -> None:
        self.home = _split_host(self.address)
        self.client = httpx.Client(timeout=self.feed.timeout, follow_redirects=False, trust_env=False)

    def get(self, address: str, values: dict[str, str], marks: dict[str, str]) -> tuple[bytes | None, httpx.Headers]:
        """The answer's body, or None if nothing changed. Retries what may pass, and waits as it is told."""
        for attempt in range(1, TRIES + 1):
            self.patience.check()
            wait = 2 ** (attempt - 1) + random.random() / 4  # noqa: S311 - only spreads the tries
            try:
                status, answered, body = self._fetch_once(address, values, marks)
            except httpx.HTTPError as error:
                problem: FeedProblem = self._make_unreachable(error)
            else:
                if status == 304:
                    return None, answered
                if status < 300:
                    return body, answered
                problem = _make_refused(status)
                if not isinstance(problem, SourceUnreachable):
                    raise problem
                wait = _read_waiting_time(answered) or wait
            if attempt < TRIES:
                self._wait(wait)
        raise problem from None

    def _make_unreachable(self, error: httpx.HTTPError) -> FeedUnreachable:
        if isinstance(error, httpx.TimeoutException):
            return FeedUnreachable(
                f"The feed did not answer within {self.feed.timeout:g} seconds, {TRIES} times.",
                hint="Try later, or raise the time-out.",
            )
        return FeedUnreachable(
            f"The feed cannot be reached: {_explain_error(error)}.", hint="Check the address, or try later."
        )

    def _wait(self, seconds: float) -> None:
        if seconds > LONGEST_WAIT:
            raise FeedUnreachable(
                f"The feed asks to wait {seconds:,.0f} seconds before the next request.",
                hint="Refresh it less often, or later.",
            )
        self.sleep(seconds)

    def _fetch_once(
        self, address: str, values: dict[str, str], marks: dict[str, str]
    ) -> tuple[int, httpx.Headers, bytes]:
        for _ in range(MOST_REDIRECTS + 1):
            ours = _split_host(address) == self.home
            headers = {"User-Agent": "Veduta", "Accept-Encoding": "gzip, identity"}
            if ours:
                headers |= self.feed.headers | self.headers | {ASKS_FOR_NEWS[key]: marks[key] for key in marks}
            target, extensions = self._check_address(address, headers)
            params = {**values, **(self.query if ours else {})}
            with self.client.stream(
                "GET", target, params=params or None, headers=headers, extensions=extensions
            ) as answer:
                if answer.has_redirect_location:
                    address, values = _follow_redirect(address, answer.headers["location"]), {}
                    continue
                return answer.status_code, answer.headers, self._read_body(answer)
        raise FeedProblem("The feed redirects again and again.", hint="Check the address.")

    def _read_body(self, answer: httpx.Response) -> bytes:
        parts, size = [], 0
        for piece in answer.iter_bytes(65_536):
            self.patience.check()
            size += len(piece)
            if size > self.most_bytes:
                raise FeedProblem(
                    f"The answer is larger than {self.most_bytes // 1024**2:,} MB.",
                    hint="Ask for less at a time, with pages or a filter.",
                )
            parts.append(piece)
        return b"".join(parts)

    def _check_address(self, address: str, headers: dict[str, str]) -> tuple[str, dict[str, Any]]:
        """The address with the checked number of its host in the place of the name."""
        parts = split_address(address, FeedProblem)
        if parts.scheme not in ("http", "https") or not parts.hostname:
            raise FeedProblem(f"“{address[:200]}” is not a web address.", hint="It starts with https:// or http://.")
        port = parts.port or (443 if parts.scheme == "https" else 80)
        number = check_number(parts.hostname, port, self.allowed, FeedProblem)
        host = f"[{number}]" if ":" in number else number
        headers["Host"] = parts.netloc.rpartition("@")[2]
        target = parts._replace(netloc=f"{host}:{port}").geturl()
        return target, {"sni_hostname": parts.hostname} if parts.scheme == "https" else {}


def _follow_redirect(address: str, further: str) -> str:
    """Where an answer leads on from an address."""
    try:
        return urljoin(address, further)
    except ValueError:
        raise FeedProblem(f"The feed leads on to “{further[:200]}”, which is no web address.") from None


def _split_host(address: str) -> tuple[str, str, int | None]:
    parts = split_address(address, FeedProblem)
    return parts.scheme, (parts.hostname or "").lower(), parts.port


def _read_waiting_time(headers: httpx.Headers) -> float:
    """Seconds to wait, from a number of them or from a moment."""
    text = headers.get("retry-after", "")
    if text.replace(".", "", 1).isdigit():
        return float(text)
    try:
        return max(0.0, (parsedate_to_datetime(text) - dt.datetime.now(dt.UTC)).total_seconds())
    except (ValueError, TypeError):
        return 0.0


def _make_refused(status: int) -> FeedProblem:
    if status in (401, 403):
        return FeedProblem(
            f"The feed refuses us (status {status}).", hint="Check the connection's secret and what it may read."
        )
    if status == 404:
        return FeedProblem("The feed has nothing at this address (status 404).", hint="Check the path.")
    if status == 429:
        return FeedUnreachable(
            f"The feed says that we ask too often (status 429), {TRIES} times.", hint="Refresh it less often."
        )
    passing = status in (408, 425) or status >= 500
    problem = FeedUnreachable if passing else FeedProblem
    return problem(f"The feed answers with an error (status {status}).", hint="Try later, or tell who runs it.")


def _explain_error(error: httpx.HTTPError) -> str:
    text = str(error).strip() or type(error).__name__
    return "the connection was refused" if "refused" in text.lower() else text.rstrip(".")[:150]
