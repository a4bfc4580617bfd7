"""``kettle bench NAME``: measures the product. Figures are ratios within one run, since machines
are noisy; ``--json`` writes them too."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass
from importlib import import_module
from pathlib import Path

NAMES = (
    "anomalies",
    "candidates",
    "capacity",
    "compare",
    "engine",
    "feeds",
    "history",
    "living",
    "meters",
    "moving",
    "ordinary",
    "scaling",
    "search",
    "storm",
    "timing",
    "truth",
    "unfit",
)


@dataclass(frozen=True)
class Figure:
    """One measured figure beside its target. ``met`` is None where there is no target."""

    name: str
    value: str
    target: str
    met: bool | None


def run(name: str, json_file: Path | None, *, quick: bool) -> int:
    """Run the benchmark of this name, print its table; 0 when every target is met, 1 otherwise."""
    figures: list[Figure] = import_module(f"{__name__}.{name}").measure(quick=quick)
    wide = max(len(f.name) for f in figures)
    middle = max(len(f.value) for f in figures)
    for f in figures:
        mark = {True: "○ met", False: "✕ missed", None: ""}[f.met]
        print(f"{f.name:<{wide}}  {f.value:>{middle}}  {f.target:<40} {mark}")
    if json_file is not None:
        json_file.write_text(json.dumps([asdict(f) for f in figures], indent=2) + "\n")
    return 0 if all(f.met is not False for f in figures) else 1
