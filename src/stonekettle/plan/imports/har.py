"""A browser's recording (HAR 1.2) as a journey.

A page, a form sent or a call for data is a step; files the page needs accompany it; a redirect and
where it led are one step. The time a person took before the next step is its think time. A page is checked by its
title.
"""

from __future__ import annotations

import base64
import binascii
import json
import re
from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any
from urllib.parse import parse_qsl, urljoin, urlsplit

from stonekettle.plan.imports import seen
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.plan.quantities import format_duration
from stonekettle.plan.response_text import set_cookies
from stonekettle.plan.template import variables

MAX_BYTES = 40_000_000
MAX_ENTRIES = 5_000
MIN_THINK_S = 0.3
MAX_KEPT = 50_000
LONGEST_NAME = 70
MIN_CARRIED = 4
_STATIC_TYPES = ("image/", "font/", "text/css", "audio/", "video/")
_STATIC_ENDINGS = (
    ".css", ".js", ".mjs", ".png", ".jpg", ".jpeg", ".gif", ".svg", ".ico", ".webp", ".avif", ".woff", ".woff2",
    ".ttf", ".map", ".mp4", ".webm", ".json5",
)  # fmt: skip
_REDIRECTS = (301, 302, 303, 307, 308)
_LEFT_OUT = {
    "host", "connection", "content-length", "accept-encoding", "user-agent", "cookie", "referer", "origin",
    "upgrade-insecure-requests", "cache-control", "pragma", "te", "priority", "dnt", "if-none-match",
    "if-modified-since", "accept", "accept-language", "content-type", "keep-alive",
}  # fmt: skip
_TITLE = re.compile(r"<title>([^<]+)</title>", re.IGNORECASE)
_BODY_METHODS = ("POST", "PUT", "PATCH", "DELETE")


@dataclass(frozen=True)
class Entry:
    """One request of a recording with its answer. Times in seconds."""

    number: int
    began: float
    took: float
    method: str
    url: str
    headers: Mapping[str, str]
    body: str | None
    body_type: str
    status: int
    answer_headers: Mapping[str, str]
    answer: str
    answer_type: str
    set_cookies: tuple[tuple[str, str], ...] = ()
    elsewhere: bool = False

    @property
    def cookies(self) -> dict[str, str]:
        """The cookies it was sent with."""
        return dict(cookies_in(self.headers.get("cookie", "")))

    @property
    def host(self) -> str:
        return urlsplit(self.url).netloc

    @property
    def address(self) -> str:
        """Its path on the journey's own host; where it goes ``elsewhere``, the whole address."""
        parts = urlsplit(self.url)
        path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
        return f"{parts.scheme}://{parts.netloc}{path}" if self.elsewhere else path

    @property
    def is_file(self) -> bool:
        """Whether it belongs to a page rather than being a step of its own."""
        if self.method != "GET":
            return False
        kind = self.answer_type
        return (
            kind.startswith(_STATIC_TYPES)
            or "javascript" in kind
            or urlsplit(self.url).path.lower().endswith(_STATIC_ENDINGS)
        )


@dataclass(frozen=True)
class Recorded:
    """An answer as a recording holds it; the body is cut to :data:`MAX_KEPT`."""

    status: int
    content_type: str
    body: str


@dataclass
class RecordedStep:
    """A step with everything recorded for it: ``chain`` is its main request with those its redirects led
    to, ``files`` what accompanied it."""

    document: dict[str, Any]
    chain: list[Entry]
    files: list[Entry] = field(default_factory=list)

    @property
    def main(self) -> Entry:
        return self.chain[0]

    @property
    def final(self) -> Entry:
        """The last one a redirect led to."""
        return self.chain[-1]


@dataclass(frozen=True)
class Recording:
    """A recording's steps on ``host`` and those of ``hosts`` (all there are, with their requests) that
    were wanted too, and what was left out, in words."""

    host: str
    hosts: Mapping[str, int]
    steps: tuple[RecordedStep, ...]
    notes: tuple[str, ...]

    def document(self, name: str, system: str) -> dict[str, Any]:
        """The journey as a document, its recorded values as they were."""
        steps = [{**step.document, "recorded": i} for i, step in enumerate(self.steps)]
        return {"name": name, "system": system, "steps": steps}

    @property
    def answers(self) -> tuple[Recorded, ...]:
        """What was answered to each step, in the order of their numbers."""
        return tuple(
            Recorded(step.final.status, step.final.answer_type, step.final.answer[:MAX_KEPT]) for step in self.steps
        )


