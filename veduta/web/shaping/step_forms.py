"""The form of a step: made from how the step declares its settings, and read back into its definition."""

from __future__ import annotations

from typing import Any

import polars as pl

from veduta.core.calendar import list_grains
from veduta.core.data.fields import Aggregate, DataField, DataType, Schema, list_aggregates
from veduta.core.errors import VedutaError
from veduta.core.number_format import format_value, record_format
from veduta.core.shaping.flow import Flow
from veduta.core.shaping.matching import suggest_spellings
from veduta.core.shaping.shaping import load_step
from veduta.core.shaping.steps import ShapingStep
from veduta.core.shaping.steps.tables import JoinTables, MapValues, get_usual_aggregate, list_unmapped
from veduta.web.common.requests import read_rows
from veduta.web.datasets.models import Dataset
from veduta.web.datasets.upstream import list_followers
from veduta.web.shaping.services import ShapingDraft

VALUES_SHOWN = 60
UNMAPPED_SHOWN = 100
WAYS = {
    "text": [("list", "is one of"), ("text", "contains"), ("empty", "is empty")],
    "number": [("range", "lies between"), ("list", "is one of"), ("empty", "is empty")],
    "date": [("dates", "lies between"), ("relative", "is in the last"), ("empty", "is empty")],
    "yes_no": [("list", "is"), ("empty", "is empty")],
}


def list_ways(kind: DataType) -> list[tuple[str, str]]:
    return WAYS["number" if kind.is_number else "date" if kind.is_date else kind.value]


