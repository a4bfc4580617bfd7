"""``kettle compare``: two runs of ``kettle run`` beside each other, for people and for pipelines."""

from __future__ import annotations

import json
import sys
from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any, TextIO

from pydantic import ValidationError

from stonekettle.core import comparing
from stonekettle.core.analysis import Analysis
from stonekettle.core.comparing import full_from
from stonekettle.core.differences import Comparison
from stonekettle.core.facts import Fact
from stonekettle.plan import document
from stonekettle.plan.problems import PlanError
from stonekettle.report import comparing as words
from stonekettle.report import facts_file, findings
from stonekettle.report.result import Result

NOT_SLOWER, SLOWER, BAD_INPUT, INCONCLUSIVE = 0, 1, 2, 3
EXIT_CODES = {"faster": NOT_SLOWER, "no difference": NOT_SLOWER, "slower": SLOWER, "inconclusive": INCONCLUSIVE}


def compare(first: Path, second: Path, matters: float, json_file: Path | None, terminal: TextIO) -> int:
    """Print how the run in folder ``second`` compares with that in ``first``; the exit code."""
    try:
        (before, facts), (after, others) = (read(folder) for folder in (first, second))
    except (OSError, ValueError, PlanError) as fault:
        print(fault, file=sys.stderr)
        return BAD_INPUT
    found = comparing.compare(facts, others, matters=matters, full_from=full_from(before.analysis, after.analysis))
    if not found.differences:
        print(f"{first} and {second} have no load in common, so nothing can be compared.", file=sys.stderr)
        return BAD_INPUT
    apart = words.apart([before], [after])
    sentence = words.sentence(found, [before], [after])
    print(sentence, file=terminal)
    for one in apart:
        print(f"  {one.weight}: {one.text}", file=terminal)
    for difference in found.told:
        print(f"  {words.change(difference)}", file=terminal)
    if json_file is not None:
        told = plain(found, words.verdict(found, [before], [after]), sentence, apart)
        json_file.write_text(json.dumps(told, indent=2) + "\n")
    return EXIT_CODES[words.verdict(found, [before], [after])]


def readable(run: Path) -> bool:
    """Whether a run can be compared with; where not, says why."""
    try:
        read(run)
    except (OSError, ValueError, PlanError) as fault:
        print(fault, file=sys.stderr)
        return False
    return True


def read(run: Path) -> tuple[words.Side, Sequence[Fact]]:
    """A run that ``kettle run`` wrote into a folder, or of which this is the result.json. Raises ValueError where it
    did not."""
    folder = run.parent if run.is_file() else run
    try:
        told = Result.model_validate_json((folder / "result.json").read_text())
    except ValidationError as fault:
        raise ValueError(f"{folder / 'result.json'} is not the result of a run: {fault.errors()[0]['msg']}.") from fault
    if told.findings is None:
        raise ValueError(f"{folder / 'result.json'} holds no findings: the run did not get so far.")
    try:
        facts = facts_file.read((folder / "facts.csv").read_text())
    except ValueError as fault:
        raise ValueError(f"{folder / 'facts.csv'}: {fault}.") from fault
    analysis: Analysis = findings.read(told.findings)
    plan = document.from_document(told.plan)
    return words.Side(str(folder), plan, analysis, told.simulated, told.state, 1), facts


def plain(found: Comparison, verdict: str, sentence: str, apart: Sequence[words.Apart]) -> dict[str, Any]:
    """A comparison as plain data."""
    return {
        "sentence": sentence,
        "verdict": verdict,
        "loads": list(found.loads),
        "apart": [asdict(one) for one in apart],
        "figures": [{**asdict(one), "stands": one in found.told} for one in found.differences],
    }