def read(content: bytes, others: Collection[str] = ()) -> Recording:
    """A recording from the bytes of its file: of its main host and the ``others`` named. Raises
    :class:`PlanError` where it is none."""
    entries = _entries(content)
    hosts = Counter(entry.host for entry in entries)
    host = next((e.host for e in entries if "html" in e.answer_type), entries[0].host)
    taken = [replace(e, elsewhere=e.host != host) for e in entries if e.host == host or e.host in others]
    notes = []
    left = [f"{name} ({count})" for name, count in hosts.most_common() if name != host and name not in others]
    if left:
        notes.append(f"Requests to other hosts are left out: {', '.join(left)}.")
    steps, dropped = _steps(taken)
    if dropped:
        notes.append(f"Files that were not there are left out: {', '.join(dropped)}.")
    notes += _carry_cookies(steps)
    return Recording(host, dict(hosts), tuple(steps), tuple(notes))


def _entries(content: bytes) -> list[Entry]:
    if len(content) > MAX_BYTES:
        raise _refused(
            f"the recording is over {MAX_BYTES // 1_000_000} MB.", "Record less, or without large downloads."
        )
    try:
        document = json.loads(content.decode("utf-8-sig", "replace"))
    except (ValueError, RecursionError) as error:
        raise _refused(f"this is not JSON: {error}.", "Save the recording again, whole.") from error
    log = document.get("log") if isinstance(document, dict) else None
    raw = log.get("entries") if isinstance(log, dict) else None
    if not isinstance(raw, list):
        raise _refused("this is no browser recording: it has no log with entries.", "Save it as HAR in the browser.")
    web = [e for e in raw if isinstance(e, dict) and _is_web(_dig(e, "request", "url"))]
    if not web:
        raise _refused("the recording has no request.", "Record again with the network tools open.")
    if len(web) > MAX_ENTRIES:
        raise _refused(f"the recording has {len(web)} requests.", f"Record at most {MAX_ENTRIES}.")
    try:
        found = [_entry(number, entry) for number, entry in enumerate(web)]
    except (TypeError, ValueError, AttributeError, KeyError) as error:
        raise _refused(f"an entry of the recording is malformed: {error}.", "Save it again in the browser.") from error
    return sorted(found, key=lambda entry: (entry.began, entry.number))


def _is_web(url: object) -> bool:
    """Whether something is the address of a request; a broken one cannot have been sent."""
    try:
        return isinstance(url, str) and urlsplit(url).scheme in ("http", "https") and bool(urlsplit(url).hostname)
    except ValueError:
        return False


def _entry(number: int, raw: Mapping[str, Any]) -> Entry:
    request, response = raw.get("request") or {}, raw.get("response") or {}
    post, content = request.get("postData") or {}, response.get("content") or {}
    body = post.get("text")
    if body is None and post.get("params"):
        body = "&".join(f"{p.get('name', '')}={p.get('value', '')}" for p in post["params"])
    try:
        began = datetime.fromisoformat(str(raw.get("startedDateTime")).replace("Z", "+00:00")).timestamp()
    except ValueError:
        began = 0.0
    return Entry(
        number=number,
        began=began,
        took=max(0.0, float(raw.get("time") or 0.0)) / 1000,
        method=str(request.get("method") or "GET").upper(),
        url=str(request["url"]).partition("#")[0],
        headers=_headers(request.get("headers")),
        body=body,
        body_type=str(post.get("mimeType") or ""),
        status=int(response.get("status") or 0),
        answer_headers=_headers(response.get("headers")),
        answer=_text(content),
        answer_type=str(content.get("mimeType") or "").lower(),
        set_cookies=_set_cookies(response.get("headers")),
    )


