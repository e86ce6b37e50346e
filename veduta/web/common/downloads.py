"""Answers that the browser keeps as files."""

from __future__ import annotations

import re
from typing import TypeVar
from urllib.parse import quote

from django.http import HttpResponseBase

Answer = TypeVar("Answer", bound=HttpResponseBase)


def send_as_file(answer: Answer, name: str) -> Answer:
    """The answer as a file of that name, as far as names of files can hold it."""
    safe = re.sub(r'[\x00-\x1f"\\/]', "_", name)
    plain = safe.encode("ascii", "ignore").decode()
    answer["Content-Disposition"] = f"attachment; filename=\"{plain}\"; filename*=UTF-8''{quote(safe)}"
    return answer
