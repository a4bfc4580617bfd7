"""What differs between two states of something, by paths."""

from __future__ import annotations

import json
from collections.abc import Iterator
from itertools import islice
from typing import Any

MOST = 200
LONGEST = 400
"""A value is told up to so many characters."""


def between(before: Any, after: Any) -> list[dict[str, Any]]:
    """The parts that differ, as {path, before, after}; what is not there is null. At most ``MOST``."""
    return [
        {"path": path, "before": _short(old), "after": _short(new)}
        for path, old, new in islice(_parts("", before, after), MOST)
    ]


def _parts(path: str, before: Any, after: Any) -> Iterator[tuple[str, Any, Any]]:
    if before == after:
        return
    if isinstance(before, dict) and isinstance(after, dict):
        for key in {**before, **after}:
            yield from _parts(f"{path}.{key}" if path else str(key), before.get(key), after.get(key))
    elif isinstance(before, list) and isinstance(after, list):
        for i in range(max(len(before), len(after))):
            old, new = (values[i] if i < len(values) else None for values in (before, after))
            yield from _parts(f"{path}[{i + 1}]", old, new)
    else:
        yield path, before, after


def _short(value: Any) -> Any:
    if not isinstance(value, (str, dict, list)):
        return value
    text = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
    return text if len(text) <= LONGEST else f"{text[:LONGEST]} …"
