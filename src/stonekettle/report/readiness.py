"""How soon many were ready that were started at once, in words."""

from __future__ import annotations

from collections.abc import Mapping

from stonekettle.core.readiness import Readiness
from stonekettle.core.types import Estimate
from stonekettle.report import numbers as n


def sentence(found: Readiness, until: str) -> str:
    """What the storm tells ``until`` when they were asked after; empty: they still are."""
    if not found.ready:
        return f"None was ready {until}." if until else "None is ready yet."
    half, most, last = (found.after_s[share] for share in (50, 90, 100))
    if last is not None:
        whole = f"All {n.users(found.asked)} were ready after {n.seconds(last)}"
    else:
        whole = (
            f"{n.users(found.ready)} of {n.users(found.asked)} {f'were ready {until}' if until else 'are ready by now'}"
        )
    marks = [f"half of them after {n.seconds(half)}"] if half is not None else []
    marks += [f"nine of ten after {n.seconds(most)}"] if most is not None else []
    told = f"{whole}: {', '.join(marks)}." if marks else f"{whole}."
    late = len(found.stragglers) - (found.asked - found.ready)
    if late > 0:
        told += f" {n.counted(late, 'straggler')} came much later than the others."
    if found.rate is not None:
        told += f" Between the first tenth and the last {n.figure(found.rate)} came a second."
    return told


def against(ratios: Mapping[int, Estimate], earlier: str) -> str:
    """What became of the time to so many ready since another storm."""
    if not ratios:
        return f"Too few were ready for it to be held against {earlier}."
    share = max((one for one in ratios if one <= 90), default=min(ratios))
    ratio = ratios[share]
    times = f"{n.figure(ratio.low)} to {n.figure(ratio.high)} times the time"
    if ratio.low <= 1 <= ratio.high:
        return f"{share} % were ready as soon as in {earlier}, as far as the instances tell ({times})."
    how = "sooner" if ratio.value < 1 else "later"
    return f"{share} % were ready {n.percent(abs(ratio.value - 1))} {how} than in {earlier} ({times})."
