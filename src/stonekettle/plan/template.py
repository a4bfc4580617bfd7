"""Text with variables: ``/departures?stop={{stop}}``."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping

_VARIABLE = re.compile(r"\{\{\s*([A-Za-z_][A-Za-z0-9_]*)\s*\}\}")
_ANY = re.compile(r"\{\{(.*?)\}\}")


def variables(text: str) -> tuple[str, ...]:
    """Names used in ``text``, in order; a malformed one is given as it stands."""
    return tuple(match.strip() for match in _ANY.findall(text))


def compiled(text: str) -> Callable[[Mapping[str, str]], str]:
    """A function that fills ``text`` from a mapping of values."""
    parts = _VARIABLE.split(text)
    if len(parts) == 1:
        return lambda values: text
    fixed, names = parts[::2], parts[1::2]
    tails = tuple(zip(names, fixed[1:], strict=True))
    head = fixed[0]

    def fill(values: Mapping[str, str]) -> str:
        return head + "".join([values[name] + tail for name, tail in tails])

    return fill
