"""Which values of a recording must be kept anew each time?

A value that an answer delivered and a later request sent back (a hidden field, an identifier in JSON or in
an address, a token in a header, a cookie that a script set) belongs to that one visit, in whatever writing
it is delivered and sent. What the person typed first does not: it was sent before any answer held it.
"""

from __future__ import annotations

import html
import json
import re
from collections.abc import Iterable, Iterator, Sequence
from copy import deepcopy
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any
from urllib.parse import parse_qsl, quote, unquote, urlsplit

from stonekettle.plan import patterns, template
from stonekettle.plan.imports.har import RecordedStep, cookies_in
from stonekettle.plan.response_text import form_fields, json_leaves, unwritten

CONTEXT = 24
MIN_LENGTH = 4
PLAIN_LENGTH = 12
"""A value that only occurs in a script is surely made for the visit from this length on."""
_NAME = re.compile(r"[^A-Za-z0-9]+")
_SPECIAL = re.compile(r"[\\.^$*+?{}\[\]|()-]")
_SCRIPT = patterns.compiled(r"(?is)<script\b[^>]*>.*?</script>")
_NOT_KEPT = ("set-cookie", "date", "etag", "content-length", "last-modified", "location")


@dataclass(frozen=True)
class Place:
    """Where in a step a value is sent ("form field zone", "address"), as it stands there (``sent``), and in
    which writing of the value ("": as it is)."""

    step: int
    where: str
    sent: str = ""
    writing: str = ""


@dataclass(frozen=True)
class Proposal:
    """A value to keep as ``name`` from the answer of step ``step``, and where it is used later. Not ``sure``:
    it may be a mere word of the answer."""

    name: str
    step: int
    keep: dict[str, str]
    value: str
    used: tuple[Place, ...]
    sure: bool = True


@dataclass(frozen=True)
class _Source:
    keep: dict[str, str]
    name: str
    sure: bool = True


class _Answer:
    """What a step's answers deliver, looked up once."""

    def __init__(self, step: RecordedStep) -> None:
        self.entry = step.final
        self._chain = step.chain

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

    @cached_property
    def cookies(self) -> dict[str, str]:
        """Names of cookies by value."""
        return {value: name for entry in self._chain for name, value in entry.set_cookies}

    @cached_property
    def prose(self) -> str:
        """The text without programs, in which any word may stand for itself."""
        if "javascript" in self.entry.answer_type:
            return ""
        return str(_SCRIPT.sub(lambda _: "", self.entry.answer))

    def source(self, value: str, hint: str) -> _Source | None:
        """How the value can be kept from here."""
        for name in self.fields.get(value, ()):
            if name == hint or _looks_made(value):
                return _Source({"field": name}, name)
        if not _looks_made(value):
            return None
        for written, decode in _writings(value):
            if written in self.leaves:
                path = self.leaves[written]
                return _Source({"json": path, **decode}, hint or path.rpartition(".")[2])
            for name, own in self.entry.answer_headers.items():
                if own == written and name not in _NOT_KEPT:
                    return _Source({"header": name, **decode}, hint or name)
            if written in self.cookies:
                return _Source({"cookie": self.cookies[written], **decode}, hint or self.cookies[written])
        for written, decode in _writings(value):
            if pattern := _pattern(self.entry.answer, written):
                sure = len(value) >= PLAIN_LENGTH or written in self.prose
                return _Source({"regex": pattern, **decode}, hint or "number", sure)
        return None


def proposals(steps: Sequence[RecordedStep]) -> tuple[Proposal, ...]:
    """Every such value, in the order in which they are needed."""
    found: dict[str, Proposal] = {}
    typed: set[str] = set()
    answers = [_Answer(step) for step in steps]
    for index, step in enumerate(steps):
        for where, sent, hint in _sent(step.document):
            for value, writing in _meanings(sent):
                place = Place(index, where, sent, writing)
                if value in found:
                    found[value] = replace(found[value], used=(*found[value].used, place))
                    break
                if value in typed:
                    continue
                source = _delivered(answers[:index], value, hint)
                if source is None:
                    typed.add(value)
                    continue
                at, kept = source
                name = _free(kept.name, {proposal.name for proposal in found.values()})
                found[value] = Proposal(name, at, kept.keep, value, (place,), kept.sure)
                break
    return tuple(found.values())


