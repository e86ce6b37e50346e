"""Whatever is sent to whatever address: it is answered, and never with an error of ours."""

from __future__ import annotations

import itertools
import json
import logging
import random
import traceback
import uuid
from collections.abc import Iterator
from typing import Any

from django.db import transaction
from django.test import tag
from django.urls import NoReverseMatch, reverse

from tests import FUZZING, count_cases
from tests.web.support import WebTest, list_patterns, receive
from veduta.core.chart.edits import EDITS
from veduta.core.model.edits import edit as model_edit
from veduta.web.charts.popovers import POPOVERS
from veduta.web.datasets.models import Connection
from veduta.web.modelling.changes import change_model

CASES = count_cases(1_200)
FORMULAS = (
    "date('2026-01-01')", "date('…')", "sum(", "(" * 3_000, "-" * 4_000 + "1", "not " * 900 + "true", "1 / 0", "empty",
    "sum(fare) per (region, region)", "sum(fare) where empty", "count() where null", "if(empty, 1, 2)", "not empty",
    "count() per (sailed, trunc(sailed, 'month'))", "sum(fare) per ()", "'", '"',
    "sum(fare) where region = :nothing", ":person_x", "fare", "region", "rank(sum(fare))", "sum(sum(fare))", "²", "٣",
    "sum(fare) per (shown, region)", "sum(fare) unfiltered (region, region)", "latest(sailed)", "sum(fare) & 'a'",
    "shift(sum(fare), -99999999999, 'month')", "date_add(sailed, 99999999999, 'day')", "fare ^ 99999", "10 ^ 400",
    "left(region, -9223372036854775808)", "quantile(fare, 7)", "if(true, fare, region)", "sum(fare) = 'a'", "true",
    "trunc(sailed, 'century')", "since(true)", "since(sum(fare) > 1)", "moving(sum, -1, fare)", "#c1", "#", "formula.x",
    "1" * 400, "1e400", "date(9999, 12, 31)", "date_add(date(9999, 12, 31), 1, 'year')", "a" * 5_001, "sum(fare)\0",
    "matches(region, '(')", "matches(region, '(?=a)')", "extract(region, '(a{1000}){1000}')",
    "split_part(region, '', 0)",
)  # fmt: skip
NONSENSE: tuple[Any, ...] = (
    None, True, False, -1, 0, 7, 2**63, 10**400, 1.5, 1e308, "", " ", "0", "-0", "--1", "²", "٣", "1e999", "NaN", "\0",
    "\ud800", "𝔞", "a" * 9_000, "'", '"', "\\", "%", "null", [], {}, [[]], [None], [{}], {"": None}, {"id": []},
    [[[[[[]]]]]], ["a"] * 300, [1, "a", None, {}], {"a": {"b": {"c": {"d": []}}}}, "2026-02-30", "9999-12-31",
    "0000-00-00", "-1-01-01", "2026-13", "<script>", "person-1", "group-x", *FORMULAS[:9],
    "00000000-0000-0000-0000-000000000000", "not-an-id", "utf-8", "latin1", "region", "sum", "mean", "c1", "month",
)  # fmt: skip


def ways_into(value: Any, path: tuple = ()) -> Iterator[tuple]:
    """The paths of everything in a JSON value, itself first."""
    yield path
    for key, part in value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ():
        yield from ways_into(part, (*path, key))


def changed(value: Any, path: tuple, new: Any) -> Any:
    """The value with something else at a path."""
    if not path:
        return new
    key, *rest = path
    copy = dict(value) if isinstance(value, dict) else list(value)
    copy[key] = changed(copy[key], tuple(rest), new)
    return copy


def as_form(value: Any) -> Any:
    """A value as a form sends it: text, or several texts."""
    if isinstance(value, list):
        return [as_form(each) for each in value]
    text = value if isinstance(value, str) else json.dumps(value)
    return text.encode("utf-8", "surrogatepass")


class Raised(logging.Handler):
    """Remembers where the last exception that was logged came from."""

    where = ""

    def emit(self, record: logging.LogRecord) -> None:
        if record.exc_info and record.exc_info[1]:
            error = record.exc_info[1]
            frames = [each for each in traceback.extract_tb(error.__traceback__) if "/veduta/" in each.filename]
            at = f"{frames[-1].filename.rpartition('/veduta/')[2]}:{frames[-1].lineno}" if frames else ""
            self.where = f"{at} {type(error).__name__}: {str(error)[:150]}"


