"""Choose the kind of drawing that suits the fields, and say why in a word."""

from __future__ import annotations

from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.kinds import KINDS, Asked, Kind, kind_named
from veduta.core.model.model import Model

BY_ITSELF = [kind for kind in KINDS.values() if type(kind).suits is not Kind.suits]
"""The kinds that are not only drawn when they are chosen."""


def choose_kind(definition: ChartDefinition, model: Model) -> tuple[Kind, str]:
    """The kind to draw, and the reason for it; an own choice that does not fit
    the fields is replaced, with the reason. Raises DefinitionProblem for a kind that there is not."""
    asked = Asked(definition, model)
    own = kind_named(definition.kind) if definition.kind else None
    problem = own.unfit(asked) if own else ""
    if own and not problem:
        return own, ""
    kind, reason = suited(asked)
    return kind, f"{problem} {reason[0].upper()}{reason[1:]}" if own else reason


def suited(asked: Asked) -> tuple[Kind, str]:
    """The kind that suits what is asked best, and why."""
    fitting = [(suits, kind) for kind in BY_ITSELF if not kind.unfit(asked) and (suits := kind.suits(asked))]
    best, kind = max(fitting, key=lambda each: each[0].score)
    return kind, best.why
