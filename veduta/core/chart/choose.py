"""Choose the kind of drawing that suits the fields, and say why in a word."""

from __future__ import annotations

from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.kinds import CHART_KINDS, ChartKind, ChartShape, get_kind
from veduta.core.model.model import Model

BY_ITSELF = [kind for kind in CHART_KINDS.values() if type(kind).fit_score is not ChartKind.fit_score]
"""The kinds that are not only drawn when they are chosen."""


def choose_kind(definition: ChartDefinition, model: Model) -> tuple[ChartKind, str]:
    """The kind to draw, and the reason for it; an own choice that does not fit the fields is replaced, with the reason.

    Raises DefinitionProblem for a kind that there is not."""
    asked = ChartShape(definition, model)
    own = get_kind(definition.kind) if definition.kind else None
    problem = own.explain_unsupported(asked) if own else ""
    if own and not problem:
        return own, ""
    kind, reason = pick_best_kind(asked)
    return kind, f"{problem} {reason[0].upper()}{reason[1:]}" if own else reason


def pick_best_kind(asked: ChartShape) -> tuple[ChartKind, str]:
    """The kind that suits what is asked best, and why."""
    fitting = [
        (suits, kind) for kind in BY_ITSELF if not kind.explain_unsupported(asked) and (suits := kind.fit_score(asked))
    ]
    best, kind = max(fitting, key=lambda each: each[0].score)
    return kind, best.why
