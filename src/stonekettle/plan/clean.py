"""Plain data that may be kept: what every document and every request must be before anything reads it.

Text without NUL and lone surrogates (no database and no browser takes them), numbers that are finite and
fit 64 bits, no dates or binary, names as text, bounded depth and size.
"""

from __future__ import annotations

import json
import math
import re
from collections.abc import Iterator
from typing import Any

import yaml

from stonekettle.plan.problems import PlanError, Problem

MAX_DEPTH = 60
MAX_VALUES = 60_000
"""So many values a document may have, aliases written out."""
LARGEST = 2**63 - 1


_NUMBERS = {
    "tag:yaml.org,2002:int": re.compile(r"[-+]?(?:0|[1-9][0-9_]*|0x[0-9a-fA-F_]+|0b[01_]+|0o?[0-7_]+)$"),
    "tag:yaml.org,2002:float": re.compile(
        r"[-+]?(?:[0-9][0-9_]*\.[0-9_]*(?:[eE][-+]?[0-9]+)?|\.[0-9][0-9_]*(?:[eE][-+]?[0-9]+)?"
        r"|\.(?:inf|Inf|INF))$|\.(?:nan|NaN|NAN)$"
    ),
}


class _Loader(yaml.CSafeLoader):
    """YAML without dates and numbers to the base of 60: those are text here, as people mean them."""


_Loader.yaml_implicit_resolvers = {
    first: [(tag, _NUMBERS.get(tag, pattern)) for tag, pattern in resolvers if tag != "tag:yaml.org,2002:timestamp"]
    for first, resolvers in yaml.CSafeLoader.yaml_implicit_resolvers.items()
}


def from_yaml(text: str) -> Any:
    """Plain data from YAML. Raises :class:`PlanError`, or yaml.YAMLError where it is not YAML."""
    _checked_text("document", text)
    _bounded(text)
    try:
        return checked(yaml.load(text, Loader=_Loader))
    except ValueError as error:
        if isinstance(error, PlanError):
            raise
        raise PlanError([Problem("document", "a number or date in it cannot be read.", "Put it in quotes.")]) from error


def nodes(text: str) -> yaml.Node | None:
    """The nodes of a YAML text, each with its place in it. Raises as :func:`from_yaml`."""
    _checked_text("document", text)
    _bounded(text)
    return yaml.compose(text, Loader=_Loader)


def from_json(data: bytes | str) -> Any:
    """Plain data from JSON. Raises :class:`PlanError` where it cannot be read or kept."""
    try:
        return checked(json.loads(data))
    except RecursionError as error:
        raise _too_deep("body") from error
    except ValueError as error:
        if isinstance(error, PlanError):
            raise
        raise PlanError([Problem("body", "this is not JSON.", "Send a JSON document.")]) from error


def checked(value: Any) -> Any:
    """``value`` as it is, once everything in it may be kept. Raises :class:`PlanError` at the first that may not."""
    for count, (path, part) in enumerate(_walk("", value, 0)):
        if count > MAX_VALUES:
            raise _too_many()
        place = path or "document"
        if isinstance(part, str):
            _checked_text(place, part)
        elif isinstance(part, bool) or part is None:
            continue
        elif isinstance(part, int):
            if abs(part) > LARGEST:
                raise PlanError([Problem(place, "the number is too large.", f"Use at most {LARGEST}.")])
        elif isinstance(part, float):
            if not math.isfinite(part):
                raise PlanError([Problem(place, f"{part} is no number to work with.", "Use a finite number.")])
        elif not isinstance(part, (dict, list)):
            raise PlanError([Problem(place, f"a {type(part).__name__} cannot be used here.", "Put it in quotes.")])
    return value


def _walk(path: str, value: Any, depth: int) -> Iterator[tuple[str, Any]]:
    """Every value with its path, a container before what it holds."""
    if depth > MAX_DEPTH:
        raise _too_deep(path)
    yield path, value
    if isinstance(value, dict):
        for name, item in value.items():
            if not isinstance(name, str):
                problem = Problem(path or "document", f"the name {name!r} is not text.", "Put it in quotes.")
                raise PlanError([problem])
            _checked_text(path or "document", name)
            yield from _walk(f"{path}.{name}" if path else name, item, depth + 1)
    elif isinstance(value, list):
        for place, item in enumerate(value):
            yield from _walk(f"{path}[{place}]", item, depth + 1)


def _bounded(text: str) -> None:
    """Refuse a document nested too deep or too large, aliases written out, before it is put together: that
    would take the stack of the process, or its memory."""
    open_nodes: list[tuple[str | None, int]] = []  # their anchors, and the values before each
    sizes: dict[str, int] = {}
    values = 0
    for event in yaml.parse(text, Loader=yaml.CSafeLoader):
        if isinstance(event, yaml.CollectionStartEvent):
            open_nodes.append((event.anchor, values))
            if len(open_nodes) > MAX_DEPTH:
                raise _too_deep("document")
            values += 1
        elif isinstance(event, yaml.CollectionEndEvent):
            anchor, before = open_nodes.pop()
            if anchor is not None:
                sizes[anchor] = values - before
        elif isinstance(event, yaml.AliasEvent):
            values += sizes.get(str(event.anchor), 1)
        elif isinstance(event, yaml.ScalarEvent):
            values += 1
        if values > 2 * MAX_VALUES:  # the names of fields are not counted as values
            raise _too_many()


def _checked_text(path: str, text: str) -> None:
    if "\0" in text:
        raise PlanError([Problem(path, "the text holds a NUL character.", "Remove it.")])
    try:
        text.encode()
    except UnicodeEncodeError as error:
        problem = Problem(path, "the text holds half a character (a lone surrogate).", "Remove it.")
        raise PlanError([problem]) from error


def _too_deep(path: str) -> PlanError:
    return PlanError([Problem(path[:200], f"it is nested over {MAX_DEPTH} levels deep.", "Flatten it.")])


def _too_many() -> PlanError:
    message = f"it has over {MAX_VALUES} values, aliases written out."
    return PlanError([Problem("document", message, "Shorten it, or keep rows in a feed.")])