class StepForm:
    """The inputs of one step: `data` as far as it is filled in, over the rows that come to it.

    `several` says whether the other side of a join has several rows for a key; if not, there is nothing to ask about
    that."""

    def __init__(
        self, kind: type[ShapingStep], data: dict[str, Any], draft: ShapingDraft, before: Flow, several: bool = True
    ) -> None:
        self.kind, self.data, self.draft, self.before, self.several = kind, data, draft, before, several
        self.schema: Schema = before.schema

    def make_inputs(self) -> list[dict[str, Any]]:
        made = []
        for name, declared in self.kind.model_fields.items():
            extra = declared.json_schema_extra
            if not isinstance(extra, dict) or "widget" not in extra:
                continue
            value = self.data.get(
                name, None if declared.is_required() else declared.get_default(call_default_factory=True)
            )
            if not self._is_wanted(extra.get("when") or {}) or (name == "several" and not self.several):
                continue
            context = {"name": name, "label": declared.title, "value": value, **extra}
            context |= getattr(self, f"_make_{extra['widget']}", lambda value, extra: {})(value, extra)
            made.append(context)
        return made

    def _is_wanted(self, when: Any) -> bool:
        for name, wanted in when.items():
            value = self.data.get(name, self.kind.model_fields[name].default)
            if not value or ("*" not in wanted and value not in wanted):
                return False
        return True

    def _list_fields(self, kinds: Any) -> list[DataField]:
        return [field for field in self.schema if not kinds or field.kind in kinds]

    def _make_field(self, value: Any, extra: dict) -> dict[str, Any]:
        gone = self._list_gone(value)
        return {
            "options": [(f.id, f.name) for f in self._list_fields(extra.get("kinds"))] + gone,
            "empty": extra.get("optional"),
        }

    def _list_gone(self, value: Any) -> list[tuple[str, str]]:
        if not value or value in self.schema:
            return []
        return [(value, f"{self.schema.gone.get(value, 'A column')} (gone)")]

    def _make_fields(self, value: Any, extra: dict) -> dict[str, Any]:
        chosen = [(f, self.schema[f]) if f in self.schema else (f, None) for f in value or ()]
        rest = [field for field in self._list_fields(extra.get("kinds")) if field.id not in (value or ())]
        return {"chosen": [(key, field or self._list_gone(key)[0][1], field) for key, field in chosen], "rest": rest}

    def _make_names(self, value: Any, extra: dict) -> dict[str, Any]:
        return {"rows": [(field, (value or {}).get(field.id, "")) for field in self.schema]}

    def _make_choice(self, value: Any, extra: dict) -> dict[str, Any]:
        return {"options": list(extra["options"].items()), "value": "" if value is None else str(value)}

    def _make_lines(self, value: Any, extra: dict) -> dict[str, Any]:
        return {"text": "\n".join(map(str, value or ()))}

    def _make_numbers(self, value: Any, extra: dict) -> dict[str, Any]:
        return {
            "text": "\n".join(f"{number:g}" if isinstance(number, float) else str(number) for number in value or ())
        }

    def _make_orders(self, value: Any, extra: dict) -> dict[str, Any]:
        rows = [_make_dict(row) for row in value or ()]
        return {"rows": [*rows, {}], "options": [(f.id, f.name) for f in self.schema]}

    def _make_groupings(self, value: Any, extra: dict) -> dict[str, Any]:
        chosen = {row.get("field"): row.get("grain") for row in (_make_dict(row, "field") for row in value or ())}
        timed = any(field.kind is DataType.DATETIME for field in self.schema)
        grains = [(grain.value, grain.words) for grain in list_grains(DataType.DATETIME if timed else DataType.DATE)]
        order = list(chosen)
        fields = sorted(self.schema, key=lambda f: order.index(f.id) if f.id in chosen else len(order))
        return {"rows": [(field, field.id in chosen, chosen.get(field.id) or "") for field in fields], "grains": grains}

    def _make_measures(self, value: Any, extra: dict) -> dict[str, Any]:
        rows = []
        for row in [_make_dict(row) for row in value or ()]:
            field = self.schema.get(row.get("field"))
            rows.append(
                {**row, "aggregates": [(a.value, a.words) for a in list_aggregates(field.kind)] if field else []}
            )
        numbers_first = sorted(self.schema, key=lambda f: f.role != "measure")
        return {"rows": [*rows, None], "options": [(f.id, f.name) for f in numbers_first]}

    def _make_dataset(self, value: Any, extra: dict) -> dict[str, Any]:
        circle = set() if self.draft.explore else {str(self.draft.dataset.pk), *list_followers(self.draft.dataset)}
        datasets = Dataset.objects.filter(deleted_at=None).exclude(current=None)
        return {
            "options": [(str(d.pk), d.name) for d in datasets if str(d.pk) not in circle],
            "empty": extra.get("optional"),
        }

    def _load_other(self) -> Flow | None:
        try:
            return self.draft.tables.table(self.data.get("dataset") or "")
        except VedutaError:
            return None

    def _make_other_field(self, value: Any, extra: dict) -> dict[str, Any]:
        other = self._load_other()
        return {"widget": "field", "options": [(f.id, f.name) for f in other.fields] if other else [], "empty": None}

    def _make_keys(self, value: Any, extra: dict) -> dict[str, Any]:
        other = self._load_other()
        if other is None:
            return {"waits": "Choose the dataset first."}
        rows = [_make_dict(row) for row in value or ()]
        suggestions = []
        if not rows:
            suggestions = self.draft.list_key_suggestions(self.data.get("id", ""), self.data["dataset"])
        return {
            "rows": [*rows, {}],
            "own": [(f.id, f.name) for f in self.schema],
            "others": [(f.id, f.name) for f in other.fields],
            "suggestions": [
                {
                    "own": s.own,
                    "other": s.other,
                    "words": f"{self.schema[s.own].name} = {other.schema[s.other].name}",
                    "share": s.share,
                }
                for s in suggestions
            ],
        }

    def _make_brought(self, value: Any, extra: dict) -> dict[str, Any]:
        other = self._load_other()
        if other is None:
            return {"waits": "Choose the dataset first."}
        chosen = {row["field"]: row for row in (_make_dict(row) for row in value or ()) if row.get("field")}
        keys = {row.get("other") for row in (_make_dict(row) for row in self.data.get("keys") or ())}
        rows = []
        for field in other.fields:
            if field.id in keys and field.id not in chosen:
                continue
            aggregate = chosen.get(field.id, {}).get("aggregate") or get_usual_aggregate(field).value
            options = [(a.value, a.words) for a in list_aggregates(field.kind)]
            if not field.kind.is_number and not field.kind.is_date:
                options += [
                    (Aggregate.MIN.value, "first by the alphabet"),
                    (Aggregate.MAX.value, "last by the alphabet"),
                ]
            rows.append((field, field.id in chosen, aggregate, options, chosen.get(field.id, {}).get("name", "")))
        return {
            "rows": rows,
            "aggregates": self.several and self.data.get("several", "aggregate") == "aggregate",
            "count": len(chosen),
        }

    def _make_pairs(self, value: Any, extra: dict) -> dict[str, Any]:
        """The pairs there are, then the values that are not mapped yet, with the spellings they may mean."""
        rows = [_make_dict(row) for row in value or ()]
        field = self.schema.get(self.data.get("field"))
        if field is None or field.kind is not DataType.TEXT:
            return {"rows": rows, "unmapped": []}
        try:
            named = [row for row in rows if row.get("find")]
            step = load_step({**self.data, "id": self.data.get("id") or "s0", "pairs": named})
            assert isinstance(step, MapValues)
            left = list_unmapped(step, self.draft.preview_before(step.id), self.draft.run)
        except VedutaError as problem:
            return {"rows": rows, "unmapped": [], "waits": str(problem)}
        targets = self._list_targets()
        guesses = {value: (target, alike) for value, target, alike in suggest_spellings(left[:2_000], targets)}
        known = set(targets or ())
        open_values = [(v, n, *guesses.get(v, ("", 0))) for v, n in left if v not in known]
        open_values.sort(key=lambda row: (not row[2], -row[3]))
        return {
            "rows": rows,
            "unmapped": open_values[:UNMAPPED_SHOWN],
            "more": max(0, len(open_values) - UNMAPPED_SHOWN),
            "guesses": sum(bool(row[2]) for row in open_values),
            "left": len(open_values),
        }

    def _list_targets(self) -> list[str] | None:
        """The spellings that are wanted: those of the column that a later join goes to, or of the listed results."""
        steps = list(self.draft.shaping.steps)
        position = next((i for i, step in enumerate(steps) if step.id == self.data.get("id")), len(steps))
        for step in steps[position + 1 :]:
            if (
                isinstance(step, JoinTables)
                and not step.off
                and (key := next((k for k in step.keys if k.own == self.data["field"]), None))
            ):
                return self._list_values_of(step.dataset, key.other)
        if self.data.get("dataset") and self.data.get("put_column"):
            return self._list_values_of(self.data["dataset"], self.data["put_column"])
        return None

    def _list_values_of(self, dataset: str, column: str) -> list[str] | None:
        try:
            flow = self.draft.tables.table(dataset)
            if flow.schema[column].kind is not DataType.TEXT:
                return None
            return (
                flow.rows.select(pl.col(column).drop_nulls().unique().sort())
                .head(20_000)
                .collect()
                .to_series()
                .to_list()
            )
        except VedutaError:
            return None

    def _make_filters(self, value: Any, extra: dict) -> dict[str, Any]:
        rows = []
        for row in [_make_dict(row) for row in value or ()]:
            field = self.schema.get(row.get("field"))
            if field is None:
                rows.append({**row, "field_gone": self._list_gone(row.get("field"))})
                continue
            ways = list_ways(field.kind)
            way = row.get("kind") if row.get("kind") in dict(ways) else ways[0][0]
            rows.append(
                {
                    **row,
                    "kind": way,
                    "of": field,
                    "ways": ways,
                    "choices": self._list_choices(field, row) if way == "list" else [],
                }
            )
        return {"rows": [*rows, {}], "options": [(f.id, f.name) for f in self.schema]}

    def _list_choices(self, field: DataField, row: dict) -> list[tuple[Any, str, int, bool]]:
        """The column's most frequent values, and those chosen: (value, words, rows, chosen)."""
        counted = (
            self.before.rows.group_by(v=field.id)
            .agg(n=pl.len())
            .sort(["n", "v"], descending=[True, False], nulls_last=True)
        )
        counts = {_dump_json(v): n for v, n in counted.head(VALUES_SHOWN).collect().iter_rows()}
        chosen = list(row.get("values") or ())
        listed = [*(each for each in chosen if each not in counts), *counts]
        form = record_format(field, [v for v in listed if isinstance(v, int | float)])
        return [
            (v, "empty" if v is None else format_value(v, field.kind, form), counts.get(v, 0), v in chosen)
            for v in listed
        ]


