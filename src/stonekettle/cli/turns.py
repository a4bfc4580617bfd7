"""``kettle run`` of a plan with candidates: every turn a run in a folder of its own, then the comparison."""

from __future__ import annotations

import json
import re
import sys
from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict
from pathlib import Path
from random import SystemRandom
from typing import TextIO

from stonekettle.cli.compare import BAD_INPUT, EXIT_CODES, INCONCLUSIVE, plain, read
from stonekettle.core.scaling import Point
from stonekettle.engine.actions import ActionFailed, Changer
from stonekettle.engine.allowance import LOOPBACK
from stonekettle.plan import system_document
from stonekettle.plan.candidates import Candidate, Value
from stonekettle.plan.models import Plan
from stonekettle.report import candidates as words
from stonekettle.report import numbers as n
from stonekettle.report import scaling
from stonekettle.report.comparing import change
from stonekettle.report.scaling import Tried

Measure = Callable[[Plan, Path], bool]
"""Runs a plan into a folder; whether it came to its end."""


def take(plan: Plan, out: Path, directory: Mapping[str, Sequence[str]], terminal: TextIO, measure: Measure) -> int:
    """Let the plan's candidates or values take their turns, and say what they tell; the exit code. What cannot be done
    ends it, and so does a turn that did not come to its end; the turns before count."""
    candidates = plan.turns
    assert candidates is not None  # asked by whoever calls
    operations = system_document.resolved(plan.system, directory).operations
    told: list[words.Told] = []
    ready: dict[str, list[float]] = {}
    whole = True
    for number, (block, candidate, value) in enumerate(candidates.order(SystemRandom()), start=1):
        name = f"{candidate.name}, {value.name}" if value is not None else candidate.name
        print(f"\nTurn {number} of {candidates.turns}, block {block}: {name}", file=terminal)
        folder = out / _folder(number, name)
        folder.mkdir(parents=True, exist_ok=True)
        own = plan.turn(candidate, value)
        parts: list[Candidate | Value] = [one for one in (candidate, value) if one is not None]
        with Changer(operations, LOOPBACK.refusal, directory, commands=True) as changer:
            try:
                after_s = changer.begin(parts, own.system.base_url)
                ready.setdefault(name, []).append(after_s)
                print(f"under load after {after_s:.1f} s", file=terminal)
                whole = measure(own, folder)
            except ActionFailed as error:
                print(error, file=sys.stderr)
                return BAD_INPUT
            finally:
                # From value to value the system is not brought back in between.
                if plan.scaling is None or not whole or number == candidates.turns or sys.exc_info()[0] is not None:
                    _end(changer, parts)
                done = [asdict(one) for one in changer.done]
                (folder / "actions.json").write_text(json.dumps(done, indent=2) + "\n")
        if not whole:
            print(f"Turn {number} did not come to its end, so no other follows.", file=sys.stderr)
            break
        side, facts = read(folder)
        if side.analysis.trustworthy:
            levels = [fact for fact in facts if fact.level is not None]
            told.append(words.Told(block, candidate.name, value.name if value else "", side, levels))
        else:
            print(f"Turn {number} is not trustworthy by measuring: block {block} does not count.", file=terminal)
    if plan.scaling is not None:
        return _scaled(plan, out, told, terminal)
    return _compared(plan, out, told, ready, terminal)


def _scaled(plan: Plan, out: Path, told: Sequence[words.Told], terminal: TextIO) -> int:
    assert plan.scaling is not None  # by take
    tried = [Tried(plan.scaling.value(one.candidate), one.side.analysis) for one in told]
    found = scaling.of(plan, tried)
    sentence = scaling.sentence(plan, found, tried, going=False)
    print(f"\n{_plain(sentence)}\n", file=terminal)
    for line in found.lines:
        band = f"{n.figure(line.capacity.low)} to {n.figure(line.capacity.high)} steps/s"
        name = _plain(scaling.words(plan.scaling, line.n))
        print(f"  {name}: {'not told, ' if line.wide else ''}{band}", file=terminal)
    answer = {
        "sentence": _plain(sentence),
        "why_not": found.why_not,
        "points": [_point(point) for point in found.points],
        "laws": found.laws,
        "foretold": [asdict(line) for line in found.lines],
        "other_limits": [asdict(cap) for cap in found.caps],
        "told_to": found.told_to,
    }
    (out / "scaling.json").write_text(json.dumps(answer, indent=2) + "\n")
    return 0 if any(not point.at_least for point in found.points) else INCONCLUSIVE


def _end(changer: Changer, parts: Sequence[Candidate | Value]) -> None:
    """What fails there is told, and spoils nothing that was measured."""
    try:
        changer.end(parts)
    except ActionFailed as error:
        print(error, file=sys.stderr)


def _point(point: Point) -> dict[str, object]:
    """A value that was tried; of one whose limit no run reached, how much it is at least."""
    own = {} if point.at_least else {"limit": asdict(point.capacity)}
    return {"n": point.n, "runs": point.runs, **own, "at_least": point.capacity.value if point.at_least else None}


def _plain(text: str) -> str:
    return text.replace("`", "")


def _compared(
    plan: Plan, out: Path, told: Sequence[words.Told], ready: Mapping[str, Sequence[float]], terminal: TextIO
) -> int:
    assert plan.candidates is not None  # by take
    found = words.compare(plan.candidates, told)
    sentence = words.sentence(found, going=False)
    print(f"\n{sentence}\n", file=terminal)
    for one in found:
        if len(found) > 1:
            print(f"{one.candidate} against {one.against} {one.value}: {one.sentence}", file=terminal)
        if not one.settling.settled:
            print("  caution: turns had not settled after a third of a level", file=terminal)
        for difference in one.found.told:
            print(f"  {change(difference)}", file=terminal)
    answer = {
        "sentence": sentence,
        "under_load_after_s": ready,
        "between": [
            {
                "candidate": one.candidate,
                "against": one.against,
                "value": one.value,
                "blocks": list(one.blocks),
                "left_out_s": one.settling.left_out_s,
                "settled": one.settling.settled,
                **plain(one.found, one.verdict, one.sentence, one.apart),
            }
            for one in found
        ],
    }
    (out / "candidates.json").write_text(json.dumps(answer, indent=2) + "\n")
    codes = {EXIT_CODES[one.verdict] for one in found}
    return next((code for code in (1, INCONCLUSIVE, 0) if code in codes), INCONCLUSIVE)


def _folder(number: int, name: str) -> str:
    return f"{number:02d}-{re.sub(r'[^a-z0-9.]+', '-', name.lower()).strip('-')}"
