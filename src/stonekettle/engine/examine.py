"""Does a response pass its step's checks, and what is kept of it?

The load loop and the trial use the same rules; the loop stops at the first failure.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from stonekettle.plan import json_path, patterns
from stonekettle.plan.json_path import MISSING
from stonekettle.plan.response_text import decoded, form_fields, set_cookies, unwritten
from stonekettle.plan.step import Check, Keep, Step

MAX_BODY = 1_000_000
"""So much of a body is looked at."""
SHOWN = 120


@dataclass(frozen=True)
class Response:
    """An answer as far as it is looked at: header lines as received, a body cut at a megabyte, the
    bytes it really had, the time it took in seconds; its content type also where no header is kept."""

    status: int
    headers: Sequence[bytes]
    body: bytes
    size: int
    took_s: float
    content_type: str = ""

    @cached_property
    def text(self) -> str:
        return decoded(self.body, self.header("content-type") or self.content_type)

    def excerpt(self, most: int) -> str:
        """The beginning of its text, or that it is none."""
        if b"\0" in self.body[:1000]:
            return f"({self.size} bytes that are no text)"
        return self.text[:most]

    @property
    def last_headers(self) -> str:
        """The header lines of the last answer, after redirects."""
        begun = [place for place, line in enumerate(self.headers) if line[:5] == b"HTTP/"]
        return b"".join(self.headers[begun[-1] if begun else 0 :]).decode("latin-1").strip()

    @cached_property
    def document(self) -> Any:
        """The body as JSON, or :data:`MISSING`."""
        try:
            return json.loads(self.text)
        except (ValueError, RecursionError):
            return MISSING

    def all(self, name: str) -> list[str]:
        """Every value of a header."""
        head = f"{name.lower()}:".encode()
        return [line[len(head) :].strip().decode("latin-1") for line in self.headers if line.lower().startswith(head)]

    def header(self, name: str) -> str | None:
        """The last value of a header: that of the last answer after redirects."""
        return next(reversed(self.all(name)), None)


@dataclass(frozen=True)
class Outcome:
    """One check: what it says in words, whether it passed, what was found instead."""

    text: str
    passed: bool
    found: str = ""


class Examiner:
    """The checks and kept values of a step, compiled."""

    def __init__(self, step: Step) -> None:
        self._checks = [(check, _test(check)) for check in step.checks]
        self._keeps = [(keep, _finder(keep)) for keep in step.keep]
        self.needs_body = any(check.needs_body for check in step.checks) or any(
            keep.header is None and keep.cookie is None for keep in step.keep
        )
        self.needs_headers = any(check.header is not None for check in step.checks) or bool(step.keep)
        self.wanted = bool(self._checks or self._keeps)

    def examine(self, response: Response, values: dict[str, str]) -> str | None:
        """Keep values into ``values``; the kind of the first failure, or None."""
        for _, test in self._checks:
            if not test(response)[0]:
                return "check"
        for keep, find in self._keeps:
            value = find(response)
            if value is None:
                return "value not found"
            values[keep.name] = whole(value)
        return None

    def outcomes(self, response: Response) -> tuple[Outcome, ...]:
        """Every check with its outcome."""
        return tuple(Outcome(check.text, *test(response)) for check, test in self._checks)

    def kept(self, response: Response) -> dict[str, str | None]:
        """Every value that is kept; None where it was not found."""
        found = {keep.name: find(response) for keep, find in self._keeps}
        return {name: None if value is None else whole(value) for name, value in found.items()}

    @property
    def places(self) -> dict[str, str]:
        """Where each kept value is looked for."""
        return {keep.name: keep.place for keep, _ in self._keeps}


_Test = Callable[[Response], tuple[bool, str]]


def _test(check: Check) -> _Test:
    if check.contains is not None or check.lacks is not None:
        text, wanted = check.contains or check.lacks or "", check.contains is not None
        return lambda r: ((text in r.text) == wanted, f"the body begins {r.text[:SHOWN]!r}")
    if check.matches is not None:
        pattern = patterns.compiled(check.matches)
        return lambda r: (pattern.search(r.text) is not None, f"the body begins {r.text[:SHOWN]!r}")
    if check.at_least_bytes is not None:
        least = check.at_least_bytes
        return lambda r: (r.size >= least, f"it had {r.size}")
    if check.at_most_bytes is not None:
        most = check.at_most_bytes
        return lambda r: (r.size <= most, f"it had {r.size}")
    if check.within is not None:
        limit = check.within
        return lambda r: (r.took_s <= limit, f"it took {r.took_s:.3f} s")
    find = json_path.compiled(check.json_path) if check.json_path is not None else None
    name = check.header or ""

    def subject(response: Response) -> Any:
        if find is None:
            value = response.header(name)
            return MISSING if value is None else value
        return MISSING if response.document is MISSING else find(response.document)

    def told(value: Any) -> str:
        return "it is not there" if value is MISSING else f"it is {value!r}"[:SHOWN]

    if check.exists is not None:
        exists = check.exists
        return lambda r: ((subject(r) is not MISSING) == exists, told(subject(r)))
    return lambda r: (_alike(subject(r), check.equals), told(subject(r)))


def _alike(found: Any, wanted: Any) -> bool:
    """Equal, a number also to the text of it: documents and headers differ in that."""
    if found is MISSING:
        return False
    return bool(found == wanted) or (not isinstance(found, (dict, list)) and as_text(found) == as_text(wanted))


def _finder(keep: Keep) -> Callable[[Response], str | None]:
    find = _raw_finder(keep)
    if keep.decode is None:
        return find
    decode = unwritten[keep.decode]

    def decoded_value(response: Response) -> str | None:
        found = find(response)
        try:
            return None if found is None else decode(found)
        except ValueError:
            return None

    return decoded_value


def _raw_finder(keep: Keep) -> Callable[[Response], str | None]:
    if keep.json_path is not None:
        find = json_path.compiled(keep.json_path)

        def from_document(response: Response) -> str | None:
            value = MISSING if response.document is MISSING else find(response.document)
            return None if value is MISSING else as_text(value)

        return from_document
    if keep.regex is not None:
        pattern = patterns.compiled(keep.regex)

        def by_pattern(response: Response) -> str | None:
            match = pattern.search(response.text)
            return None if match is None else (match[1] if pattern.groups else match[0])

        return by_pattern
    if keep.header is not None:
        name = keep.header
        return lambda r: r.header(name)
    if keep.cookie is not None:
        cookie = keep.cookie
        return lambda r: next((v for n, v in set_cookies(r.all("set-cookie")) if n == cookie), None)
    field = keep.field or ""
    return lambda r: next((v for n, v in form_fields(r.text) if n == field), None)


def as_text(value: Any) -> str:
    """A JSON value as it is sent later on."""
    if isinstance(value, str):
        return value
    return json.dumps(value, ensure_ascii=False)


def whole(text: str) -> str:
    """Text that can be sent again: half a character, as JSON can hold one, becomes a question mark."""
    return text.encode("utf-8", "replace").decode()
