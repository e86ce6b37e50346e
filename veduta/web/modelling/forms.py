"""What the forms of a model's page send, as arguments of its edits."""

from __future__ import annotations

from typing import Any

from django.core.exceptions import ValidationError
from django.http import QueryDict

from veduta.core.errors import VedutaError
from veduta.web.datasets.models import Dataset

NOT_ARGUMENTS = {"do", "section", "revision", "anyway", "csrfmiddlewaretoken"}


MOST_KEYS = 6
"""So many pairs of columns the form of a join has at most."""


def read_arguments(form: QueryDict) -> dict[str, Any]:
    """The arguments of the edit that a form names in `do`."""
    sent: dict[str, Any] = {name: form[name] for name in form if name not in NOT_ARGUMENTS}
    made = MADE.get(form.get("do", ""))
    return made(sent, form) if made else sent


def _read_table(sent: dict[str, Any], form: QueryDict) -> dict[str, Any]:
    """Without a name it is called like its dataset."""
    try:
        dataset = Dataset.objects.get(pk=sent.get("dataset") or None, deleted_at=None)
    except (Dataset.DoesNotExist, ValueError, ValidationError):  # the last for an id that is none
        raise VedutaError("That dataset does not exist any more.") from None
    return {"dataset": str(dataset.pk), "name": sent.get("name", "").strip() or dataset.name}


def _read_join(sent: dict[str, Any], form: QueryDict) -> dict[str, Any]:
    """The keys come as left0, right0, grain0, left1 …; those that are not chosen on both sides are left out."""
    pairs = [{side: sent.get(f"{side}{i}", "") for side in ("left", "right", "grain")} for i in range(MOST_KEYS)]
    keys = [pair for pair in pairs if pair["left"] and pair["right"]]
    return {"left": sent.get("left", ""), "right": sent.get("right", ""), "keys": keys}


def _read_parameter(sent: dict[str, Any], form: QueryDict) -> dict[str, Any]:
    """Choices come one a line, "value = label"; usual values with semicolons between."""
    choices = []
    for line in sent.pop("choices", "").splitlines():
        value, _, label = line.partition("=")
        if value.strip():
            choices.append({"value": value.strip(), "label": label.strip()})
    default = [part.strip() for part in sent.pop("default", "").split(";") if part.strip()]
    return sent | {"choices": choices, "default": default}


def _read_path(sent: dict[str, Any], form: QueryDict) -> dict[str, Any]:
    fields = [sent[f"field{i}"] for i in range(10) if sent.get(f"field{i}")]
    return {"name": sent.get("name", ""), "fields": fields}


def _read_rule(sent: dict[str, Any], form: QueryDict) -> dict[str, Any]:
    return sent | {"groups": form.getlist("groups")}


MADE = {
    "add_table": _read_table,
    "set_join": _read_join,
    "save_parameter": _read_parameter,
    "save_path": _read_path,
    "save_rule": _read_rule,
}
