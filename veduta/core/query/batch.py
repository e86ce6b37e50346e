"""Questions that are asked together, as those of a dashboard's blocks are.

What several of them read of the same rows is read once: rows are narrowed by the filters that they have in common, and
groups that are the same are formed once. Threads read, and a question is answered as soon as what it needs has been
read, however long another one takes."""

from __future__ import annotations

import dataclasses
from collections import defaultdict
from collections.abc import Callable, Hashable, Iterable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass, replace
from functools import partial

import polars as pl

from veduta.core.model.model import Model
from veduta.core.query.answer import answer, answers, build_result, make_cache_key, plan_query
from veduta.core.query.engine import Engine
from veduta.core.query.engine.rows import CommonRows
from veduta.core.query.engine.scanning import ScanRequest
from veduta.core.query.filters import Context, Filter
from veduta.core.query.plan import QueryPlan
from veduta.core.query.query import Query, Result

READERS = 4
"""Threads that wait for Polars at once; it divides the machine among them."""
MANY_ROWS = 100_000
"""Rows of a table from which on it pays to narrow them once."""
LOOK_UP = 0.25
"""Seconds after which it is asked whether anybody still waits for the answers."""


@dataclass(frozen=True)
class ModelQuery:
    """A query of a model."""

    query: Query
    model: Model
    context: Context

    @property
    def about(self) -> Hashable:
        """What is the same for questions about the same rows, before any filter."""
        model = self.model
        return (id(model) if model.key is None else model.make_cache_key(), self.context.today)


@dataclass
class _SharedScan:
    """What is read once; `shared` by several questions or not."""

    engine: Engine
    reading: ScanRequest
    shared: bool = False
    frame: Future[pl.DataFrame] = dataclasses.field(default_factory=Future)

    def begin(self, pool: ThreadPoolExecutor) -> None:
        """Have it read; what is wrong with it is said where the frame is asked for."""
        try:
            self.engine.refuse_too_many(self.reading)
            lazily = (
                self.engine.aggregate_parts(self.reading) if self.shared else self.engine.build_lazy_frame(self.reading)
            )
            self.frame = pool.submit(lazily.collect)
        except Exception as problem:
            self.frame.set_exception(problem)

    def get_frame(self, engine: Engine, reading: ScanRequest) -> pl.DataFrame:
        """What was read of it for a question: columns of keys and parts under the question's names, in no order."""
        frame = self.frame.result()
        if not self.shared:
            return frame
        own = [name for name in frame.columns if name in reading.parts or name not in self.reading.parts]
        values = engine.add_values(frame.lazy().select(own), reading)
        return values.collect(optimizations=pl.QueryOptFlags.none())


@dataclass
class _Known:
    """A question of which it is known at once what it comes to."""

    outcome: Result | Exception

    def get_result(self) -> Result:
        if isinstance(self.outcome, Exception):
            raise self.outcome
        return self.outcome


@dataclass
class _Deferred:
    """A question with a filter that needs another question's answer first: asked when all others are answered."""

    question: ModelQuery

    def result(self) -> Result:
        return answer(self.question.query, self.question.model, self.question.context)


@dataclass
class _Pending:
    """A question for which something has to be read: its readings, and what reads each."""

    question: ModelQuery
    asked: QueryPlan
    readings: list[ScanRequest]
    reads: list[_SharedScan] = dataclasses.field(default_factory=list)

    @property
    def is_ready(self) -> bool:
        return all(read.frame.done() for read in self.reads)

    def result(self) -> Result:
        key = make_cache_key(self.question.query, self.question.model, self.question.context)
        return answers.get(key, self._work_out) if key else self._work_out()

    def _work_out(self) -> Result:
        engine = self.asked.engine
        frames = [read.get_frame(engine, own) for read, own in zip(self.reads, self.readings, strict=True)]
        return build_result(self.asked, self.asked.work_out(frames))


_Begun = _Known | _Deferred | _Pending


def answer_all(makers: Sequence[Callable[[], ModelQuery]]) -> Iterator[tuple[int, Callable[[], Result]] | None]:
    """Yields the position of each question with what gives its result or raises its problem, as they become ready.

    Otherwise they come in their order. None comes before it waits for one, so that what was given can be sent on. A
    maker that raises gives a question whose problem that is. Raises QueryCancelled if nobody waits any more."""
    same: dict[Filter, Filter] = {}
    begun = [_begin(make, same) for make in makers]
    yield from ((position, each.get_result) for position, each in enumerate(begun) if isinstance(each, _Known))
    yield from _read_together({i: each for i, each in enumerate(begun) if isinstance(each, _Pending)})
    for position, put_off in enumerate(begun):
        if isinstance(put_off, _Deferred):
            yield None
            yield position, put_off.result


def _read_together(pending: dict[int, _Pending]) -> Iterator[tuple[int, Callable[[], Result]] | None]:
    """Those of a batch for which something has to be read, by their positions, as they become ready."""
    reads = _share_scans(pending.values())
    _narrow_once(pending.values(), reads)
    pool = ThreadPoolExecutor(READERS)
    try:
        for read in reads:
            read.begin(pool)
        yield from _iterate_as_ready(pending)
    finally:
        pool.shutdown(wait=False, cancel_futures=True)


