"""One place in a JSON document: ``$.ticket.number``, ``$.stops[0]['full name']``."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

MISSING = object()
"""What a place that is not there gives; None is a value."""
_PART = re.compile(r"""\.([A-Za-z_][\w-]*)|\[(-?\d+)\]|\[(?:'([^']*)'|"([^"]*)")\]""")


def compiled(path: str) -> Callable[[Any], Any]:
    """A function from a parsed document to the value there, or :data:`MISSING`. Raises
    :class:`ValueError` for what is not such a path."""
    if not path.startswith("$"):
        raise ValueError("it does not begin with $")
    parts: list[str | int] = []
    at = 1
    while at < len(path):
        match = _PART.match(path, at)
        if match is None:
            raise ValueError(f"{path[at:]!r} is neither .name, [number] nor ['name']")
        name, number, single, double = match.groups()
        parts.append(int(number) if number is not None else name or single or double or "")
        at = match.end()

    def find(document: Any) -> Any:
        here = document
        for part in parts:
            try:
                here = here[part]
            except (KeyError, IndexError, TypeError):
                return MISSING
        return here

    return find
