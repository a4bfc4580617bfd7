"""One thing a user does: a step with its requests, what is kept and checked of the answer, and the wait."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from typing import Annotated, Any, Literal
from urllib.parse import quote

from pydantic import Field, field_validator, model_validator
from pydantic_core import PydanticCustomError

from stonekettle.core.distribution import Law
from stonekettle.plan import json_path, patterns
from stonekettle.plan.parts import Name, Part
from stonekettle.plan.problems import Problem
from stonekettle.plan.quantities import Duration, format_duration, parse_duration

METHODS = ("GET", "POST", "PUT", "PATCH", "DELETE", "HEAD", "OPTIONS")
BOUNDARY = "stone-kettle-part"
MAX_ACCOMPANYING = 200
Pattern = Annotated[str, Field(max_length=patterns.MAX_LENGTH)]
Few = Field(default=(), max_length=100)
_ELSEWHERE = re.compile(r"((?:https?|practice)://[^/?#{}\s]+)(?:[/?].*)?")
"""A whole address, for what is not on the system's own host."""


class Think(Part):
    """Think time after a step. Written short as "exponential 4 s" or "4 s" (fixed)."""

    law: Literal["fixed", "uniform", "exponential", "lognormal"] = "exponential"
    mean: Duration
    spread: Duration = 0.0

    @model_validator(mode="before")
    @classmethod
    def _short_form(cls, value: object) -> object:
        if not isinstance(value, str):
            return value
        word, _, rest = value.strip().partition(" ")
        if word in ("exponential", "lognormal"):
            return {"law": word, "mean": rest}
        if word == "uniform":
            low, _, high = rest.partition(" to ")
            bounds = parse_duration(low), parse_duration(high)
            return {
                "law": word,
                "mean": format_duration(sum(bounds) / 2),
                "spread": format_duration((bounds[1] - bounds[0]) / 2),
            }
        return {"law": "fixed", "mean": value}

    def as_law(self) -> Law:
        return Law(self.law, self.mean, self.spread)


def fault(kind: str, message: str, mend: str, **context: object) -> PydanticCustomError:
    return PydanticCustomError(kind, message, {**context, "mend": mend})


def impossible(path: str, pattern: str | None) -> Iterator[Problem]:
    """What is wrong with a regular expression at ``path``. Asked when a document is saved or used, not when
    it is read: what is stored stays readable when a rule changes."""
    if pattern is not None:
        try:
            patterns.compiled(pattern)
        except patterns.PatternError as error:
            yield Problem(path, f"{pattern[:200]!r} is not a regular expression here: {error}.", error.mend)


def checked_path(value: str | None) -> str | None:
    if value is not None:
        try:
            json_path.compiled(value)
        except ValueError as error:
            raise fault(
                "json_path",
                "{text} is not a JSON path: {why}.",
                "Write it like $.ticket.number or $.stops[0].",
                text=repr(value),
                why=str(error),
            ) from error
    return value


def is_address(text: str) -> bool:
    return text.startswith("/") or _ELSEWHERE.fullmatch(text) is not None


class Keep(Part):
    """A value taken from a response, used later as ``{{name}}``: from a place in JSON, by a regular
    expression (its first group), from a header, a cookie, or a field of an HTML form. ``decode`` tells in
    which writing the answer has it, where that is not as it is."""

    name: str = Field(pattern=r"^[A-Za-z_][A-Za-z0-9_]*$", max_length=80)
    json_path: str | None = Field(default=None, alias="json")
    regex: Pattern | None = None
    header: str | None = None
    cookie: str | None = None
    field: str | None = None
    decode: Literal["base64", "url", "html", "json"] | None = None

    _place = field_validator("json_path")(checked_path)

    @model_validator(mode="after")
    def _one_source(self) -> Keep:
        given = [self.json_path, self.regex, self.header, self.cookie, self.field]
        if sum(part is not None for part in given) != 1:
            mend = "Say once where the value stands."
            raise fault("keep", "a kept value needs exactly one of json, regex, header, cookie and field.", mend)
        return self

    @property
    def place(self) -> str:
        """Where the value is looked for, in words."""
        return self._where + (f", written as {self.decode}" if self.decode else "")

    @property
    def _where(self) -> str:
        if self.json_path is not None:
            return f"at {self.json_path}"
        if self.regex is not None:
            return f"matching {self.regex}"
        if self.header is not None:
            return f"in the header {self.header}"
        return f"in the cookie {self.cookie}" if self.cookie is not None else f"in the form field {self.field}"


