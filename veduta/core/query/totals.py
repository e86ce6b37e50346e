"""Totals over the cells that are shown, each by the rule of its measure."""

from __future__ import annotations

from collections.abc import Iterable

import polars as pl

from veduta.core.data.fields import Total
from veduta.core.errors import DefinitionProblem
from veduta.core.phrases import pluralise
from veduta.core.query.comparable_periods import ComparedTotal, compute_comparable_total
from veduta.core.query.engine import Engine
from veduta.core.query.engine.levels import CellLevel, make_group_key
from veduta.core.query.measures import get_total, measure_heading, measure_words
from veduta.core.query.plan import QueryPlan, add_shown, pick_columns, place_showing
from veduta.core.query.top_n import REST, VisibleCells

Positions = tuple[int, ...]
"""A total, by the positions of the dimensions that it keeps apart: () is the grand total."""
Totals = dict[Positions, pl.DataFrame]


def compute_totals(asked: QueryPlan, shown: VisibleCells) -> Totals:
    """The totals that the query wants, each with the dimensions it keeps apart as "d0" … and all measures as "m0" ….

    Raises DefinitionProblem for a rule that does not suit a measure."""
    wanted, gathered = asked.query.totals, shown.gathered
    totalling = _Totalling(asked)
    if gathered is None:
        return totalling.compute(shown.cells, shown.cells, wanted, shown.narrowed)
    dimension = asked.groups[gathered.position]
    apart = [total for total in wanted if dimension in [asked.query.groups[i] for i in total]]
    behind = pl.concat([gathered.kept.select(asked.keys), gathered.dropped.select(asked.keys)])
    others = totalling.compute(behind, shown.cells, [total for total in wanted if total not in apart], shown.narrowed)
    is_rest = pl.col(REST).fill_null(False)
    main = totalling.compute(gathered.kept, shown.cells.filter(~is_rest), apart, True)
    without = {total: tuple(i for i in total if asked.query.groups[i] != dimension) for total in apart}
    rest = totalling.compute(gathered.dropped, shown.cells.filter(is_rest), dict.fromkeys(without.values()), True)
    for total in apart:
        lines = rest[without[total]].with_columns(pl.lit(True).alias(REST))
        others[total] = pl.concat([main[total], lines], how="diagonal_relaxed")
    return {total: others[total] for total in wanted}


class _Totalling:
    """Works out totals of a question's measures."""

    def __init__(self, asked: QueryPlan) -> None:
        self.asked = asked
        self.rules = [get_total(measure, asked.schema) for measure in asked.query.measures]
        if asked.query.totals:
            self._must_suit()

    def _must_suit(self) -> None:
        for measure, node, rule in zip(self.asked.query.measures, self.asked.nodes, self.rules, strict=True):
            if rule in ("sum", "mean") and not (node.kind is None or node.kind.is_number):
                raise DefinitionProblem(
                    f"The {rule} of “{measure_words(measure, self.asked.schema)}” cannot be a total: it holds"
                    f" {node.kind.words} values.",
                    hint="Choose another rule for its totals.",
                )

    def compute(self, cells: pl.DataFrame, shown: pl.DataFrame, wanted: Iterable[Positions], narrowed: bool) -> Totals:
        """Totals over these cells of the chart, which are shown as the rows of `shown`."""
        wanted = tuple(wanted)
        if not wanted:
            return {}
        asked = self.asked
        engine = asked.make_engine(cells, narrowed)
        places = {total: place_showing(tuple(dict.fromkeys(asked.query.groups[i] for i in total))) for total in wanted}
        again = [node for node, rule in zip(asked.nodes, self.rules, strict=True) if rule == "again"]
        for place in places.values():
            engine.want(place, engine.find_home_table(asked.nodes[0], place) if asked.nodes else "")
        engine.gather((node, place) for place in places.values() for node in again)
        return {
            total: self._compute_total(engine, place, total, cells, shown, narrowed) for total, place in places.items()
        }

    def _compute_total(
        self,
        engine: Engine,
        place: CellLevel,
        positions: Positions,
        cells: pl.DataFrame,
        shown: pl.DataFrame,
        narrowed: bool,
    ) -> pl.DataFrame:
        """The totals of a place: columns d0 and so on of its dimensions, then m0 and so on of the measures."""
        asked = self.asked
        again = [i for i, rule in enumerate(self.rules) if rule == "again"]
        columns = engine.put_columns([asked.nodes[i] for i in again], place)
        keys = {f"d{i}": make_group_key(asked.query.groups[i]) for i in positions}
        measures = {f"m{i}": column for i, column in zip(again, columns, strict=True)}
        total = pick_columns(add_shown(engine.cells[place].frame, engine, place), keys | measures)
        of_shown = [
            _aggregate_shown(shown, name, rule).alias(f"m{i}")
            for i, (name, rule) in enumerate(zip(asked.names, self.rules, strict=True))
            if rule != "again"
        ]
        own = [pl.col(key).alias(name) for name, key in keys.items()]
        if of_shown and keys:
            total = total.join(shown.group_by(own).agg(of_shown), on=list(keys), how="left", nulls_equal=True)
        elif of_shown:
            total = pl.concat([total, shown.select(of_shown)], how="horizontal")
        total = self._compare_like_for_like(total, place, keys, cells, narrowed)
        if narrowed and keys:
            total = total.join(shown.select(own).unique(), on=list(keys), how="semi", nulls_equal=True)
        total = total[[*keys, *(f"m{i}" for i in range(len(asked.names)))]]
        return total.sort(list(keys), nulls_last=True) if keys else total

    def _compare_like_for_like(
        self, total: pl.DataFrame, place: CellLevel, keys: dict[str, str], cells: pl.DataFrame, narrowed: bool
    ) -> pl.DataFrame:
        """A total in which measures that compare periods count only those that have both, with a note."""
        asked = self.asked
        for i, (node, rule) in enumerate(zip(asked.nodes, self.rules, strict=True)):
            compared = compute_comparable_total(asked, node, place, cells, narrowed) if rule == "again" else None
            if compared is None:
                continue
            own = {name: compared.values[key] for name, key in keys.items()}
            none = pl.lit(None, dtype=total.schema[f"m{i}"])
            if not compared.values.height:
                total = total.with_columns(none.alias(f"m{i}"))
            elif keys:
                values = pl.DataFrame(own | {f"m{i}": compared.values["value"]})
                total = total.drop(f"m{i}").join(values, on=list(keys), how="left", nulls_equal=True)
            else:
                total = total.with_columns(pl.lit(compared.values["value"][0]).alias(f"m{i}"))
            self._say_periods(i, compared)
        return total

    def _say_periods(self, position: int, compared: ComparedTotal) -> None:
        asked = self.asked
        axis = asked.engine.find_axis(asked.place)
        assert axis is not None, "periods are compared along a time axis"
        name = measure_heading(asked.query.measures[position], asked.schema)
        if compared.is_refused:
            note = f"Totals of “{name}” are not given: too many lines have periods of their own to compare."
        else:
            note = f"Totals of “{name}” count the {axis.period.words}s that have both values"
            some = f": {compared.counted:,} of {pluralise(compared.shown, axis.period.words)}"
            note += f"{some if compared.counted < compared.shown else ', line by line'}."
        if compared.shown and note not in asked.notes:
            asked.notes.append(note)


def _aggregate_shown(shown: pl.DataFrame, name: str, rule: Total) -> pl.Expr:
    """A total of the values shown; empty where there are none."""
    if rule == "none":
        return pl.lit(None, dtype=shown.schema[name])
    return pl.when(pl.col(name).count() > 0).then(getattr(pl.col(name), rule)())
