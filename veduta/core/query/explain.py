"""A question explained: which tables, filters, grain and rows it used, step by step in words with counts."""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl

from veduta.core.formula.check import TypedExpression
from veduta.core.formula.functions import Level
from veduta.core.formula.measures import replace_ids_with_names
from veduta.core.model.model import Model
from veduta.core.phrases import lower_first, pluralise
from veduta.core.query.answer import answer, resolve_filters
from veduta.core.query.engine import Engine, Scope
from veduta.core.query.engine.levels import CellLevel
from veduta.core.query.filters import Context, label_grouping
from veduta.core.query.measures import TOTAL_WORDS, Measure, get_total, measure_node, measure_words
from veduta.core.query.query import Query


@dataclass(frozen=True)
class ExplainStep:
    title: str
    lines: tuple[str, ...]


def explain(
    query: Query, model: Model, context: Context, settings: list[tuple[str, str]] | None = None
) -> list[ExplainStep]:
    """The steps of a question in the order in which they are taken.

    `settings` are the names and values of the parameters it reads. Raises VedutaError if the question does not fit the
    model."""
    nodes = [(measure, measure_node(measure, model.schema, model.parameters)) for measure in query.measures]
    homes = list(dict.fromkeys(home for _, node in nodes for home in _list_homes(node, model))) or [""]
    result = answer(query, model, context)
    steps = [
        ExplainStep("Tables", tuple(_describe_table(model, home, query) for home in homes)),
        ExplainStep(
            "Who asks",
            tuple(
                f"Rule “{rule.name}”: only rows where {replace_ids_with_names(rule.text, model.schema)}."
                for rule in model.reader.rules
            ),
        ),
        ExplainStep("Parameters", tuple(f"{name} is {words}." for name, words in settings or ())),
        ExplainStep(
            "Filters", tuple(line for home in homes for line in _describe_filters(query, model, context, home))
        ),
        ExplainStep("Groups", (_describe_groups(query, model, result.groups),)),
        ExplainStep(
            "Measures", tuple(line for measure, node in nodes for line in _measure(measure, node, model, query))
        ),
        ExplainStep(
            "Groups left out", tuple(f"Only {f.describe(model.schema)}." for f in query.filters if f.get_group_filter())
        ),
        ExplainStep("Kept", _describe_top_n(query, model)),
        ExplainStep("Totals", _describe_totals(query, model)),
        ExplainStep("Drawn", tuple(result.notes) or (f"All {pluralise(result.groups, 'group')}.",)),
    ]
    return [step for step in steps if step.lines]


def _list_homes(node: TypedExpression, model: Model) -> list[str]:
    """The tables whose rows a measure aggregates."""
    if (
        node.function is not None
        and node.function.level is Level.AGGREGATE
        and not any(a and a.level is Level.GRAIN for a in node.arguments)
    ):
        return [model.find_home(node.fields, node)]
    return [home for argument in (*node.arguments, node.where) if argument for home in _list_homes(argument, model)]


def _describe_table(model: Model, home: str, query: Query) -> str:
    brought = {model.schema[g.field].table for g in query.groups} | {
        model.schema[name].table for f in query.filters for name in f.list_fields()
    }
    lookups = [model.get_table_name(each.table) for each in model.reach(home).lookups if each.table in brought]
    beside = f", with {' and '.join(lookups)} looked up beside each row" if lookups else ""
    return f"{model.get_table_name(home)}: {model.count_rows(home):,} rows{beside}."


def _describe_filters(query: Query, model: Model, context: Context, home: str) -> list[str]:
    """Each filter with the rows that are left after it."""
    rows, _ = resolve_filters(query.filters, model, context)
    said = []
    for i, filter_ in enumerate(rows, 1):
        engine = Engine(Scope(model, rows[:i], context))
        left = engine.scan_rows(home, CellLevel(), set(), (), ordered=False).select(pl.len()).collect().item()
        reaches = engine.follows(filter_, home)
        words = lower_first(filter_.describe(model.schema))
        said.append(
            f"{model.get_table_name(home)}, only {words}: {left:,} rows left."
            if reaches
            else f"{model.get_table_name(home)} is not narrowed by “{words}”."
        )
    return said


def _describe_groups(query: Query, model: Model, groups: int) -> str:
    if not query.groups:
        return "No dimension: one value over all rows."
    names = " and ".join(lower_first(label_grouping(group, model.schema)) for group in query.groups)
    return f"Grouped by {names}: {pluralise(groups, 'group')} in the end."


def _measure(measure: Measure, node: TypedExpression, model: Model, query: Query) -> list[str]:
    name = measure_words(measure, model.schema)
    text = measure.formula or (model.schema[measure.field].formula if measure.field else "")
    homes = [model.get_table_name(home) for home in dict.fromkeys(_list_homes(node, model))]
    how = (
        f"{name}: {replace_ids_with_names(text, model.schema)}"
        if text and not name.startswith(replace_ids_with_names(text, model.schema))
        else name
    )
    lines = [
        f"{how}, worked out in {' and '.join(homes)}." if homes else f"{how}: a plain number, whatever is filtered."
    ]
    levels = _collect_levels(node)
    if Level.TIME in levels:
        axis = next((group for group in query.groups if group.is_time_axis), None)
        over = f"the periods of {label_grouping(axis, model.schema)}" if axis else "the period the date filter says"
        lines.append(
            f"It looks at other periods, counted from {over}; the filter on that date narrows only what is shown."
        )
    if Level.GRAIN in levels:
        lines.append("A part of it is worked out at a grain of its own, after the filters.")
    return lines


def _collect_levels(node: TypedExpression) -> set[Level]:
    levels = {node.function.level if node.function else node.level, node.level}
    return levels.union(*(_collect_levels(argument) for argument in (*node.arguments, node.where) if argument))


def _describe_top_n(query: Query, model: Model) -> tuple[str, ...]:
    if not query.keep:
        return ()
    keep = query.keep
    rest = (
        "; the others are gathered in one and worked out from their rows" if keep.rest else "; the others are left out"
    )
    return (f"The {keep.end} {keep.count_words} by {lower_first(measure_words(keep.by, model.schema))}{rest}.",)


def _describe_totals(query: Query, model: Model) -> tuple[str, ...]:
    if not query.totals:
        return ()
    return tuple(
        f"{measure_words(m, model.schema)}: {TOTAL_WORDS[get_total(m, model.schema)]}." for m in query.measures
    )
