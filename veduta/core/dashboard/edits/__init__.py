"""The ways in which a dashboard is edited, each a function from definition to definition.

The registry is what the editor can ask for: a name and arguments in JSON.
"""

from veduta.core.dashboard.edits import blocks, controls, narrow, narrowing, own, pages, paper, taking
from veduta.core.dashboard.edits.registry import EDITS, apply_edit, place_words

__all__ = [
    "EDITS",
    "apply_edit",
    "blocks",
    "controls",
    "narrow",
    "narrowing",
    "own",
    "pages",
    "paper",
    "place_words",
    "taking",
]