def accepted(document: dict[str, Any], chosen: Iterable[Proposal]) -> dict[str, Any]:
    """The document with the chosen values kept where they are delivered and used where they were sent."""
    made = deepcopy(document)
    for proposal in chosen:
        step = made["steps"][proposal.step]
        step.setdefault("keep", []).append({"name": proposal.name, **proposal.keep})
        for place in proposal.used:
            writing = f" | {place.writing}" if place.writing else ""
            _replace(made["steps"][place.step], place.sent, "{{" + proposal.name + writing + "}}")
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
        if name.lower() == "cookie":
            for cookie, own in cookies_in(value):
                if _looks_made(own):
                    yield f"cookie {cookie}", own, cookie
            continue
        token = _token_of(value)
        if _looks_made(token):
            yield f"header {name}", token, "" if name.lower() == "authorization" else name
    for path, value in json_leaves(step.get("json")):
        if _looks_made(str(value)):
            yield f"JSON {path}", str(value), path.rpartition(".")[2]


def _token_of(header: str) -> str:
    """What a header tells behind the name of a scheme."""
    scheme, _, rest = header.partition(" ")
    return rest.strip() if rest and scheme.lower() in ("bearer", "token", "basic") else header


def _meanings(sent: str) -> Iterator[tuple[str, str]]:
    """What a sent text may be a writing of: itself first."""
    yield sent, ""
    for writing, back in (("base64", unwritten["base64"]), ("url", unquote)):
        try:
            value = back(sent)
        except ValueError:
            continue
        if value != sent and _looks_made(value) and value.isprintable() and template.WRITINGS[writing](value) == sent:
            yield value, writing


def _writings(value: str) -> Iterator[tuple[str, dict[str, str]]]:
    """How an answer may have written a value, and what to decode it with."""
    yield value, {}
    known = {value}
    for decode, written in (
        ("html", html.escape(value)),
        ("url", quote(value, safe="")),
        ("json", json.dumps(value)[1:-1]),
        ("json", json.dumps(value)[1:-1].replace("/", "\\/")),
        ("base64", template.in_base64(value)),
    ):
        if written not in known:
            known.add(written)
            yield written, {"decode": decode}


def _delivered(earlier: Sequence[_Answer], value: str, hint: str) -> tuple[int, _Source] | None:
    """The last step whose answer held the value, and how to keep it."""
    for index in range(len(earlier) - 1, -1, -1):
        if source := earlier[index].source(value, hint):
            return index, source
    return None


def _parsed(text: str) -> Any:
    try:
        return json.loads(text)
    except (ValueError, RecursionError):
        return None


def _pattern(text: str, written: str) -> str | None:
    """A regular expression that finds the value by what stands around it."""
    at = text.find(written)
    while at >= 0:
        before = text[max(0, at - CONTEXT) : at].rpartition("\n")[2]
        after = text[at + len(written) : at + len(written) + 1]
        if before.strip() and after.strip():
            return f"{_SPECIAL.sub(_quoted, before)}([^{_SPECIAL.sub(_quoted, after)}]+)"
        at = text.find(written, at + 1)
    return None


def _quoted(match: re.Match[str]) -> str:
    return f"\\{match[0]}"


def _looks_made(value: str) -> bool:
    """Whether a program may have made it up: long enough, and more than a word."""
    if len(value) < MIN_LENGTH or value.startswith("{{"):
        return False
    return any(c.isdigit() for c in value) or (len(value) >= 12 and not value.isalpha() and " " not in value)


def _free(wanted: str, taken: set[str]) -> str:
    name = _NAME.sub("_", wanted).strip("_").lower()[:60] or "value"
    if name[0].isdigit():
        name = f"value_{name}"
    candidates = (name if number == 1 else f"{name}_{number}" for number in range(1, len(taken) + 2))
    return next(candidate for candidate in candidates if candidate not in taken)


def _replace(step: dict[str, Any], value: str, variable: str) -> None:
    method, _, address = step["request"].partition(" ")
    for written in dict.fromkeys((value, quote(value, safe=""), quote(value))):
        address = address.replace(written, variable)
    step["request"] = f"{method} {address}"
    if "form" in step:
        step["form"] = {name: variable if own == value else own for name, own in step["form"].items()}
    if "headers" in step:
        step["headers"] = {name: _in_header(name, own, value, variable) for name, own in step["headers"].items()}
    if "json" in step:
        step["json"] = _replaced(step["json"], value, variable)


def _in_header(name: str, own: str, value: str, variable: str) -> str:
    if name.lower() == "cookie":
        return "; ".join(f"{cookie}={variable if text == value else text}" for cookie, text in cookies_in(own))
    return own.removesuffix(value) + variable if _token_of(own) == value else own


def _replaced(document: Any, value: str, variable: str) -> Any:
    if isinstance(document, dict):
        return {key: _replaced(item, value, variable) for key, item in document.items()}
    if isinstance(document, list):
        return [_replaced(item, value, variable) for item in document]
    return variable if not isinstance(document, bool) and str(document) == value else document
