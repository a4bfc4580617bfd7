"""Documents with one thing wrong in them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any


def edits(value: Any, odd: Sequence[Any]) -> Iterator[Any]:
    """Copies of a document, each with one part left out, added, or replaced by something ``odd``."""
    yield from odd
    if isinstance(value, dict):
        for name, item in value.items():
            yield {k: v for k, v in value.items() if k != name}
            yield from ({**value, name: edited} for edited in edits(item, odd))
        yield {**value, "surplus": 1}
    elif isinstance(value, list):
        for place, item in enumerate(value[:2]):
            yield from ([*value[:place], edited, *value[place + 1 :]] for edited in edits(item, odd))