def _dump_json(value: Any) -> Any:
    return value.isoformat() if hasattr(value, "isoformat") else value


def _make_dict(row: Any, key: str = "") -> dict[str, Any]:
    if isinstance(row, str):
        return {key: row}
    return dict(row) if isinstance(row, dict) else row.model_dump(mode="json")


def read_form(kind: type[ShapingStep], sent: dict[str, Any]) -> dict[str, Any]:
    """A step's definition from its form as the page sent it; blank rows and boxes not ticked are left out."""
    data = {key: value for key, value in sent.items() if key in ("id", "do", "off")}
    for name, declared in kind.model_fields.items():
        extra = declared.json_schema_extra
        if not isinstance(extra, dict) or name not in sent:
            continue
        value = sent[name]
        read = _READERS.get(str(extra["widget"]))
        value = read(value) if read else value
        if value is None and not declared.is_required():
            continue
        data[name] = value
    return data


def _read_list(value: Any) -> list[dict[str, Any]]:
    """The rows of a form that have parts."""
    rows = read_rows(value)
    return [row for row in rows if isinstance(row, dict)] if isinstance(rows, list) else []


def _pick_rows(needed: str):
    return lambda value: [row for row in _read_list(value) if row.get(needed)]


def _read_lines(value: Any) -> list[str]:
    return [line.strip() for line in value.splitlines() if line.strip()] if isinstance(value, str) else read_rows(value)


