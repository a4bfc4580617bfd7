"""Text with variables: ``/departures?stop={{stop}}``, or ``{{token | base64}}`` where it is sent in another writing."""

from __future__ import annotations

import json
import re
from base64 import b64encode
from collections.abc import Callable, Mapping
from urllib.parse import quote

_VARIABLE = re.compile(r"\{\{\s*([A-Za-z_][A-Za-z0-9_]*)\s*(?:\|\s*(base64|url)\s*)?\}\}")
_CONTROLS = re.compile(r"[\x00-\x1f\x7f]")
_ANY = re.compile(r"\{\{(.*?)\}\}")
_FILTER = re.compile(r"\|\s*(?:base64|url)\s*$")


def variables(text: str) -> tuple[str, ...]:
    """Names used in ``text``, in order; a malformed one is given as it stands."""
    return tuple(_FILTER.sub("", match).strip() for match in _ANY.findall(text))


def compiled(text: str, encode: Callable[[str], str] | None = None) -> Callable[[Mapping[str, str]], str]:
    """A function that fills ``text`` from a mapping of values, each encoded for where it stands."""
    parts = _VARIABLE.split(text)
    if len(parts) == 1:
        return lambda values: text
    head, names, writings, fixed = parts[0], parts[1::3], parts[2::3], parts[3::3]
    tails = tuple(zip(names, fixed, strict=True))

    def fill(values: Mapping[str, str]) -> str:
        return head + "".join([values[name] + tail for name, tail in tails])

    def fill_encoded(values: Mapping[str, str]) -> str:
        assert encode is not None  # only used with one
        return head + "".join([encode(values[name]) + tail for name, tail in tails])

    if any(writings):
        pieces = tuple(zip(names, [WRITINGS.get(writing, _as_it_is) for writing in writings], fixed, strict=True))
        last = encode or _as_it_is
        return lambda values: head + "".join([last(write(values[name])) + tail for name, write, tail in pieces])
    return fill if encode is None else fill_encoded


def _as_it_is(value: str) -> str:
    return value


def in_base64(value: str) -> str:
    return b64encode(value.encode()).decode()


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


WRITINGS: dict[str | None, Callable[[str], str]] = {"base64": in_base64, "url": in_form}
"""What may stand behind a variable's name."""
