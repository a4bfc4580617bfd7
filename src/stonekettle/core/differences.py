"""How far a figure of two sides is apart, what may be said of it, and of all figures together.

One figure is called faster or slower at 5 % of chance. A whole comparison is at 5 % of chance too: its figures are
judged together (Holm 1979).
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from scipy import special

from stonekettle.core.types import Estimate

MATTERS = 0.05
"""A difference smaller than this does not matter, unless somebody says otherwise."""
LARGEST_UNSEEN = 0.25
"""Where more than this might have gone unseen, nothing is said."""
CHANCE = 0.05
POWER = 0.80
_MOST_LOG = 20.0
"""Of two runs a side an interval can be beyond all numbers."""
TIMES = ("mean", "p50", "p95", "p99")

Verdict = Literal["faster", "slower", "no difference", "inconclusive"]


@dataclass(frozen=True)
class ByLoad:
    """A figure load by load, as columns: in the first run, in the second, and the ends of the ratio's 95 % interval."""

    load: tuple[float, ...]
    first: tuple[float, ...]
    second: tuple[float, ...]
    low: tuple[float, ...]
    high: tuple[float, ...]


@dataclass(frozen=True)
class Difference:
    """A figure of ``subject`` (:class:`facts.Fact`) over all loads that both runs had: the ratio of the second run to
    the first (95 % interval), and what may be said of it. ``detectable`` is the smallest difference that would have
    been seen in 80 % of such pairs; ``unseen`` the largest that may be there all the same. ``p`` is the chance of such
    a ratio between like runs."""

    subject: str
    figure: str
    ratio: Estimate
    verdict: Verdict
    detectable: float
    unseen: float
    p: float
    by_load: ByLoad


@dataclass(frozen=True)
class Comparison:
    """All figures, those first that changed most surely; ``verdict`` is of the response times together, and ``told``
    are the differences that stand when all are judged together."""

    verdict: Verdict
    loads: tuple[float, ...]
    differences: tuple[Difference, ...]
    told: tuple[Difference, ...]

    def of(self, subject: str, figure: str) -> Difference | None:
        return next((d for d in self.differences if (d.subject, d.figure) == (subject, figure)), None)


def judged(found: Iterable[Difference], loads: Sequence[float], matters: float, comparisons: int = 1) -> Comparison:
    """All figures together, where this is one of so many ``comparisons`` that share the chance of a false one."""
    ordered = sorted(found, key=lambda d: (d.p, d.subject, d.figure))
    stand = tuple(standing(ordered, matters, CHANCE / comparisons))
    return Comparison(whole(ordered, stand), tuple(loads), tuple(ordered), stand)


def told(
    figure: tuple[str, str], mean: float, error: float, freedom: float, by_load: ByLoad, matters: float
) -> Difference:
    """What may be said of a figure whose log ratio is known with this standard error."""
    reach = student(1 - CHANCE / 2, freedom) * error
    found = Difference(
        *figure,
        ratio=_ratio(mean, reach),
        verdict="inconclusive",
        detectable=math.expm1(min(_MOST_LOG, (student(1 - CHANCE / 2, freedom) + student(POWER, freedom)) * error)),
        unseen=math.expm1(min(_MOST_LOG, abs(mean) + reach)),
        p=_two_sided(mean, error, freedom),
        by_load=by_load,
    )
    return replace(found, verdict=_verdict(found, matters))


def student(share: float, freedom: float) -> float:
    return float(special.stdtrit(max(freedom, 1.0), share)) if math.isfinite(freedom) else float(special.ndtri(share))


def _two_sided(mean: float, error: float, freedom: float) -> float:
    if error <= 0:
        return 1.0 if mean == 0 else 0.0
    return 2 * float(special.stdtr(max(freedom, 1.0), -abs(mean) / error))


def _ratio(mean: float, reach: float) -> Estimate:
    reach = min(reach, _MOST_LOG)
    return Estimate(math.exp(mean), math.exp(mean - reach), math.exp(mean + reach), 1 - CHANCE)


def _verdict(found: Difference, matters: float) -> Verdict:
    if found.p < CHANCE and abs(math.log(found.ratio.value)) >= math.log1p(matters):
        return _direction(found)
    return "no difference" if found.unseen <= max(LARGEST_UNSEEN, matters) else "inconclusive"


def _direction(found: Difference) -> Verdict:
    better = found.ratio.value > 1 if found.figure == "throughput" else found.ratio.value < 1
    return "faster" if better else "slower"


def standing(found: Sequence[Difference], matters: float, chance: float = CHANCE) -> Iterable[Difference]:
    """Those that stand when all are judged together, by their chances from the smallest on (Holm 1979)."""
    for place, one in enumerate(found):
        if one.p >= chance / (len(found) - place):
            return
        if abs(math.log(one.ratio.value)) >= math.log1p(matters):
            yield one


def whole(found: Sequence[Difference], told: Sequence[Difference]) -> Verdict:
    """Of response times, and of throughput where it was compared, together: what stands decides; slower before faster,
    for whoever asks wants to know what got worse."""
    directions = [_direction(one) for one in told if one.figure in (*TIMES, "throughput")]
    if directions:
        return "slower" if "slower" in directions else "faster"
    times = [one for one in found if one.figure == "mean"]
    if times and all(one.unseen <= LARGEST_UNSEEN for one in times):
        return "no difference"
    return "inconclusive"