class Check(Part):
    """Something a response must fulfil: its body ``contains``, ``lacks`` or ``matches`` a text; a
    ``json`` place or a ``header`` ``equals`` a value or ``exists``; its size; its time."""

    contains: str | None = None
    lacks: str | None = None
    matches: Pattern | None = None
    json_path: str | None = Field(default=None, alias="json")
    header: str | None = None
    equals: Any = None
    exists: bool | None = None
    at_least_bytes: int | None = Field(default=None, ge=0)
    at_most_bytes: int | None = Field(default=None, ge=0)
    within: Duration | None = None

    _place = field_validator("json_path")(checked_path)

    @model_validator(mode="after")
    def _one_thing(self) -> Check:
        subjects = [
            self.contains, self.lacks, self.matches, self.json_path, self.header,
            self.at_least_bytes, self.at_most_bytes, self.within,
        ]  # fmt: skip
        if sum(part is not None for part in subjects) != 1:
            mend = "Give each its own line."
            raise fault("check", "a check looks at exactly one thing.", mend)
        compared = (self.equals is not None) + (self.exists is not None)
        if compared != (1 if self.json_path is not None or self.header is not None else 0):
            mend = "Write 'equals: value' or 'exists: true' beside json or header, and nowhere else."
            raise fault("check", "a check of json or a header needs exactly one of equals and exists.", mend)
        return self

    @property
    def needs_body(self) -> bool:
        subjects = (
            self.contains, self.lacks, self.matches, self.json_path, self.at_least_bytes, self.at_most_bytes,
        )  # fmt: skip
        return any(part is not None for part in subjects)

    @property
    def text(self) -> str:
        """The check in words."""
        if self.contains is not None:
            return f"body contains {self.contains!r}"
        if self.lacks is not None:
            return f"body does not contain {self.lacks!r}"
        if self.matches is not None:
            return f"body matches {self.matches}"
        if self.at_least_bytes is not None:
            return f"body has at least {self.at_least_bytes} bytes"
        if self.at_most_bytes is not None:
            return f"body has at most {self.at_most_bytes} bytes"
        if self.within is not None:
            return f"answers within {format_duration(self.within)}"
        subject = self.json_path if self.json_path is not None else f"header {self.header}"
        if self.exists is not None:
            return f"{subject} exists" if self.exists else f"{subject} does not exist"
        return f"{subject} equals {self.equals!r}"


class FormPart(Part):
    """One part of a multipart form: a value, or a file with its name and type."""

    name: Name
    value: str
    filename: str | None = None
    content_type: str | None = None


