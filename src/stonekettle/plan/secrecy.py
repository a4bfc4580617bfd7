"""Which parts of a document are secret, how they stay out of view, and where they may go.

A secret is found by the name it goes by (a password, a token, an authorization …) in credentials, headers,
forms, JSON, addresses and raw bodies; a value made of ``{{variables}}`` only is none. Whoever reads a
document gets :data:`KEPT` in its place; written back, it means the secret that was there, and only for the
origin (scheme, host and port) it was given for.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote, urlsplit

from stonekettle.plan import patterns
from stonekettle.plan.problems import PlanError, Problem

KEPT = "(kept)"
OWN = ""
"""Stands for the origin of a journey's own system."""
_PARTS = (
    "password", "passwd", "passphrase", "secret", "token", "apikey", "authorization", "credential", "bearer",
    "accesskey", "privatekey",
)  # fmt: skip
_WHOLE = {
    "pwd", "pass", "pin", "auth", "sid", "session", "sessionid", "jwt", "otp", "access", "refresh", "cookie",
    "setcookie", "phpsessid", "jsessionid",
}  # fmt: skip
_VARIABLE = patterns.compiled(r"\{\{.*?\}\}")
_SCHEME = re.compile(r"(?i)^\s*(bearer|basic|token|digest)\b")
_USERINFO = patterns.compiled(r"://([^/?#@\s]+)@")
_QUERY = patterns.compiled(r"([?&;]([^=&;#\s]+)=)([^&;#\s]*)")
_FIELD = patterns.compiled(r"""((?:^|[&,{\s])["']?([\w.-]+)["']?\s*[=:]\s*["']?)([^&"'\s,}]+)""")


def is_secret_name(name: str) -> bool:
    """Whether what goes by this name is a secret."""
    plain = re.sub(r"[^a-z0-9]", "", name.lower())
    return plain in _WHOLE or any(part in plain for part in _PARTS)


def is_literal(value: object) -> bool:
    """Whether a value tells something itself, beyond variables and the name of a scheme."""
    if isinstance(value, bool) or value is None:
        return False
    return bool(_SCHEME.sub("", _VARIABLE.sub("", str(value))).strip())


def origin_of(address: str) -> str:
    """Scheme, host and port of an address; :data:`OWN` for a path. What is no address is its own."""
    if address.startswith("/"):
        return OWN
    try:
        parts = urlsplit(address)
    except ValueError:
        return address
    standing = {"http": 80, "https": 443}.get(parts.scheme)
    host = parts.netloc.rpartition("@")[2].lower()
    return f"{parts.scheme}://{host.removesuffix(f':{standing}')}"


@dataclass(frozen=True)
class Owner:
    """A part of a document that holds secrets: where it stands, what it is called, where it sends them."""

    path: str
    kind: str
    name: str
    index: int
    origins: frozenset[str] = frozenset({OWN})


Change = Callable[[Owner, str, Any], Any]
"""Told a secret's owner, its place there and its value: what stands there instead."""


def in_system(document: Any, change: Change) -> Any:
    """A system's document, which need not be valid, with each of its secrets changed."""
    if not isinstance(document, Mapping):
        return document
    made = dict(document)
    if isinstance(base := document.get("base_url"), str):
        made["base_url"] = _in_address(Owner("base_url", "system", "", 0, _origins([base])), "", base, change)
    if isinstance(operations := document.get("operations"), Mapping):
        made["operations"] = _in_operations(operations, change)
    if isinstance(components := document.get("components"), list):
        made["components"] = [_in_component(i, component, change) for i, component in enumerate(components)]
    return made


def in_journey(document: Any, change: Change) -> Any:
    """A journey's document, which need not be valid, with each of its secrets changed."""
    if not isinstance(document, Mapping):
        return document
    made = dict(document)
    session = document.get("session")
    if isinstance(session, Mapping) and isinstance(given := session.get("credentials"), Mapping):
        owner = Owner("session", "session", "", 0)
        made["session"] = {**session, "credentials": _in_credentials(owner, given, change)}
    if isinstance(sample := document.get("sample"), Mapping):
        made["sample"] = _in_fields(Owner("sample", "sample", "", 0), "", sample, change)
    proof = document.get("proof")
    if isinstance(proof, Mapping) and isinstance(address := proof.get("address"), str):
        owner = Owner("proof", "proof", "", 0, _origins([address]))
        made["proof"] = {**proof, "address": _in_address(owner, "address", address, change)}
    if isinstance(steps := document.get("steps"), list):
        made["steps"] = [_in_step(i, step, change) for i, step in enumerate(steps)]
    return made


