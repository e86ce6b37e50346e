"""The ways in which a dashboard is edited, each a function from definition to definition.

The registry is what the editor can ask for: a name and arguments in JSON.
"""

from veduta.core.dashboard.edits import (
    blocks,
    chart_overrides,
    controls,
    filtering,
    mobile_layout,
    pages,
    print_layout,
    taking,
)
from veduta.core.dashboard.edits.registry import EDITS, apply_edit, place_words

__all__ = [
    "EDITS",
    "apply_edit",
    "blocks",
    "chart_overrides",
    "controls",
    "filtering",
    "mobile_layout",
    "pages",
    "place_words",
    "print_layout",
    "taking",
]
