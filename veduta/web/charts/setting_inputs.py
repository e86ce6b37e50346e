"""The inputs of a kind's settings, made from how the kind declares them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.kinds import ChartKind, ChartShape


@dataclass(frozen=True)
class SettingInput:
    """A setting with its value: `choices` to choose among, yes or no, or a number or text to type."""

    name: str
    label: str
    value: Any
    usual: Any
    choices: list[tuple[Any, str]]

    @property
    def look(self) -> str:
        if self.choices:
            return "choices"
        if isinstance(self.usual, bool):
            return "yes or no"
        return "text" if isinstance(self.usual, str) else "number"


def list_setting_inputs(kind: ChartKind, definition: ChartDefinition, asked: ChartShape) -> list[SettingInput]:
    """Those that say something about what the chart asks for."""
    chosen = kind.set(definition)
    inputs = []
    for name in kind.list_offered_settings(asked):
        declared = kind.settings.model_fields[name]
        extra = declared.json_schema_extra if isinstance(declared.json_schema_extra, dict) else {}
        words: Any = extra.get("words") or {}
        value = getattr(chosen, name)
        inputs.append(SettingInput(name, declared.title or name, value, declared.default, list(words.items())))
    return inputs