class Step(Part):
    """One user action: a main request, the requests that accompany it (fetched in parallel once it
    is answered, as a browser would), what is kept and checked, and the think time that follows.
    ``recorded`` numbers the answer that a recording holds for it."""

    name: Name
    request: str
    headers: dict[str, str] = Field(default_factory=dict)
    json_body: Any = Field(default=None, alias="json")
    form: dict[str, str] | None = None
    parts: tuple[FormPart, ...] | None = None
    body: str | None = None
    accompanying: tuple[str, ...] = Field(default=(), max_length=MAX_ACCOMPANYING)
    expect_status: tuple[int, ...] = (200,)
    redirects: bool = False
    keep: tuple[Keep, ...] = Few
    checks: tuple[Check, ...] = Few
    time_limit: Duration = 30.0
    think: Think = Think(law="fixed", mean="0 s")
    enabled: bool = True
    recorded: int | None = Field(default=None, ge=0)

    @field_validator("request")
    @classmethod
    def _method_and_path(cls, value: str) -> str:
        method, _, path = value.partition(" ")
        if method not in METHODS or not is_address(path):
            raise fault(
                "request",
                "{text} is not a request.",
                "Write the method and the path: 'GET /departures'; on another host the whole address.",
                text=repr(value),
            )
        return value

    @field_validator("accompanying")
    @classmethod
    def _paths(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        for path in value:
            if not is_address(path):
                mend = "Write the path only: '/static/map.svg'; on another host the whole address."
                raise fault("accompanying", "{text} is not a path.", mend, text=repr(path))
        return value

    @field_validator("expect_status", mode="before")
    @classmethod
    def _one_or_many(cls, value: object) -> object:
        return (value,) if isinstance(value, int) else value

    @model_validator(mode="after")
    def _one_body(self) -> Step:
        given = [self.json_body, self.form, self.parts, self.body]
        if sum(part is not None for part in given) > 1:
            raise fault("body", "a request has one body.", "Keep one of json, form, parts and body.")
        return self

    @property
    def method(self) -> str:
        return self.request.partition(" ")[0]

    @property
    def path(self) -> str:
        return self.request.partition(" ")[2]

    @property
    def elsewhere(self) -> tuple[str, ...]:
        """Hosts other than the system's own that the step goes to, as ``scheme://host``."""
        matches = (_ELSEWHERE.fullmatch(address) for address in (self.path, *self.accompanying))
        return tuple(dict.fromkeys(match[1] for match in matches if match))

    def moved(self, host: str, to: str) -> Step:
        """The step with requests to ``host`` going to another one."""
        swap = {address: to + address.removeprefix(host) for address in (self.path, *self.accompanying)}
        mine = {address: new for address, new in swap.items() if address.startswith(host)}
        request = f"{self.method} {mine.get(self.path, self.path)}"
        accompanying = tuple(mine.get(address, address) for address in self.accompanying)
        return self.model_copy(update={"request": request, "accompanying": accompanying})

    @property
    def body_text(self) -> str | None:
        """The body as it is sent, variables included."""
        if self.json_body is not None:
            return json.dumps(self.json_body, ensure_ascii=False)
        if self.form is not None:
            return _form_text(self.form)
        if self.parts is not None:
            return _multipart_text(self.parts)
        return self.body

    @property
    def content_type(self) -> str | None:
        """The body's own content type; a raw body brings none."""
        if self.json_body is not None:
            return "application/json"
        if self.form is not None:
            return "application/x-www-form-urlencoded"
        return f"multipart/form-data; boundary={BOUNDARY}" if self.parts is not None else None

    def impossible(self, path: str) -> Iterator[Problem]:
        """The regular expressions of the step, which stands at ``path``, that cannot be used."""
        for k, keep in enumerate(self.keep):
            yield from impossible(f"{path}.keep[{k}].regex", keep.regex)
        for k, check in enumerate(self.checks):
            yield from impossible(f"{path}.checks[{k}].matches", check.matches)

    @property
    def texts(self) -> tuple[str, ...]:
        """Every text of the step's requests that may hold variables."""
        return (self.path, *self.headers.values(), self.body_text or "", *self.accompanying)


_VARIABLE = re.compile(r"(\{\{.*?\}\})")


def _form_text(form: dict[str, str]) -> str:
    """Encoded pairs; variables stay as they are, their values are encoded when they are filled in."""

    def encoded(text: str) -> str:
        return "".join(part if _VARIABLE.fullmatch(part) else quote(part, safe="") for part in _VARIABLE.split(text))

    return "&".join(f"{encoded(name)}={encoded(value)}" for name, value in form.items())


def _multipart_text(parts: tuple[FormPart, ...]) -> str:
    lines: list[str] = []
    for part in parts:
        is_file = part.filename is not None
        file = f'; filename="{part.filename}"' if is_file else ""
        kind = part.content_type or ("application/octet-stream" if is_file else None)
        lines += [f"--{BOUNDARY}", f'Content-Disposition: form-data; name="{part.name}"{file}']
        lines += [f"Content-Type: {kind}"] if kind else []
        lines += ["", part.value]
    return "\r\n".join([*lines, f"--{BOUNDARY}--", ""])
