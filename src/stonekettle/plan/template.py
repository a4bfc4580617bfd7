"""Text with variables: ``/departures?stop={{stop}}``."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Mapping
from urllib.parse import quote

_VARIABLE = re.compile(r"\{\{\s*([A-Za-z_][A-Za-z0-9_]*)\s*\}\}")
_CONTROLS = re.compile(r"[\x00-\x1f\x7f]")
_ANY = re.compile(r"\{\{(.*?)\}\}")


def variables(text: str) -> tuple[str, ...]:
    """Names used in ``text``, in order; a malformed one is given as it stands."""
    return tuple(match.strip() for match in _ANY.findall(text))


def compiled(text: str, encode: Callable[[str], str] | None = None) -> Callable[[Mapping[str, str]], str]:
    """A function that fills ``text`` from a mapping of values, each encoded for where it stands."""
    parts = _VARIABLE.split(text)
    if len(parts) == 1:
        return lambda values: text
    fixed, names = parts[::2], parts[1::2]
    tails = tuple(zip(names, fixed[1:], strict=True))
    head = fixed[0]

    def fill(values: Mapping[str, str]) -> str:
        return head + "".join([values[name] + tail for name, tail in tails])

    def fill_encoded(values: Mapping[str, str]) -> str:
        assert encode is not None  # only used with one
        return head + "".join([encode(values[name]) + tail for name, tail in tails])

    return fill if encode is None else fill_encoded


def in_address(value: str) -> str:
    """A value as part of a path or a query."""
    return quote(value, safe="/:@!$'()*,;~")


def in_form(value: str) -> str:
    return quote(value, safe="")


def in_header(value: str) -> str:
    """A value within a header's line: whatever would end the line becomes a space."""
    return _CONTROLS.sub(" ", value)


def in_json(value: str) -> str:
    """A value within the quotes of a JSON string."""
    return json.dumps(value, ensure_ascii=False)[1:-1]