def cookies_in(header: str) -> list[tuple[str, str]]:
    """Names and values of a Cookie header."""
    pairs = (pair.partition("=") for pair in header.split(";"))
    return [(name.strip(), value.strip()) for name, _, value in pairs if name.strip()]


def _set_cookies(raw: Any) -> tuple[tuple[str, str], ...]:
    """Names and values of the cookies an answer sets; some browsers write them a line each in one header."""
    listed = [h for h in raw if isinstance(h, dict)] if isinstance(raw, list) else []
    lines = [str(h.get("value", "")) for h in listed if str(h.get("name", "")).lower() == "set-cookie"]
    return tuple(set_cookies(line for text in lines for line in text.split("\n")))


def _text(content: Mapping[str, Any]) -> str:
    """The answer's text; of a binary one nothing."""
    text = str(content.get("text") or "")
    if content.get("encoding") != "base64":
        return text
    try:
        return base64.b64decode(text).decode("utf-8")
    except (binascii.Error, UnicodeDecodeError):
        return ""


def _headers(raw: Any) -> dict[str, str]:
    listed = raw if isinstance(raw, list) else []
    return {str(h.get("name", "")).lower(): str(h.get("value", "")) for h in listed if isinstance(h, dict)}


def _steps(entries: Sequence[Entry]) -> tuple[list[RecordedStep], list[str]]:
    """Steps in order, and the paths of files that were not there."""
    steps: list[RecordedStep] = []
    dropped: list[str] = []
    led_to: str | None = None
    for entry in entries:
        if entry.status == 0:
            continue
        if entry.is_file:
            if entry.status >= 400:
                dropped.append(entry.address)
            elif steps:
                steps[-1].files.append(entry)
            continue
        where = entry.answer_headers.get("location") if entry.status in _REDIRECTS else None
        follows = led_to is not None and entry.url == led_to and entry.method == "GET"
        led_to = None if where is None else urljoin(entry.url, where).partition("#")[0]
        if follows and steps:
            steps[-1].chain.append(entry)
            steps[-1].document["redirects"] = True
            continue
        steps.append(RecordedStep(_step(entry), [entry]))
    names: Counter[str] = Counter()
    for step, before, following in zip(steps, [None, *steps[:-1]], [*steps[1:], None], strict=True):
        step.document["name"] = _name(step, before)
        _complete(step, following, names)
    return steps, dropped


def _name(step: RecordedStep, before: RecordedStep | None) -> str:
    """What the person pressed for it, or the title of what came; failing both, the request itself."""
    main = step.main
    if before is not None and "html" in before.final.answer_type:
        pressed = seen.pressed(before.final.answer, before.final.url, main.method, main.url.partition("#")[0])
        if pressed:
            return pressed
    title = seen.title_of(step.final.answer) if "html" in step.final.answer_type else ""
    # A title with a number in it is that of one visit.
    if title and not any(c.isdigit() for c in title):
        return title
    return f"{main.method} {urlsplit(main.url).path or '/'}"[:LONGEST_NAME]


def _carry_cookies(steps: Sequence[RecordedStep]) -> list[str]:
    """Give the steps the cookies that no answer set and that still matter: those a script made of something
    an answer delivered, or that go along in another place too. What is left out is said."""
    earlier = set(steps[0].main.cookies) if steps else set()
    known: dict[str, str] = {}
    left_out: set[str] = set()
    texts = ""
    for step in steps:
        for entry in step.chain:
            known |= dict(entry.set_cookies)
        made = {n: v for n, v in step.main.cookies.items() if known.get(n) != v and n not in earlier}
        elsewhere = f"{step.main.url} {step.main.body} {[v for n, v in step.main.headers.items() if n != 'cookie']}"
        wanted = {n: v for n, v in made.items() if len(v) >= MIN_CARRIED and (v in texts or v in elsewhere)}
        left_out |= set(made) - set(wanted)
        if wanted:
            pairs = "; ".join(f"{name}={value}" for name, value in wanted.items())
            step.document["headers"] = {**step.document.get("headers", {}), "cookie": pairs}
        texts += step.final.answer
    notes = []
    if earlier:
        names = ", ".join(sorted(earlier))
        notes.append(
            f"The recording begins with cookies of an earlier visit, which are not sent: {names}. If it begins "
            "signed in, record it again from the sign-in on."
        )
    if left_out:
        notes.append(f"Cookies set by scripts are left out: {', '.join(sorted(left_out))}.")
    return notes