class Answered(WebTest):
    """A dashboard and what else there is, and requests whose errors are noted."""

    @classmethod
    def setUpTestData(cls):
        super().setUpTestData()
        cls.make_dashboard()
        cls.grant()
        change_model(cls.analyst, cls.dataset, "save_formula", {"name": "Twice", "text": "sum(fare) * 2"}, 0)
        cls.upload = receive(cls.analyst, "port,fare\nQuay,7\nTern,8\n", "fares.csv")
        cls.shapes = cls.make_shapes()
        cls.feed = Connection.objects.create(name="Feeds", kind="feed", address="http://127.0.0.1:1")

    def setUp(self):
        super().setUp()
        self.client.raise_request_exception = False
        self.raised = Raised()
        for logger in map(logging.getLogger, ("veduta", "django.request")):
            logger.addHandler(self.raised)
            self.addCleanup(logger.removeHandler, self.raised)
            before = logger.level
            logger.setLevel(logging.ERROR)
            self.addCleanup(logger.setLevel, before)


def list_addresses() -> set[tuple[str, tuple[tuple[str, str], ...]]]:
    """All addresses of the application by their names, with their parts and what these are."""
    return {
        (pattern.name, tuple((name, type(kind).__name__) for name, kind in pattern.pattern.converters.items()))
        for pattern in list_patterns()
        if pattern.name
    }


NAMES = (
    "definition", "points", "point", "page", "find", "sort", "descending", "dataset", "chart", "name", "words", "v",
    "revision", "state", "states", "base", "steps", "editing", "form", "block", "blocks", "change", "edit", "control",
    "measure", "field", "value", "values", "text", "formula", "mark", "number", "step", "version", "draft", "kept",
    "view", "who", "level", "fields", "colours", "palettes", "template", "places", "note", "task", "options", "key",
    "address", "secret", "feed", "clause", "index", "grain", "limit", "size", "prefix", "target", "side", "to", "from",
)  # fmt: skip


class EveryAddress(Answered):
    """Every address there is, in every way, with names that Veduta uses and values that it does not."""

    def given(self, name: str, kind: str, chance: random.Random) -> Any:
        """A part of an address: something that is there, or not."""
        there = [self.dashboard.pk, self.dataset.pk, self.dataset.charts.first().pk, self.upload.pk, self.shapes.pk]
        if kind == "UUIDConverter":
            return chance.choice([*there, uuid.UUID(int=0)])
        if kind == "IntConverter":
            return chance.choice([0, 1, 2, self.feed.pk, 2**31, 10**18, 10**30])
        return chance.choice(["bars", "region", "date", self.ids["fare"], "overview", "x", "²", "a" * 300, "c1", "%00"])

    @tag("long")
    def test_nothing_of_any_address_gives_an_error_of_ours(self):
        chance, failed = random.Random(None if FUZZING else 7), {}
        every = sorted(list_addresses() - {("sign-out", ())})
        for case in range(CASES):
            name, parts = every[case % len(every)]
            who = chance.choice((self.analyst, self.explorer, self.steward))
            sent = {chance.choice(NAMES): chance.choice(NONSENSE) for _ in range(chance.randrange(4))}
            for each in ("definition", "state"):
                if chance.random() < 0.2:
                    sent[each] = (
                        self.dashboard.draft if chance.random() < 0.5 else self.dataset.charts.first().definition
                    )
            try:
                address = reverse(name, args=[self.given(*part, chance) for part in parts])
            except NoReverseMatch:
                continue
            how = chance.choice(("get", "json", "form"))
            with transaction.atomic():
                self.as_(who)
                answer = self.answer(how, address, sent)
                if answer.streaming and not answer.is_async:
                    list(itertools.islice(answer.streaming_content, 3))
                transaction.set_rollback(True)
            if answer.status_code >= 500:
                where = self.raised.where
                failed.setdefault(where.partition(" ")[0], f"{where}\n  {how} {address} {json.dumps(sent)[:2_000]}")
        self.assertFalse(failed, "\n".join(failed.values()))

    def answer(self, how: str, address: str, sent: dict[str, Any]) -> Any:
        if how == "json":
            body = json.dumps(sent)
            return self.client.post(address, body, content_type="application/json", headers={"X-Veduta": "1"})
        if how == "form":
            return self.client.post(address, {key: as_form(value) for key, value in sent.items()})
        query = {key: value if isinstance(value, str) else json.dumps(value) for key, value in sent.items()}
        query = {key: value.encode("utf-8", "surrogatepass") for key, value in query.items()}
        return self.client.get(address, query, headers={"X-Veduta": "1"} if len(sent) % 2 else {})