def _read_numbers(value: Any) -> list[Any]:
    return [float(line) if _is_number(line) else line for line in _read_lines(value)]


def _is_number(text: Any) -> bool:
    try:
        float(text)
    except (TypeError, ValueError):
        return False
    return True


def _read_names(value: Any) -> dict[str, str]:
    named = value.items() if isinstance(value, dict) else ()
    return {key: name.strip() for key, name in named if isinstance(name, str) and name.strip()}


def _pick_chosen(value: Any) -> list[dict[str, Any]]:
    """Rows with a box each: those whose box is ticked."""
    rows = [row for row in _read_list(value) if row.get("on", True)]
    return [{key: each for key, each in row.items() if key != "on" and each not in ("", None)} for row in rows]


def _read_pairs(value: Any) -> list[dict[str, Any]]:
    return [
        {"find": row["find"], "put": row.get("put") or None}
        for row in _read_list(value)
        if row.get("find") and (row.get("put") or row.get("kept"))
    ]


def _read_filters(value: Any) -> list[dict[str, Any]]:
    made = []
    for row in _pick_rows("field")(value):
        kind, field = row.get("kind"), row["field"]
        if kind == "list":
            made.append(
                {"kind": "list", "field": field, "values": row.get("values") or [], "exclude": bool(row.get("exclude"))}
            )
        elif kind in ("range", "dates"):
            low, high = ("low", "high") if kind == "range" else ("start", "end")
            made.append({"kind": kind, "field": field, low: row.get(low), high: row.get(high)})
        elif kind == "relative":
            made.append(
                {"kind": kind, "field": field, "unit": row.get("unit") or "month", "count": row.get("count") or 1}
            )
        elif kind == "text":
            text = row.get("text") or ""
            made.append(
                {
                    "kind": kind,
                    "field": field,
                    "match": row.get("match") or "contains",
                    "text": text,
                    "exclude": bool(row.get("exclude")),
                }
            )
        elif kind == "empty":
            made.append({"kind": kind, "field": field, "exclude": bool(row.get("exclude"))})
        else:
            made.append({"field": field})
    return made


def _read_choice(value: Any) -> Any:
    return value if value != "" else None


_READERS = {
    "names": _read_names,
    "orders": _pick_rows("field"),
    "groupings": _pick_chosen,
    "measures": lambda value: [_read_measure(row) for row in _read_list(value) if row.get("on", True)],
    "keys": lambda value: [row for row in _read_list(value) if row.get("own") and row.get("other")],
    "brought": _pick_chosen,
    "pairs": _read_pairs,
    "filters": _read_filters,
    "lines": _read_lines,
    "numbers": _read_numbers,
    "choice": _read_choice,
}


def _read_measure(row: dict[str, Any]) -> dict[str, Any]:
    return {
        "field": row.get("field") or "",
        "aggregate": row.get("aggregate") or ("sum" if row.get("field") else "count"),
        "name": row.get("name") or "",
    }
