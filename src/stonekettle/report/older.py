"""Results as versions before wrote them, brought to how they are written now. What they say stays."""

from __future__ import annotations

from typing import Any

from stonekettle.plan.document import stored
from stonekettle.report import findings
from stonekettle.report.result import FORMAT_VERSION

_RENAMED = {
    "users": "load",
    "users_95": "load_95",
    "at_least_users": "at_least",
    "tested_users": "tested",
    "level_users": "level_loads",
    "break_users": "break_load",
    "peak_users": "peak_load",
    "saturated_at_users": "full_from",
}


def brought_up(document: dict[str, Any]) -> dict[str, Any]:
    """A stored result in today's format. Findings that say too little for it are left out; the notes stand."""
    if document["format"] >= FORMAT_VERSION:
        return document
    kept = {name: value for name, value in document.items() if name not in ("levels", "findings")}
    return {**kept, "format": FORMAT_VERSION, "findings": _findings(document)}


def _findings(document: dict[str, Any]) -> dict[str, Any] | None:
    told = {**_renamed(document["findings"]), "load_kind": "users", "levels": list(map(_level, document["levels"]))}
    try:
        by_users = stored(document["plan"]).planned.load_kind == "users"
        return findings.write(findings.read(told)) if by_users else None
    except ValueError:
        return None


def _renamed(value: Any) -> Any:
    if isinstance(value, dict):
        return {_RENAMED.get(name, name): _renamed(item) for name, item in value.items()}
    return [_renamed(item) for item in value] if isinstance(value, list) else value


def _level(told: dict[str, Any]) -> dict[str, Any]:
    """A level by users, the only axis there was; which of its seconds counted was not kept."""
    ordered, delivered, blind = told.get("planned_users"), told.get("users"), told.get("blind", 0.0)
    load = {"kind": "users", "ordered": ordered, "delivered": delivered, "blind": blind}
    return {"capacity": {}, **told, "load": load, "spans": []}
