"""An API's own description (OpenAPI 3.x, JSON or YAML) as a journey: a step for each operation, with
the example values the description gives, or values its schemas allow."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any
from urllib.parse import quote, urlencode, urlsplit

from stonekettle.plan.checking import parse
from stonekettle.plan.problems import PlanError, Problem

MAX_STEPS = 200
MAX_DEPTH = 8
_METHODS = ("get", "post", "put", "patch", "delete", "head", "options")
_BY_FORMAT = {
    "date": "2026-11-23",
    "date-time": "2026-11-23T09:00:00Z",
    "uuid": "{{uuid}}",
    "email": "rider@example.org",
    "uri": "http://example.org/",
}


def read(content: bytes, name: str, system: str) -> tuple[dict[str, Any], list[str]]:
    """The journey's document, and what was left out in words. Raises :class:`PlanError`."""
    described = parse(content.decode("utf-8-sig", "replace"))
    if not isinstance(described, Mapping) or not str(described.get("openapi", "")).startswith("3."):
        message = "this is no OpenAPI 3 description."
        raise PlanError([Problem("file", message, "It begins with 'openapi: 3…'. Older ones need converting.")])
    paths = described.get("paths")
    operations = list(_operations(paths)) if isinstance(paths, Mapping) else []
    if not operations:
        raise PlanError([Problem("paths", "the description has no operation.", "Add one under paths.")])
    notes = []
    if len(operations) > MAX_STEPS:
        notes.append(f"Only the first {MAX_STEPS} of {len(operations)} operations are taken.")
    base = _base(described)
    steps: list[dict[str, Any]] = []
    names: dict[str, int] = {}
    for path, method, operation, shared in operations[:MAX_STEPS]:
        step = _step(described, base + path, method, operation, shared)
        count = names[step["name"]] = names.get(step["name"], 0) + 1
        if count > 1:
            step["name"] = f"{step['name']} ({count})"
        steps.append(step)
    return {"name": name, "system": system, "steps": steps}, notes


def _operations(paths: Mapping[str, Any]) -> Iterator[tuple[str, str, Mapping[str, Any], list[Any]]]:
    for path, item in paths.items():
        if not isinstance(item, Mapping) or not str(path).startswith("/"):
            continue
        for method in _METHODS:
            if isinstance(item.get(method), Mapping):
                yield str(path), method, item[method], list(item.get("parameters") or [])


def _base(described: Mapping[str, Any]) -> str:
    """The path all operations share, from the first server."""
    servers = described.get("servers")
    first = servers[0] if isinstance(servers, list) and servers and isinstance(servers[0], Mapping) else {}
    try:
        path = urlsplit(str(first.get("url", ""))).path.rstrip("/")
    except ValueError:
        return ""
    return path if "{" not in path else ""


def _step(
    described: Mapping[str, Any], path: str, method: str, operation: Mapping[str, Any], shared: list[Any]
) -> dict[str, Any]:
    query: dict[str, str] = {}
    headers: dict[str, str] = {}
    for raw in [*shared, *(operation.get("parameters") or [])]:
        parameter = _resolved(described, raw)
        name, where = str(parameter.get("name", "")), parameter.get("in")
        value = _text(_example(described, parameter))
        if where == "path":
            path = path.replace("{" + name + "}", value if value.startswith("{{") else quote(value, safe=""))
        elif where == "query" and parameter.get("required"):
            query[name] = value
        elif where == "header" and parameter.get("required"):
            headers[name] = value
    address = path + (f"?{urlencode(query)}" if query else "")
    title = str(operation.get("operationId") or operation.get("summary") or f"{method.upper()} {path}")
    made: dict[str, Any] = {
        "name": title[:70],
        "request": f"{method.upper()} {address}",
        "expect_status": _statuses(operation),
        "think": "exponential 2 s",
    }
    if headers:
        made["headers"] = headers
    return {**made, **_body(described, operation)}


def _body(described: Mapping[str, Any], operation: Mapping[str, Any]) -> dict[str, Any]:
    content = _resolved(described, operation.get("requestBody") or {}).get("content")
    if not isinstance(content, Mapping):
        return {}
    for kind, media in content.items():
        if not isinstance(media, Mapping):
            continue
        example = _example(described, media)
        if "json" in kind:
            return {"json": example}
        if kind == "application/x-www-form-urlencoded" and isinstance(example, Mapping):
            return {"form": {str(key): _text(value) for key, value in example.items()}}
        if kind == "multipart/form-data" and isinstance(example, Mapping):
            return {"parts": [{"name": str(key), "value": _text(value)} for key, value in example.items()]}
        if kind.startswith("text/"):
            return {"body": _text(example), "headers": {"Content-Type": kind}}
    return {}


def _statuses(operation: Mapping[str, Any]) -> list[int]:
    """The successes it promises."""
    promised = operation.get("responses")
    codes = [str(code) for code in promised] if isinstance(promised, Mapping) else []
    return [int(code) for code in codes if re.fullmatch("2[0-9][0-9]", code)] or [200]


def _example(described: Mapping[str, Any], holder: Mapping[str, Any]) -> Any:
    """The example of a parameter or a media type, or one made from its schema."""
    if "example" in holder:
        return holder["example"]
    examples = holder.get("examples")
    if isinstance(examples, Mapping) and examples:
        first = _resolved(described, next(iter(examples.values())))
        if "value" in first:
            return first["value"]
    return _made(described, holder.get("schema") or {}, 0)


def _made(described: Mapping[str, Any], raw: Any, depth: int) -> Any:
    """A value the schema allows."""
    schema = _resolved(described, raw)
    if depth > MAX_DEPTH:
        return None
    for key in ("example", "default", "const"):
        if key in schema:
            return schema[key]
    if schema.get("examples"):
        return schema["examples"][0]
    if schema.get("enum"):
        return schema["enum"][0]
    for key in ("oneOf", "anyOf"):
        if schema.get(key):
            return _made(described, schema[key][0], depth + 1)
    if schema.get("allOf"):
        parts = [_made(described, part, depth + 1) for part in schema["allOf"]]
        return {key: value for part in parts if isinstance(part, Mapping) for key, value in part.items()}
    kind = schema.get("type")
    if isinstance(kind, list):
        kind = next((one for one in kind if one != "null"), None)
    if kind == "object" or "properties" in schema:
        properties = schema.get("properties") or {}
        wanted = schema.get("required") or list(properties)
        return {key: _made(described, properties[key], depth + 1) for key in properties if key in wanted}
    if kind == "array":
        return [_made(described, schema.get("items") or {}, depth + 1)]
    if kind in ("integer", "number"):
        return schema.get("minimum", 1)
    if kind == "boolean":
        return True
    return _BY_FORMAT.get(str(schema.get("format")), "text")


def _resolved(described: Mapping[str, Any], raw: Any) -> Mapping[str, Any]:
    """What a reference within the description leads to."""
    for _ in range(MAX_DEPTH):
        if not isinstance(raw, Mapping):
            return {}
        reference = raw.get("$ref")
        if not isinstance(reference, str):
            return raw
        here: Any = described
        for part in reference.removeprefix("#/").split("/"):
            here = here.get(part.replace("~1", "/").replace("~0", "~")) if isinstance(here, Mapping) else None
        raw = here
    return {}


def _text(value: Any) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    return "" if value is None else str(value)