def in_plan(document: Mapping[str, Any], change: Change) -> dict[str, Any]:
    """A plan's document with each secret of its system, journeys and candidates changed."""
    made = {**document, "system": in_system(document.get("system"), change)}
    if isinstance(journeys := document.get("journeys"), list):
        made["journeys"] = [in_journey(journey, change) for journey in journeys]
    if "candidates" in document:
        made["candidates"] = in_candidates(document["candidates"], change)
    return made


def in_candidates(document: Any, change: Change) -> Any:
    """The candidates of a plan, which need not be valid, with each secret of their calls changed."""
    if isinstance(document, list):
        return [in_candidates(one, change) for one in document]
    if not isinstance(document, Mapping):
        return document
    made = {key: in_candidates(value, change) for key, value in document.items()}
    call = document.get("call")
    if isinstance(call, str):
        method, _, address = call.partition(" ")
        owner = Owner("candidates", "call", call, 0, _origins([address or "/"]))
        made["call"] = f"{method} {_in_address(owner, 'call', address, change)}"
        if isinstance(headers := document.get("headers"), Mapping):
            made["headers"] = _in_fields(owner, "headers", headers, change)
        if isinstance(body := document.get("body"), str):
            made["body"] = _FIELD.sub(lambda m: _matched(owner, "body", m, change), body)
    return made


def hide(owner: Owner, place: str, value: Any) -> str:
    """The change that keeps secrets out of view."""
    return KEPT


class Found:
    """A change that changes nothing and remembers every secret."""

    def __init__(self) -> None:
        self.values: list[tuple[Owner, str, Any]] = []

    def __call__(self, owner: Owner, place: str, value: Any) -> Any:
        self.values.append((owner, place, value))
        return value


def restored(within: Callable[[Any, Change], Any], document: Any, before: Any) -> Any:
    """The document with each :data:`KEPT` replaced by the secret that stood there ``before``. Its owner is
    the same when its name is, or, after a renaming, its place or kind. Where nothing stood before (None: a document
    read in) a step's secret becomes a variable, for a feed or a sample to give. Raises :class:`PlanError`
    where else there was no secret, and where it was given for another origin."""
    then, now = Found(), Found()
    within(before, then)
    within(document, now)
    known = {(owner.kind, owner.name, place): (owner, value) for owner, place, value in then.values}
    present = {(owner.kind, owner.name) for owner, _, _ in now.values}
    gone: dict[tuple[str, str], list[tuple[Owner, Any]]] = {}
    for owner, place, value in then.values:
        if (owner.kind, owner.name) not in present:
            gone.setdefault((owner.kind, place), []).append((owner, value))
    problems: list[Problem] = []

    def restore(owner: Owner, place: str, value: Any) -> Any:
        if value != KEPT:
            return value
        path = ".".join(part for part in (owner.path, place) if part)
        renamed = gone.get((owner.kind, place), [])
        there = [one for one in renamed if one[0].index == owner.index or len(renamed) == 1]
        was = known.get((owner.kind, owner.name, place)) or next(iter(there), None)
        if before is None and owner.kind == "step":
            return "{{" + re.sub(r"\W", "_", place.rpartition(".")[2], flags=re.ASCII) + "}}"
        if was is None:
            problems.append(Problem(path, "there is no secret to keep here.", "Write it anew."))
        elif not owner.origins <= was[0].origins:
            places = " and ".join(sorted(was[0].origins - {OWN})) or "the system itself"
            problems.append(Problem(path, f"this secret was given for {places}, not for here.", "Write it anew."))
        else:
            return was[1]
        return value

    made = within(document, restore)
    if problems:
        raise PlanError(problems)
    return made


def own(document: Any) -> list[Any]:
    """The secrets a journey sends to its own system."""
    found = Found()
    in_journey(document, found)
    return [value for owner, _, value in found.values if OWN in owner.origins]


def texts_in(plan: Mapping[str, Any]) -> set[str]:
    """Every secret of a plan's document as text."""
    found = Found()
    in_plan(plan, found)
    return {str(value) for _, _, value in found.values}


def _origins(addresses: Iterable[str]) -> frozenset[str]:
    return frozenset(map(origin_of, addresses))


def _in_operations(given: Mapping[str, Any], change: Change) -> dict[str, Any]:
    made = dict(given)
    address = given.get("address")
    owner = Owner("operations", "operations", "", 0, _origins([address] if isinstance(address, str) else []))
    if isinstance(address, str):
        made["address"] = _in_address(owner, "address", address, change)
    if isinstance(key := given.get("signing_key"), str):
        made["signing_key"] = change(owner, "signing_key", key)
    if isinstance(credentials := given.get("credentials"), Mapping):
        made["credentials"] = _in_credentials(owner, credentials, change)
    if "changes" in given:
        made["changes"] = in_candidates(given["changes"], change)
    return made


