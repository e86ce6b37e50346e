"""A question explained: which tables, filters, grain and rows it used, step by step in words with counts."""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl

from veduta.core.formula.check import Checked
from veduta.core.formula.functions import Level
from veduta.core.formula.measures import with_names
from veduta.core.model.model import Model
from veduta.core.query.answer import answer, settled
from veduta.core.query.engine import Engine, Scope
from veduta.core.query.engine.places import Place
from veduta.core.query.filters import Context, grouping_words
from veduta.core.query.measures import TOTAL_WORDS, Measure, measure_node, measure_words, total_of
from veduta.core.query.query import Query
from veduta.core.words import counted, in_sentence


@dataclass(frozen=True)
class Step:
    title: str
    lines: tuple[str, ...]


def explain(query: Query, model: Model, context: Context, settings: list[tuple[str, str]] | None = None) -> list[Step]:
    """The steps of a question in the order in which they are taken; `settings` are the names and values of the
    parameters it reads. Raises VedutaError if it does not fit the model."""
    nodes = [(measure, measure_node(measure, model.schema, model.parameters)) for measure in query.measures]
    homes = list(dict.fromkeys(home for _, node in nodes for home in _homes(node, model))) or [""]
    result = answer(query, model, context)
    steps = [
        Step("Tables", tuple(_table(model, home, query) for home in homes)),
        Step(
            "Who asks",
            tuple(
                f"Rule “{rule.name}”: only rows where {with_names(rule.text, model.schema)}."
                for rule in model.reader.rules
            ),
        ),
        Step("Parameters", tuple(f"{name} is {words}." for name, words in settings or ())),
        Step("Filters", tuple(line for home in homes for line in _filtered(query, model, context, home))),
        Step("Groups", (_groups(query, model, result.groups),)),
        Step("Measures", tuple(line for measure, node in nodes for line in _measure(measure, node, model, query))),
        Step("Groups left out", tuple(f"Only {f.words(model.schema)}." for f in query.filters if f.on_groups())),
        Step("Kept", _kept(query, model)),
        Step("Totals", _totals(query, model)),
        Step("Drawn", tuple(result.notes) or (f"All {counted(result.groups, 'group')}.",)),
    ]
    return [step for step in steps if step.lines]


def _homes(node: Checked, model: Model) -> list[str]:
    """The tables whose rows a measure aggregates."""
    if (
        node.function is not None
        and node.function.level is Level.AGGREGATE
        and not any(a and a.level is Level.GRAIN for a in node.arguments)
    ):
        return [model.home_of(node.fields, node)]
    return [home for argument in (*node.arguments, node.where) if argument for home in _homes(argument, model)]


def _table(model: Model, home: str, query: Query) -> str:
    brought = {model.schema[g.field].table for g in query.groups} | {
        model.schema[name].table for f in query.filters for name in f.fields()
    }
    lookups = [model.table_name(each.table) for each in model.reach(home).lookups if each.table in brought]
    beside = f", with {' and '.join(lookups)} looked up beside each row" if lookups else ""
    return f"{model.table_name(home)}: {model.rows_of(home):,} rows{beside}."


def _filtered(query: Query, model: Model, context: Context, home: str) -> list[str]:
    """Each filter with the rows that are left after it."""
    rows, _ = settled(query.filters, model, context)
    said = []
    for i, filter_ in enumerate(rows, 1):
        engine = Engine(Scope(model, rows[:i], context))
        left = engine.rows(home, Place(), set(), ()).select(pl.len()).collect().item()
        reaches = engine.follows(filter_, home)
        words = in_sentence(filter_.words(model.schema))
        said.append(
            f"{model.table_name(home)}, only {words}: {left:,} rows left."
            if reaches
            else f"{model.table_name(home)} is not narrowed by “{words}”."
        )
    return said


def _groups(query: Query, model: Model, groups: int) -> str:
    if not query.groups:
        return "No dimension: one value over all rows."
    names = " and ".join(in_sentence(grouping_words(group, model.schema)) for group in query.groups)
    return f"Grouped by {names}: {counted(groups, 'group')} in the end."


def _measure(measure: Measure, node: Checked, model: Model, query: Query) -> list[str]:
    name = measure_words(measure, model.schema)
    text = measure.formula or (model.schema[measure.field].formula if measure.field else "")
    homes = [model.table_name(home) for home in dict.fromkeys(_homes(node, model))]
    how = (
        f"{name}: {with_names(text, model.schema)}"
        if text and not name.startswith(with_names(text, model.schema))
        else name
    )
    lines = [
        f"{how}, worked out in {' and '.join(homes)}." if homes else f"{how}: a plain number, whatever is filtered."
    ]
    levels = _levels(node)
    if Level.TIME in levels:
        axis = next((group for group in query.groups if group.is_time_axis), None)
        over = f"the periods of {grouping_words(axis, model.schema)}" if axis else "the period the date filter says"
        lines.append(
            f"It looks at other periods, counted from {over}; the filter on that date narrows only what is shown."
        )
    if Level.GRAIN in levels:
        lines.append("A part of it is worked out at a grain of its own, after the filters.")
    return lines


def _levels(node: Checked) -> set[Level]:
    levels = {node.function.level if node.function else node.level, node.level}
    return levels.union(*(_levels(argument) for argument in (*node.arguments, node.where) if argument))


def _kept(query: Query, model: Model) -> tuple[str, ...]:
    if not query.keep:
        return ()
    keep = query.keep
    rest = (
        "; the others are gathered in one and worked out from their rows" if keep.rest else "; the others are left out"
    )
    return (f"The {keep.end} {keep.count_words} by {in_sentence(measure_words(keep.by, model.schema))}{rest}.",)


def _totals(query: Query, model: Model) -> tuple[str, ...]:
    if not query.totals:
        return ()
    return tuple(f"{measure_words(m, model.schema)}: {TOTAL_WORDS[total_of(m, model.schema)]}." for m in query.measures)
