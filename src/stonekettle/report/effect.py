"""What came of a change of the system, in a sentence."""

from __future__ import annotations

from stonekettle.core.effect import Effect
from stonekettle.core.types import Estimate
from stonekettle.report import numbers as n

MATTERS = 0.05


def sentence(found: Effect | None, *, done: bool) -> str:
    """``done``: whether the change itself is."""
    if not done:
        return ""
    if found is None:
        return "What came of it cannot be told: too little was measured before it."
    failed = (
        f" {n.counted(found.failed, 'step')} of {n.users(found.ended)} failed meanwhile."
        if found.failed
        else " No step failed meanwhile."
    )
    if found.settled_s is None or found.p95 is None or found.mean is None:
        return f"Response times have not settled yet.{failed}"
    text = f"The 95th percentile {_changed(found.p95)}, from {n.seconds(found.p95_before_s)}; "
    text += f"the mean {_changed(found.mean)}."
    if found.other_load != 1.0:
        by = n.percent(abs(found.other_load - 1))
        more = "more" if found.other_load > 1 else "less"
        text += f" Load was {by} {more} after it, so this is not the change's alone."
    return text + failed


def _changed(ratio: Estimate) -> str:
    ends = f"(95 % interval {_signed(ratio.low)} to {_signed(ratio.high)})"
    if ratio.low > 1:
        return f"rose by {n.percent(ratio.value - 1)} {ends}"
    if ratio.high < 1:
        return f"fell by {n.percent(1 - ratio.value)} {ends}"
    if ratio.high < 1 + MATTERS and ratio.low > 1 - MATTERS:
        return f"stayed as it was {ends}"
    return f"did not change for sure {ends}"


def _signed(ratio: float) -> str:
    return f"{'+' if ratio >= 1 else '−'}{n.percent(abs(ratio - 1))}"