def _complete(step: RecordedStep, following: RecordedStep | None, names: Counter[str]) -> None:
    """Give the step what only the whole recording tells."""
    name = step.document["name"]
    names[name] += 1
    if names[name] > 1:
        step.document["name"] = f"{name} ({names[name]})"
    if step.final.status != 200:
        step.document["expect_status"] = [step.final.status]
    # A page that answers 200 and says something else is the usual way to fail: know it by its title.
    title = _TITLE.search(step.final.answer[:MAX_KEPT]) if "html" in step.final.answer_type else None
    if title and not any(c.isdigit() for c in title[1]):
        step.document["checks"] = [{"contains": title[0]}]
    paths = list(dict.fromkeys(file.address for file in step.files))
    if paths:
        step.document["accompanying"] = paths
    if following is not None:
        last = max([step.final, *step.files], key=lambda e: e.began + e.took)
        pause = round(following.main.began - (last.began + last.took), 1)
        if pause >= MIN_THINK_S:
            step.document["think"] = f"exponential {format_duration(pause)}"


def _step(entry: Entry) -> dict[str, Any]:
    made: dict[str, Any] = {"name": "", "request": f"{entry.method} {entry.address}"}
    headers = {
        name: value
        for name, value in entry.headers.items()
        if name not in _LEFT_OUT and not name.startswith((":", "sec-"))
    }
    if entry.method in _BODY_METHODS and entry.body:
        kind = entry.body_type.partition(";")[0].strip().lower()
        if kind == "application/x-www-form-urlencoded":
            made["form"] = dict(parse_qsl(entry.body, keep_blank_values=True))
        elif kind == "application/json" and (parsed := _json(entry.body)) is not None:
            made["json"] = parsed
        else:
            made["body"] = entry.body
            headers["content-type"] = entry.body_type
    if headers:
        made["headers"] = headers
    return made


def _json(text: str) -> Any:
    try:
        return json.loads(text)
    except ValueError:
        return None


def literal_credentials(document: dict[str, Any]) -> tuple[dict[str, Any], list[str]]:
    """The document with an authorization that every step sends literally as the session's, and what is to
    be said of literal ones: no answer delivered them, so they are those of the recording."""
    steps = document["steps"]
    given = [(step.get("headers") or {}).get("authorization") for step in steps]
    literal = {value for value in given if value and not variables(value)}
    if not literal:
        return document, []
    many = f"{sum(value in literal for value in given)} of {len(steps)} requests"
    note = (
        f"A literal credential (Authorization) goes with {many}: no answer of the recording delivered it. It works "
        "as long as the one you recorded with does, and is the same for every user."
    )
    session = _session(given[0] or "") if len(literal) == 1 and set(given) == literal else {}
    if not session:
        return document, [note]
    bare = []
    for step in steps:
        headers = {name: value for name, value in step["headers"].items() if name != "authorization"}
        rest = {key: value for key, value in step.items() if key != "headers"}
        bare.append({**rest, "headers": headers} if headers else rest)
    return {**document, "session": session, "steps": bare}, [note]


def _session(given: str) -> dict[str, Any]:
    """Credentials as HTTP's own ways of signing in have them."""
    scheme, _, rest = given.partition(" ")
    if scheme.lower() == "bearer" and rest:
        return {"credentials": {"bearer": rest}}
    if scheme.lower() == "basic":
        try:
            user, _, password = base64.b64decode(rest).decode().partition(":")
        except (binascii.Error, UnicodeDecodeError):
            return {}
        return {"credentials": {"user": user, "password": password}} if user else {}
    return {}


def _dig(value: Any, *keys: str) -> Any:
    for key in keys:
        value = value.get(key) if isinstance(value, dict) else None
    return value


def _refused(message: str, mend: str) -> PlanError:
    return PlanError([Problem("file", message, mend)])
