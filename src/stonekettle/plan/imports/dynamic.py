"""Which values of a recording must be kept anew each time?

A value that an answer delivered and a later request sent back (a hidden field, an identifier in
JSON or in an address) belongs to that one visit. What the person typed first does not: it was
sent before any answer held it.
"""

from __future__ import annotations

import html
import json
import re
from collections.abc import Iterable, Iterator, Sequence
from copy import deepcopy
from dataclasses import dataclass
from functools import cached_property
from typing import Any
from urllib.parse import parse_qsl, quote, unquote, urlsplit

from stonekettle.plan.imports.har import Entry, RecordedStep
from stonekettle.plan.response_text import form_fields, json_leaves

CONTEXT = 24
MIN_LENGTH = 4
_NAME = re.compile(r"[^A-Za-z0-9]+")


@dataclass(frozen=True)
class Place:
    """Where in a step a value is sent: "form field zone", "address"."""

    step: int
    where: str


@dataclass(frozen=True)
class Proposal:
    """A value to keep as ``name`` from the answer of step ``step``, and where it is used later."""

    name: str
    step: int
    keep: dict[str, str]
    value: str
    used: tuple[Place, ...]


class _Answer:
    """An answer with what it delivers, looked up once."""

    def __init__(self, entry: Entry) -> None:
        self.entry = entry

    @cached_property
    def fields(self) -> dict[str, list[str]]:
        """Names of form fields by value."""
        found: dict[str, list[str]] = {}
        for name, value in form_fields(self.entry.answer):
            found.setdefault(value, []).append(name)
        return found

    @cached_property
    def leaves(self) -> dict[str, str]:
        """The first place in JSON by value."""
        if "json" not in self.entry.answer_type:
            return {}
        found: dict[str, str] = {}
        for path, value in json_leaves(_parsed(self.entry.answer)):
            found.setdefault(str(value), path)
        return found


def proposals(steps: Sequence[RecordedStep]) -> tuple[Proposal, ...]:
    """Every such value, in the order in which they are needed."""
    found: dict[str, Proposal] = {}
    typed: set[str] = set()
    answers = [_Answer(step.final) for step in steps]
    for index, step in enumerate(steps):
        for where, value, hint in _sent(step.document):
            if value in found:
                known = found[value]
                place = Place(index, where)
                found[value] = Proposal(known.name, known.step, known.keep, value, (*known.used, place))
                continue
            if value in typed:
                continue
            source = _delivered(answers[:index], value, hint)
            if source is None:
                typed.add(value)
                continue
            at, keep, name = source
            taken = {proposal.name for proposal in found.values()}
            found[value] = Proposal(_free(name, taken), at, keep, value, (Place(index, where),))
    return tuple(found.values())


def accepted(document: dict[str, Any], chosen: Iterable[Proposal]) -> dict[str, Any]:
    """The document with the chosen values kept where they are delivered and used where they were sent."""
    made = deepcopy(document)
    for proposal in chosen:
        step = made["steps"][proposal.step]
        step.setdefault("keep", []).append({"name": proposal.name, **proposal.keep})
        for place in proposal.used:
            _replace(made["steps"][place.step], proposal.value, "{{" + proposal.name + "}}")
    return made


def _sent(step: dict[str, Any]) -> Iterator[tuple[str, str, str]]:
    """Everything a request sends that may have come from an answer: where, value, the name it goes by."""
    parts = urlsplit(step["request"].partition(" ")[2])
    for segment in parts.path.split("/"):
        if _looks_made(unquote(segment)):
            yield "address", unquote(segment), ""
    for name, value in parse_qsl(parts.query):
        if _looks_made(value):
            yield f"query {name}", value, name
    for name, value in (step.get("form") or {}).items():
        if value:
            yield f"form field {name}", value, name
    for name, value in (step.get("headers") or {}).items():
        if _looks_made(value):
            yield f"header {name}", value, name
    for path, value in json_leaves(step.get("json")):
        if _looks_made(str(value)):
            yield f"JSON {path}", str(value), path.rpartition(".")[2]


def _delivered(earlier: Sequence[_Answer], value: str, hint: str) -> tuple[int, dict[str, str], str] | None:
    """The last step whose answer held the value: which, how to keep it, and a name for it."""
    for index in range(len(earlier) - 1, -1, -1):
        answer = earlier[index]
        for name in answer.fields.get(value, ()):
            if name == hint or _looks_made(value):
                return index, {"field": name}, name
        if not _looks_made(value):
            continue
        if value in answer.leaves:
            path = answer.leaves[value]
            return index, {"json": path}, hint or path.rpartition(".")[2]
        for name, own in answer.entry.answer_headers.items():
            if own == value and name not in ("set-cookie", "date", "etag"):
                return index, {"header": name}, hint or name
        if pattern := _pattern(answer.entry.answer, value):
            return index, {"regex": pattern}, hint or "number"
    return None


def _parsed(text: str) -> Any:
    try:
        return json.loads(text)
    except ValueError:
        return None


def _pattern(text: str, value: str) -> str | None:
    """A regular expression that finds the value by what stands around it."""
    for written in dict.fromkeys((value, html.escape(value), quote(value, safe=""))):
        at = text.find(written)
        if at < 0:
            continue
        before = text[max(0, at - CONTEXT) : at].rpartition("\n")[2]
        after = text[at + len(written) : at + len(written) + 1]
        if not before.strip() or not after.strip():
            continue
        return f"{re.escape(before)}([^{re.escape(after)}]+)"
    return None


def _looks_made(value: str) -> bool:
    """Whether a program may have made it up: long enough, and more than a word."""
    if len(value) < MIN_LENGTH or value.startswith("{{"):
        return False
    return any(c.isdigit() for c in value) or (len(value) >= 12 and not value.isalpha() and " " not in value)


def _free(wanted: str, taken: set[str]) -> str:
    name = _NAME.sub("_", wanted).strip("_").lower() or "value"
    if name[0].isdigit():
        name = f"value_{name}"
    candidates = (name if number == 1 else f"{name}_{number}" for number in range(1, len(taken) + 2))
    return next(candidate for candidate in candidates if candidate not in taken)


def _replace(step: dict[str, Any], value: str, variable: str) -> None:
    method, _, address = step["request"].partition(" ")
    for written in dict.fromkeys((value, quote(value, safe=""), quote(value))):
        address = address.replace(written, variable)
    step["request"] = f"{method} {address}"
    for key in ("form", "headers"):
        if key in step:
            step[key] = {name: variable if own == value else own for name, own in step[key].items()}
    if "json" in step:
        step["json"] = _replaced(step["json"], value, variable)


def _replaced(document: Any, value: str, variable: str) -> Any:
    if isinstance(document, dict):
        return {key: _replaced(item, value, variable) for key, item in document.items()}
    if isinstance(document, list):
        return [_replaced(item, value, variable) for item in document]
    return variable if not isinstance(document, bool) and str(document) == value else document