def _in_component(i: int, component: Any, change: Change) -> Any:
    meters = component.get("meters") if isinstance(component, Mapping) else None
    single = isinstance(component, Mapping) and isinstance(component.get("meter"), Mapping)
    if single:
        return {**component, "meter": _in_meter(i, component, 0, component["meter"], change)}
    if not isinstance(meters, list):
        return component
    return {**component, "meters": [_in_meter(i, component, j, meter, change) for j, meter in enumerate(meters)]}


def _in_meter(i: int, component: Mapping[str, Any], j: int, meter: Any, change: Change) -> Any:
    if not isinstance(meter, Mapping):
        return meter
    raw = meter.get("openmetrics")
    addresses = [raw] if isinstance(raw, str) else raw if isinstance(raw, list) else []
    texts = [address for address in addresses if isinstance(address, str)]
    name = f"{component.get('name')} {[_bare(text) for text in texts]} {meter.get('otlp')}"
    owner = Owner(f"components[{i}].meters[{j}]", "meter", name, i * 1_000 + j, _origins(texts))
    made = dict(meter)
    if texts and len(texts) == len(addresses):
        hidden = [_in_address(owner, f"openmetrics[{k}]", text, change) for k, text in enumerate(texts)]
        made["openmetrics"] = hidden[0] if isinstance(raw, str) else hidden
    if isinstance(given := meter.get("credentials"), Mapping):
        made["credentials"] = _in_credentials(owner, given, change)
    return made


def _in_credentials(owner: Owner, given: Mapping[str, Any], change: Change) -> dict[str, Any]:
    return {
        key: change(owner, f"credentials.{key}", value)
        if key in ("bearer", "password") and isinstance(value, str) and value
        else value
        for key, value in given.items()
    }


def _in_step(i: int, step: Any, change: Change) -> Any:
    if not isinstance(step, Mapping):
        return step
    made = dict(step)
    request = step.get("request")
    method, _, address = request.partition(" ") if isinstance(request, str) else ("", "", "")
    owner = Owner(f"steps[{i}]", "step", str(step.get("name")), i, _origins([address or "/"]))
    if isinstance(request, str) and address:
        made["request"] = f"{method} {_in_address(owner, 'request', address, change)}"
    for key in ("headers", "form"):
        if isinstance(fields := step.get(key), Mapping):
            made[key] = _in_fields(owner, key, fields, change)
    if isinstance(parts := step.get("parts"), list):
        made["parts"] = [_in_part(owner, part, change) for part in parts]
    if "json" in step:
        made["json"] = _in_json(owner, "json", step["json"], False, change)
    if isinstance(body := step.get("body"), str):
        made["body"] = _FIELD.sub(lambda m: _matched(owner, "body", m, change), body)
    if isinstance(others := step.get("accompanying"), list):
        made["accompanying"] = [
            _in_address(
                Owner(f"steps[{i}].accompanying[{k}]", "file", _bare(other), k, _origins([other])), "", other, change
            )
            if isinstance(other, str)
            else other
            for k, other in enumerate(others)
        ]
    return made


def _in_part(owner: Owner, part: Any, change: Change) -> Any:
    if not isinstance(part, Mapping) or not is_secret_name(str(part.get("name"))) or not is_literal(part.get("value")):
        return part
    return {**part, "value": change(owner, f"parts.{part['name']}", part["value"])}


def _in_fields(owner: Owner, place: str, fields: Mapping[str, Any], change: Change) -> dict[str, Any]:
    return {
        name: change(owner, f"{place}.{name}".lstrip("."), value)
        if isinstance(name, str) and is_secret_name(name) and is_literal(value)
        else value
        for name, value in fields.items()
    }


def _in_json(owner: Owner, place: str, value: Any, secret: bool, change: Change) -> Any:
    """What stands under a secret name is secret as a whole."""
    if isinstance(value, Mapping):
        return {
            key: _in_json(owner, f"{place}.{key}", item, secret or is_secret_name(str(key)), change)
            for key, item in value.items()
        }
    if isinstance(value, list):
        return [_in_json(owner, f"{place}[{i}]", item, secret, change) for i, item in enumerate(value)]
    return change(owner, place, value) if secret and is_literal(value) else value


def _in_address(owner: Owner, place: str, address: str, change: Change) -> str:
    def user(match: re.Match[str]) -> str:
        name, colon, password = match[1].rpartition(":")
        if not is_literal(password):
            return match[0]
        return f"://{name}{colon}{change(owner, f'{place}.user'.lstrip('.'), password)}@"

    changed = _USERINFO.sub(user, address, count=1)
    return str(_QUERY.sub(lambda match: _matched(owner, place, match, change), changed))


def _matched(owner: Owner, place: str, match: re.Match[str], change: Change) -> str:
    """A match of (what leads to it and its name, its name, its value), the value changed if secret."""
    head, name, value = match[1], match[2], match[3]
    if not is_secret_name(name) or not is_literal(value):
        return match[0]
    return f"{head}{change(owner, f'{place}.{name}'.lstrip('.'), value)}"


