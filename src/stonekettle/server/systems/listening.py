"""Which systems of the product the practice system tells of single requests, with the tokens it needs for that."""

from __future__ import annotations

import json
import os
from pathlib import Path

from django.conf import settings

from stonekettle.plan.parts import PRACTICE
from stonekettle.server.systems.models import System

MOST = 20


def is_played(system: System) -> bool:
    """Whether a system is the practice system."""
    return str(system.document.get("base_url", "")).startswith(f"{PRACTICE}://")


def tell(system: System, token: str) -> None:
    """Let the practice system push what it tells of requests to this system, with this token."""
    path = Path(settings.LISTENERS)
    told = [one for one in _read(path) if one.get("system") != system.pk]
    told = [*told, {"system": system.pk, "token": token}][-MOST:]
    part = path.with_name(f"{path.name}.part")
    with os.fdopen(os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as file:
        json.dump(told, file)
    part.rename(path)


def _read(path: Path) -> list[dict[str, object]]:
    try:
        told = json.loads(path.read_text())
    except (OSError, ValueError):
        return []
    return [one for one in told if isinstance(one, dict)] if isinstance(told, list) else []