class Nonsense(Answered):
    def setUp(self):
        super().setUp()
        self.seeds = list(self.sent_as_json()) + list(self.sent_as_forms()) + list(self.asked_by_address())

    def sent_as_json(self) -> Iterator[tuple[str, list, dict]]:
        chart, ids = self.dataset.charts.first(), self.ids
        fare, region, sailed = ids["fare"], ids["region"], ids["sailed"]
        definition = chart.definition | {
            "by": [{"field": sailed, "grain": "month"}],
            "split": {"field": region},
            "only": [
                {"kind": "list", "field": region, "values": ["North Reach"], "exclude": False},
                {"kind": "range", "field": fare, "low": 1, "high": 200},
                {"kind": "relative", "field": sailed, "count": 3, "unit": "month"},
            ],
            "keep": {"count": 3, "of": "split"},
            "sort": {"by": "measure", "descending": True},
        }
        for edit, sent in (
            ("add_field", {"field": region}),
            ("set_measure", {"index": 0, "field": fare, "aggregate": "mean"}),
            ("set_formula", {"index": 0, "formula": "sum(fare)", "name": "x"}),
            ("set_group", {"clause": "by", "index": 0, "field": sailed, "grain": "week"}),
            ("set_filter", {"index": 0, "filter": {"kind": "list", "field": region, "values": ["x"]}}),
            ("set_aligned", {"formula": "sum(fare) > 1", "low": 1}),
            ("set_keep", {"keep": {"count": 2}}),
            ("set_sort", {"sort": {"by": "name"}}),
            ("style_measure", {"index": 0, "number_format": {"style": "percent", "decimals": 2}}),
            ("set_value", {"parameter": "x", "values": [1]}),
            *((name, {"index": 0}) for name in EDITS),
        ):
            sent = {"definition": definition, "edits": [{"edit": edit, **sent}], "page": "p", "turn": 1}
            yield "chart-answer", [chart.pk], sent
        for formula in FORMULAS:
            own = {"definition": chart.definition, "edits": [{"edit": "set_formula", "index": 0, "formula": formula}]}
            yield "chart-answer", [chart.pk], own
            aligned = {"definition": definition, "edits": [{"edit": "set_aligned", "formula": formula}]}
            yield "chart-answer", [chart.pk], aligned
            yield "shape-formula", [self.dataset.pk], {"formula": formula, "caret": len(formula)}
            yield "model-formula-check", [self.dataset.pk], {"formula": formula, "caret": len(formula), "by": region}
            yield "model-formula-save", [self.dataset.pk], {"name": "New", "text": formula, "revision": 1}
        for clause in POPOVERS:
            yield "chart-clause", [chart.pk], {"definition": definition, "clause": clause, "index": 0, "find": "x"}
        point = [["2026-01", "North Reach"]]
        yield "chart-grammar", [chart.pk], {"definition": definition, "text": "{}", "caret": 1, "even": True}
        for name in ("chart-rows", "chart-explain", "chart-draft", "chart-save"):
            yield name, [chart.pk], {
                "definition": definition, "points": point, "revision": 1, "name": "x", "page": 1, "sort": fare,
                "descending": "1", "find": "x",
            }  # fmt: skip
        yield "chart-draft-merge", [chart.pk], {"revision": 1, "states": [{"definition": definition}]}
        draft = self.dashboard.draft
        yield "dashboard-draft", [self.dashboard.pk], {"definition": draft, "name": "x", "revision": 1}
        state = {"definition": draft, "name": "x"}
        yield "dashboard-draft-merge", [self.dashboard.pk], {"base": state, "states": [state]}
        yield "dashboard-place", [self.dashboard.pk], {"chart": str(chart.pk)}
        yield "dashboard-new-control", [self.dashboard.pk], {"dataset": str(self.dataset.pk), "field": region}
        yield "dashboard-text", [], {"text": "**a**"}
        steps = [
            {"do": "group", "id": "s1", "by": [{"field": sailed, "grain": "month"}],
             "make": [{"aggregate": "sum", "field": fare, "name": "x"}]},
            {"do": "formula", "id": "s2", "formula": "fare * 2", "name": "y"},
            {"do": "filter", "id": "s3", "filters": [{"kind": "range", "field": fare, "low": 1}]},
        ]  # fmt: skip
        look = {
            "steps": steps, "at": "s1", "base": 0, "explore": True, "page": 1, "column": fare, "place": 0, "all": True,
            "editing": steps[0], "opening": True, "fresh": True, "step": steps[1], "form": {"fields": [fare]},
        }  # fmt: skip
        yield "shape-look", [self.dataset.pk], look
        yield "shape-look", [self.dataset.pk], look | {"editing": None, "explore": False}
        yield "shape-rows", [self.dataset.pk], look | {"values": ["2026-01-01"]}
        yield "shape-failures", [self.dataset.pk], look
        yield "shape-formula", [self.dataset.pk], look | {"formula": "fare * 2", "caret": 3, "id": "s2"}
        yield "shape-derive", [self.dataset.pk], {"steps": steps, "name": "x"}
        formula = {"id": "twice", "name": "Twice", "text": "sum(fare)", "format": {"style": "number"}, "revision": 1}
        yield "model-formula-save", [self.dataset.pk], formula | {"total": "sum", "folder": "a", "anyway": False}
        yield "model-formula-check", [self.dataset.pk], {
            "formula": "sum(fare)", "caret": 3, "definition": definition, "by": region, "grain": "month", "id": "twice",
        }  # fmt: skip
        field = {"name": "x", "kind": "text", "role": "measure", "aggregate": "mean", "hidden": True, "sort_by": region,
                 "format": {"style": "currency", "currency": "EUR"}, "synonyms": ["a"], "place": "point"}  # fmt: skip
        for key, value in field.items():
            yield "field-update", [self.dataset.pk, fare], {key: value}
            yield "upload-column", [self.upload.pk, self.upload.all_fields[1].id], {key: value}
        yield "dataset-update", [self.dataset.pk], {"name": "x", "description": "y"}
        yield "upload-options", [self.upload.pk], {"delimiter": ",", "encoding": "utf-8", "header": 1, "sheet": "x"}
        yield "upload-start", [self.upload.pk], {"name": "x", "leave_out": ["c1"]}
        yield "paste", [], {"cells": "a\tb\n1\t2", "dataset": str(self.dataset.pk)}
        connection = {"kind": "database", "name": "x", "address": "postgresql://a@b.skerry-sound.example/x"}
        yield "connection-save", [0], connection | {"secret": "s", "as": "header", "sent_name": "a", "before": "b"}
        yield "connection-save", [self.feed.pk], {
            "name": "x", "kind": "feed", "address": "http://127.0.0.1:1", "headers": {"0": {"name": "A", "value": "b"}},
        }  # fmt: skip
        yield "atlas-change", [self.shapes.pk], {"name": "x", "key": "region"}
        yield "atlas-spell", [self.shapes.pk], {"names": {"0": {"name": "x", "key": "y"}}}
        paging = {"how": "page", "parameter": "p", "start": 1, "size": 10}
        yield "connection-try", [self.feed.pk], {
            "feed": {"path": "x", "query": {"0": {"name": "a", "value": "b"}}, "paging": paging, "timeout": 1},
        }  # fmt: skip

    def sent_as_forms(self) -> Iterator[tuple[str, list, dict]]:
        sent = {
            "add_table": {"dataset": str(self.dataset.pk), "name": "x"},
            "set_join": {"left": "", "right": "x", "left0": "c1", "right0": "c2", "grain0": "month"},
            "save_parameter": {"kind": "whole", "default": "5", "low": "1", "high": "9", "step": "1", "choices": "1=a"},
            "save_path": {"name": "x", "field0": self.ids["region"], "field1": self.ids["route"]},
            "save_rule": {"name": "x", "text": "region = 'a'", "groups": "Harbour office"},
            "settings": {"fiscal_month": "4", "beyond": "empty"},
        }
        for name in model_edit.functions:
            every = dict.fromkeys(model_edit.takes(name), "x")
            yield "model-change", [self.dataset.pk], {"do": name, "revision": "1", **every, **sent.get(name, {})}
        for formula in FORMULAS:
            yield "model-change", [self.dataset.pk], {"do": "save_rule", "revision": "1", "name": "x", "text": formula}
        yield "chart-new", [], {"dataset": str(self.dataset.pk), "dashboard": str(self.dashboard.pk)}
        yield "dashboard-new", [], {"name": "x"}
        yield "dashboard-share", [self.dashboard.pk], {"who": "group-1", "level": "view", "download": "on"}
        yield "dashboard-bring-back", [self.dashboard.pk, 1], {"what": "published"}
        yield "dataset-release", [self.dataset.pk], {"released": "1"}
        yield "dataset-taking", [self.dataset.pk], {"how": "replace", "key": ["c1"], "since": "c2"}
        yield "dataset-schedule", [self.dataset.pk], {
            "often": "weekly", "at": "06:00", "weekday": "1", "day": "3", "zone": "UTC", "hours": "6", "minute": "5",
        }  # fmt: skip
        chart = self.dataset.charts.first()
        for name in ("chart-rows-file", "chart-specification"):
            yield name, [chart.pk], {"definition": json.dumps(chart.definition)}

    def asked_by_address(self) -> Iterator[tuple[str, list, dict]]:
        state = {
            "controls": {"region": {"values": ["North Reach"]}, "date": {"kind": "dates"}},
            "selections": [{"block": "bars", "points": [["North Reach"]], "mode": "show_only"}],
        }
        v = json.dumps(state)
        own = [self.dashboard.pk]
        yield "dashboard", own, {"v": state, "version": "1", "draft": "1"}
        yield "dashboard-blocks", own, {"v": state, "version": "1", "draft": "1"}
        yield "dashboard-block", [*own, "bars"], {"v": state, "table": "1"}
        for name in ("dashboard-rows", "dashboard-rows-file"):
            yield name, [*own, "bars"], {"v": v, "points": [["North Reach"]], "page": "1", "sort": "c1", "find": "x"}
        for control in ("region", "date"):
            yield "dashboard-control", [*own, control], {"v": state, "find": "x"}
        yield "dataset-rows", [self.dataset.pk], {"page": "1", "sort": "c1", "find": "x", "descending": "1"}
        for name in ("data", "charts", "dashboards", "find", "lineage", "formula-reference"):
            yield name, [], {"find": "x", "page": "1", "dataset": str(self.dataset.pk), "for": "charts"}
        yield "dataset", [self.dataset.pk], {"find": "x", "page": "2"}
        yield "dataset-refreshes", [self.dataset.pk], {"before": "1", "after": "1"}
        yield "model-formula-new", [self.dataset.pk], {"text": "sum(fare)", "name": "x"}
        yield "connection-rows", [self.feed.pk], {"dataset": str(self.dataset.pk), "upload": str(self.upload.pk)}

    def send(self, way: int, name: str, arguments: list, sent: Any):
        address = reverse(name, args=arguments)
        if way < self.json_seeds:
            body = json.dumps(sent)
            return self.client.post(address, body, content_type="application/json", headers={"X-Veduta": "1"})
        sent = sent if isinstance(sent, dict) else {"v": sent}
        if way < self.json_seeds + self.form_seeds:
            form = {key: as_form(value) for key, value in sent.items()}
            return self.client.post(address, form)
        query = {key: value if isinstance(value, str) else json.dumps(value) for key, value in sent.items()}
        query = {key: value.encode("utf-8", "surrogatepass") for key, value in query.items()}
        return self.client.get(address, query)

    @tag("long")
    def test_nothing_that_is_sent_gives_an_error_of_ours(self):
        self.json_seeds = len(list(self.sent_as_json()))
        self.form_seeds = len(list(self.sent_as_forms()))
        chance = random.Random(None if FUZZING else 11)
        failed: dict[str, str] = {}
        self.as_(self.analyst)
        for case in range(CASES):
            way = case % len(self.seeds)
            name, arguments, sent = self.seeds[way]
            for _ in range(chance.choice((0, 1, 1, 2))):
                paths = list(ways_into(sent))
                sent = changed(sent, chance.choice(paths), chance.choice(NONSENSE))
            with transaction.atomic():
                answer = self.send(way, name, arguments, sent)
                problem = "" if answer.status_code < 500 else str(answer.status_code)
                if answer.streaming:
                    list(answer.streaming_content)
                transaction.set_rollback(True)
            if problem:
                where = self.raised.where
                failed.setdefault(where.partition(" ")[0], f"{where}\n  {name} {json.dumps(sent)[:2_000]}")
        self.assertFalse(failed, "\n".join(failed.values()))