def _bare(address: str) -> str:
    """An address by which its owner is found again, whether its secrets are in view or not."""
    return str(_QUERY.sub(lambda m: m[1], _USERINFO.sub(lambda m: "://", address)))


# Text of any kind on its way out

MASK = "•••"
SHORTEST = 6
"""A value shorter than this is not looked for: it would hide words of every text."""
_NAME = (
    r"[\w.-]*(?:passw(?:or)?d|passphrase|secret|token|api[_-]?key|authorization|credential|bearer|private[_-]?key"
    r"|access[_-]?key)[\w.-]*|pwd|pass|pin|auth|sid|session(?:[_-]?id)?|jwt|otp|access|refresh|phpsessid|jsessionid"
)
_HEADERS = patterns.compiled(rf"(?im)^([ \t>-]*(?:{_NAME})[ \t]*:[ \t]*)([^\r\n]+)")
_COOKIES = patterns.compiled(r"(?im)^(set-cookie|cookie)(:[ \t]*)([^\r\n]*)")
_COOKIE = patterns.compiled(r"([^=;\s]+=)([^;]*)")
_QUOTED = patterns.compiled(
    rf"""(?i)((?:^|[^\w.-])(?:{_NAME})\\?["']\s*:\s*)"""
    r"""(\\"[^"\\]*\\"|"(?:[^"\\]|\\.)*"|'[^']*'|[\w.+-]+)"""
)
_PAIR = patterns.compiled(rf"""(?i)((?:^|[^\w.-])(?:{_NAME})=["']?)([^&\s"'<>;,)\]}}]+)""")
_VALUE = r"""\bvalue=(?:"[^"<>]*"|'[^'<>]*'|[^\s"'<>]+)"""
_TAG = patterns.compiled(rf"""(?i)(<[^<>]*\bname=["']?(?:{_NAME})["']?[\s/](?:[^<>]*?\s)?)({_VALUE})()""")
_TAG_BACKWARDS = patterns.compiled(
    rf"""(?i)(<[^<>]*?\s)({_VALUE})(\s[^<>]*\bname=["']?(?:{_NAME})["']?[\s/>]|\sname=["']?(?:{_NAME})["']?[\s/>])"""
)
_SIGNED = patterns.compiled(r"(?i)\b(bearer|basic)(\s+)[A-Za-z0-9._~+/=-]{6,}")
_TOKEN = patterns.compiled(r"\beyJ[\w-]{6,}\.[\w-]+(?:\.[\w-]*)?")
_ATTRIBUTES = frozenset({"path", "domain", "expires", "max-age", "samesite", "version"})


def hidden(text: str, known: Collection[str] = ()) -> str:
    """Text on its way out (an answer, a log, a cause): the ``known`` secrets in it are masked, and what
    its names tell to be one."""
    for value in sorted((value for value in known if len(value) >= SHORTEST), key=len, reverse=True):
        text = text.replace(value, MASK).replace(quote(value, safe=""), MASK)
    text = _COOKIES.sub(lambda m: f"{m[1]}{m[2]}{_COOKIE.sub(_hidden_cookie, m[3])}", text)
    text = _HEADERS.sub(_hidden_header, text)
    text = _QUOTED.sub(_hidden_quoted, text)
    text = _PAIR.sub(lambda m: f"{m[1]}{MASK}", text)
    for pattern in (_TAG, _TAG_BACKWARDS):
        text = pattern.sub(_hidden_attribute, text)
    text = _SIGNED.sub(lambda m: f"{m[1]}{m[2]}{MASK}", text)
    text = _TOKEN.sub(lambda m: MASK, text)
    return str(_USERINFO.sub(lambda m: f"://{MASK}@", text))


def _hidden_header(match: re.Match[str]) -> str:
    """Masked, but for a sentence that only begins like a header."""
    value = match[2].strip()
    if " " in value and not _SCHEME.match(value):
        return match[0]
    return f"{match[1]}{MASK}"


def _hidden_quoted(match: re.Match[str]) -> str:
    mark = re.match(r"""\\?["']""", match[2])
    if mark is None:
        return match[0] if match[2] in ("true", "false", "null") else f'{match[1]}"{MASK}"'
    return f"{match[1]}{mark[0]}{MASK}{mark[0]}"


def _hidden_attribute(match: re.Match[str]) -> str:
    mark = match[2][6] if match[2][6] in ("'", '"') else ""
    return f"{match[1]}{match[2][:6]}{mark}{MASK}{mark}{match[3]}"


def _hidden_cookie(match: re.Match[str]) -> str:
    return match[0] if match[1].rstrip("=").lower() in _ATTRIBUTES else f"{match[1]}{MASK}"
