"""How a benchmark of the server tells what it measured."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any, Protocol


class _Out(Protocol):
    def write(self, text: str, /) -> Any: ...


def figure(name: str, value: str, target: str = "", met: bool | None = None) -> dict[str, Any]:
    """A measured figure beside its target; ``met`` is None where there is none."""
    return {"name": name, "value": value, "target": target, "met": met}


def tell(out: _Out, figures: list[dict[str, Any]], file: Path | None) -> None:
    """Print the figures as a table, and write them as JSON where that is wanted."""
    for one in figures:
        mark = {True: "○ met", False: "✕ missed", None: ""}[one["met"]]
        out.write(f"{one['name']:<60} {one['value']:>10}  {one['target']:<16} {mark}")
    if file is not None:
        file.write_text(json.dumps(figures, indent=2) + "\n")
