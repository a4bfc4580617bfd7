"""Two runs in words: better, worse, or no difference that could have been seen, and what differs between them."""

from __future__ import annotations

import math
import statistics
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from stonekettle.core.analysis import Analysis
from stonekettle.core.bottleneck import LimitingResource
from stonekettle.core.differences import TIMES, Comparison, Difference, Verdict
from stonekettle.core.saturation import Saturation
from stonekettle.core.types import Estimate
from stonekettle.plan.differences import WORDING, differences
from stonekettle.plan.models import Plan
from stonekettle.report import numbers as n
from stonekettle.report.notes.note import resource_text

Weight = Literal["compared", "harmless", "warning"]
HARMLESS = ("name ", "notes ", "question ", "hypothesis ", "tags ", WORDING)
"""How differences begin that change nothing of what is measured."""
TRUSTED = "sound"


@dataclass(frozen=True)
class Side:
    """One of the two: what it is called, and what its run was."""

    name: str
    plan: Plan
    analysis: Analysis
    simulated: bool
    state: str
    generators: int


@dataclass(frozen=True)
class Apart:
    """Something in which the two differ: what is compared, of no matter, or a reason for caution."""

    weight: Weight
    text: str


def verdict(found: Comparison, firsts: Sequence[Side], seconds: Sequence[Side]) -> Verdict:
    """What may be said: nothing where one of them is not to be trusted."""
    return found.verdict if _spoiled(*firsts, *seconds) is None else "inconclusive"


def _spoiled(*sides: Side) -> Side | None:
    return next((side for side in sides if not side.analysis.trustworthy), None)


def sentence(found: Comparison, firsts: Sequence[Side], seconds: Sequence[Side], asked: str | None = None) -> str:
    """The answer: what changed most surely, the saturation point, what goes with it, and what could have been seen by
    whatever was ``asked``. The first of each side speaks for it."""
    first, second = firsts[0], seconds[0]
    spoiled = _spoiled(*firsts, *seconds)
    if spoiled is not None:
        return f"Inconclusive: {spoiled.name} is not trustworthy by measuring, so nothing is said of a difference."
    word = {"slower": "Slower", "faster": "Faster", "no difference": "No difference", "inconclusive": "Inconclusive"}
    times = [one for one in found.told if one.figure in TIMES and one.verdict == found.verdict]
    times.sort(key=lambda one: one.figure not in ("mean", "p95"))  # they come in the order of how sure they are
    parts = [change(one) for one in times[:1]]
    pair = len(firsts) == len(seconds) == 1
    parts += list(_moved(first.analysis, second.analysis)) if pair else []
    parts += [f"{demand(one)} goes with it" for one in _cause(found, second.analysis)[:1]]
    if found.verdict == "no difference":
        unseen = max(one.unseen for one in found.differences if one.figure == "mean")
        parts = [f"none of a step's mean larger than {_about(unseen)}"]
    elif not parts:
        parts = ["no change stands out from chance"]
    seen = [one.detectable for one in found.differences if one.figure == "mean"]
    asked = asked or ("This pair" if pair else f"{n.counted(len(seconds), 'run')} against {len(firsts)}")
    shown = f" {asked} could have shown {_about(statistics.median(seen))} in a mean." if seen else ""
    return f"{word[found.verdict]}: {'; '.join(parts)}.{shown}"


def change(one: Difference) -> str:
    """A figure's change: "Buy ticket p95 +18 % (12–24 %)"."""
    subject = one.subject.split(" / ")[-1]
    return f"{subject} {one.figure} {signed(one.ratio.value)} ({signed(one.ratio.low)} to {signed(one.ratio.high)})"


def signed(ratio: float) -> str:
    """+18 %, −4.1 %."""
    by = (ratio - 1) * 100
    told = f"{abs(by):.0f}" if abs(by) >= 10 else f"{abs(by):.2g}"
    return f"{'+' if by >= 0 else '−'}{told} %"