def _iterate_as_ready(pending: dict[int, _Pending]) -> Iterator[tuple[int, Callable[[], Result]] | None]:
    waiting = dict(pending)
    while waiting:
        ready = next((position for position, each in waiting.items() if each.is_ready), None)
        if ready is not None:
            yield ready, waiting.pop(ready).result
            continue
        yield None
        frames = [read.frame for each in waiting.values() for read in each.reads if not read.frame.done()]
        wait(frames, LOOK_UP, FIRST_COMPLETED)
        for each in waiting.values():
            each.question.context.check_wanted()


def _begin(make: Callable[[], ModelQuery], same: dict[Filter, Filter]) -> _Begun:
    """A question with what has to be read for it. Equal filters are the same object afterwards."""
    try:
        question = make()
        filters = tuple(same.setdefault(each, each) for each in question.query.filters)
        question = replace(question, query=question.query.model_copy(update={"filters": filters}))
        key = make_cache_key(question.query, question.model, question.context)
        if key and (kept := answers.find_kept(key)):
            return _Known(kept)
        if any(filter_.get_question() for filter_ in filters):
            return _Deferred(question)
        asked = plan_query(question.query, question.model, question.context)
        return _Pending(question, asked, asked.engine.plan())
    except Exception as problem:
        return _Known(problem)


def _share_scans(pending: Iterable[_Pending]) -> list[_SharedScan]:
    """What is read in all.

    Readings of the same cells of the same rows are one, but for those of values that cannot be put together: they take
    long, and nothing that is quick waits for them."""
    reads: dict[Hashable, _SharedScan] = {}
    for each in pending:
        for reading in each.readings:
            engine, question = each.asked.engine, each.question
            key: Hashable = id(reading)
            if reading.combines:
                key = (question.about, id(engine.prepared), question.query.filters, reading.place, reading.home)
            if read := reads.get(key):
                read.shared = True
                read.reading.want(reading.parts.values())
            else:
                read = reads[key] = _SharedScan(engine, replace(reading, parts=dict(reading.parts)))
            each.reads.append(read)
    return list(reads.values())


def _narrow_once(pending: Iterable[_Pending], reads: list[_SharedScan]) -> None:
    """Narrow the rows that questions have in common, for all that is read of them."""
    about: dict[Hashable, list[Engine]] = defaultdict(list)
    for each in pending:
        about[each.question.about].append(each.asked.engine)
    for engines in about.values():
        filters, engines = _find_common_filters(engines)
        if len(engines) > 1:
            own = [read for read in reads if read.engine in engines]
            try:
                common = CommonRows(filters, _filter_shared_rows(filters, own))
            except Exception:  # noqa: S112 - each of the questions says what is wrong with it
                continue
            for engine in engines:
                engine.scope = replace(engine.scope, common=common)


def _find_common_filters(engines: list[Engine]) -> tuple[tuple[Filter, ...], list[Engine]]:
    """The filter that most questions have, with the others that all of these have; and the questions."""
    having: dict[int, list[Engine]] = defaultdict(list)
    filters = {id(filter_): filter_ for engine in engines for filter_ in engine.filters}
    for engine in engines:
        for filter_ in engine.filters:
            having[id(filter_)].append(engine)
    if not having:
        return (), []
    members = max(having.values(), key=len)
    return tuple(filters[key] for key, own in having.items() if set(members) <= set(own)), members


def _filter_shared_rows(filters: tuple[Filter, ...], reads: list[_SharedScan]) -> dict[str, pl.DataFrame]:
    """The rows that pass filters, by table, with the columns that are read.

    Only tables that are read enough, and only where enough is filtered out."""
    # With eight blocks under the filter “only North Reach”, its rows are picked once, and all eight read only these. It
    # pays where two or more reads share a large table and at most half of its rows pass.
    tables: dict[str, list[_SharedScan]] = defaultdict(list)
    for read in reads:
        tables[read.reading.home].append(read)
    narrowed = {}
    for home, own in tables.items():
        engine = own[0].engine
        rows = engine.model.tables[home].rows
        reached = all(engine.model.reaches(home, *needed) for filter_ in filters for needed in filter_.needs())
        if rows < MANY_ROWS or len(own) < 2 or not reached:
            continue
        conditions = engine.build_conditions(home, filters)
        tested = {name for filter_ in filters for name in filter_.list_fields()}
        scan = partial(engine.model.scan, home=home)
        passing: int = scan(sorted(tested), ordered=False).filter(conditions).select(pl.len()).collect().item()
        if passing <= rows / 2:
            names = tested.union(*(read.engine.list_fields_read(read.reading) for read in own))
            ordered = any(part.ordered for read in own for part in read.reading.parts.values())
            narrowed[home] = scan(sorted(names), ordered=ordered).filter(conditions).collect()
    return narrowed