def _about(share: float) -> str:
    """A share that is itself an estimate: two digits."""
    return f"{share * 100:.0f} %" if share >= 0.1 else f"{share * 100:.2g} %"


def demand(one: Difference) -> str:
    """A resource's cost of a step: "`ledger` CPU per step 31 → 36 ms"."""
    before, after = (
        math.exp(statistics.fmean(math.log(value) for value in values))
        for values in (one.by_load.first, one.by_load.second)
    )
    return f"{resource_text(one.subject)} per step {n.figure(before * 1000)} → {n.figure(after * 1000)} ms"


def _cause(found: Comparison, after: Analysis) -> list[Difference]:
    """Resources whose cost of a step changed as response times did, the one that limits now before others. Places in a
    pool are held longer whatever makes a step slow: they are none, unless they limit."""
    limit = after.limiting.resource if isinstance(after.limiting, LimitingResource) else None
    key = limit.key if limit is not None else ""
    up = found.verdict == "slower"
    changed = [one for one in found.told if one.figure in ("demand", "held") and (one.ratio.value > 1) == up]
    told = [one for one in changed if one.figure == "demand" or one.subject == key]
    told.sort(key=lambda one: (one.subject != key, -abs(math.log(one.ratio.value))))
    return told if found.verdict in ("slower", "faster") else []


def _moved(first: Analysis, second: Analysis) -> Iterator[str]:
    """The saturation point, where its intervals are apart."""
    before, after = (
        found.saturation.load if isinstance(found.saturation, Saturation) else None for found in (first, second)
    )
    if before is not None and after is not None and _apart(before, after):
        kind = second.load_kind
        yield f"saturation {n.amount(before.value)} → {n.load(after.value, kind)}"


def _apart(before: Estimate, after: Estimate) -> bool:
    return before.high < after.low or after.high < before.low


def apart(firsts: Sequence[Side], seconds: Sequence[Side]) -> tuple[Apart, ...]:
    """In what the two sides differ, what might mislead first. What differs within a side is a reason for caution."""
    found = list(_apart_in(firsts[0], seconds[0]))
    for side in (firsts, seconds):
        for other in side[1:]:
            found += [
                replace(one, text=f"On one side, {side[0].name} and {other.name}: {one.text}", weight="warning")
                for one in _apart_in(side[0], other)
                if one.weight != "harmless"
            ]
    order: tuple[Weight, ...] = ("warning", "compared", "harmless")
    return tuple(sorted(found, key=lambda one: order.index(one.weight)))


def _apart_in(first: Side, second: Side) -> Iterator[Apart]:
    if first.simulated != second.simulated:
        played = first.name if first.simulated else second.name
        yield Apart("warning", f"{_capital(played)} was played in virtual time, the other one was measured.")
    if first.plan.system.name != second.plan.system.name:
        yield Apart(
            "warning", f"They are of different systems: {first.plan.system.name} and {second.plan.system.name}."
        )
    if first.analysis.load_kind != second.analysis.load_kind:
        yield Apart("warning", "One counts its load in users, the other in arrivals per second.")
    for one in (first, second):
        if one.state != "finished":
            yield Apart("warning", f"{_capital(one.name)} ended as {one.state}.")
        if one.analysis.measuring.verdict != TRUSTED and not one.simulated:
            yield Apart("warning", f"{_capital(one.name)} was {one.analysis.measuring.verdict} by measuring.")
        if one.analysis.changes:
            yield Apart("warning", f"In {one.name} the system did not stay itself.")
    if first.generators != second.generators:
        yield Apart("harmless", f"Generators: {first.generators} and {second.generators}.")
    for line in differences(first.plan, second.plan):
        if line != WORDING:
            weight: Weight = "harmless" if line.startswith(HARMLESS) else "compared"
            yield Apart(weight, f"{_capital(line)}.")


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]
