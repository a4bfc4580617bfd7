"""Was the system the same all the time?

Whatever a run claims it claims of one system. One that grows slower or faster while it is measured, is not itself
again after an overload, or has other work now and then, is told so, since its claims hold for a time only.

**Slower, faster.** What a step costs at a resource, U·m/X, is compared between a later visit to a load and the levels
on the way up, by itself and with all levels together (busy servers = U₀ + D·X + G·X·t: the later visit keeps time and
load apart), and as a trend within levels (each its own mean: regression of the logs of 5-second block statistics on
time). Errors come from the blocks' own spread, pooled over levels and scaled by the steps in them. Where nothing is
metered, the response at the same load is compared. A run is called changed where chance would do it in ``FALSE_ALARMS``
of runs, over all that is asked, and by over ``LEAST``.

**Periodic.** Seconds in which a resource or the response stands out from its level (by ``OUTSTANDING`` robust standard
deviations: 1.4826 times the median absolute deviation, Hampel 1974) make events. Of gaps between events by chance about
a fifth lies within a tenth of a multiple of the usual one, a tenth within a twentieth; a binomial test tells when more
do. Beyond saturation, where a resource cannot stand out, throughput falls short when it does other work: so each is
asked by itself, and all of them together.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from scipy import special

from stonekettle.core.levels import Level
from stonekettle.core.run_data import HARDWARE, RunData
from stonekettle.core.types import FloatArray

LEAST_ERROR = 1e-9
"""What costs exactly the same each second has none, and rounding is no growth."""
FALSE_ALARMS = 0.008
LEAST, LEAST_RESPONSE = 0.05, 0.20
SUPPORTING = 1.5
"""What all levels together show counts where the later visit itself shows it by so many standard errors."""
RESPONSE_DEVIATIONS = 4.0
FAILING = 0.02
LEAST_BUSY = 0.05
NOT_RECOVERED = 0.15
OUTSTANDING = 5.0
MOST_BUSY = 0.85
"""A resource that is busier on average cannot stand out."""
LEAST_EVENTS = 4
WITHIN = (0.05, 0.1)
MULTIPLES = 6
AT_ONCE_S = 3.0
"""What stands out in two figures within such a time is one event."""
RARE = 4e-3
SETTLE_S = 2.0

Kind = Literal["slower", "faster", "not recovered", "periodic"]


@dataclass(frozen=True)
class Change:
    """One thing that was not the same all the time.

    ``subject`` is the key of a resource, or "response" or "throughput". ``size`` is the share by which it grew (slower)
    or shrank (faster) over the time looked at, of throughput lost (not recovered), or of time that other work takes
    (periodic, with its ``period_s``). ``load`` is the one visited twice, None for a trend within levels.
    """

    kind: Kind
    subject: str
    size: float
    load: float | None = None
    period_s: float | None = None


def find(run: RunData, levels: Sequence[Level]) -> tuple[Change, ...]:
    """What changed during a run, most telling first; at most one slower or faster and one periodic."""
    levels = sorted(levels, key=lambda lv: lv.start_s)
    pairs = list(_visits_twice(levels))
    lost = [change for again, before in pairs if (change := _not_recovered(again, before))]
    if not lost:
        lost = _slower_or_faster(run, levels, pairs)
    return (*lost[:1], *_periodic(run, levels))


def _visits_twice(levels: Sequence[Level]) -> Iterable[tuple[Level, Sequence[Level]]]:
    """Levels below one that came before, each with the levels on the way up around its load (one or two)."""
    for i, level in enumerate(levels):
        rising: list[Level] = []
        for earlier in levels[:i]:
            if not rising or earlier.load.delivered > rising[-1].load.delivered:
                rising.append(earlier)
        if rising and level.load.delivered < 0.98 * rising[-1].load.delivered:
            near = sorted(rising, key=lambda lv: abs(math.log(lv.load.delivered / level.load.delivered)))
            below = [lv for lv in near if lv.load.delivered <= level.load.delivered * 1.02][:1]
            above = [lv for lv in near if lv.load.delivered > level.load.delivered * 1.02][:1]
            same = below and below[0].load.delivered >= 0.98 * level.load.delivered
            yield level, below if same else [*below, *above]


def _not_recovered(again: Level, before: Sequence[Level]) -> Change | None:
    """Fewer successes at the same load than on the way up, while more fail or wait."""
    if len(before) < 2 and not math.isclose(before[0].load.delivered, again.load.delivered, rel_tol=0.05):
        return None
    usual = _between(again, before, [lv.throughput for lv in before])
    se = math.hypot(again.throughput_se, *(lv.throughput_se / len(before) for lv in before))
    lost = 1 - again.throughput / usual if usual > 0 else 0.0
    if lost > NOT_RECOVERED and usual - again.throughput > RESPONSE_DEVIATIONS * se:
        return Change("not recovered", "throughput", lost, again.load.delivered)
    return None


def _between(again: Level, before: Sequence[Level], values: Sequence[float]) -> float:
    """The value at the load of ``again``, on a straight line between those around it."""
    ordered = sorted(zip((lv.load.delivered for lv in before), values, strict=True))
    loads, ordered_values = zip(*ordered, strict=True)
    return float(np.interp(again.load.delivered, loads, ordered_values))


@dataclass(frozen=True)
class _Costs:
    """Of one resource: for each block of each level the log of what a step costs, its middle (s) and its steps."""

    key: str
    level: FloatArray
    time_s: FloatArray
    log_cost: FloatArray
    steps: FloatArray

    @property
    def variation2(self) -> float:
        """The variance of the log of one step's cost, from the spread of blocks within levels."""
        total = freedom = 0.0
        for level in np.unique(self.level):
            inside = self.level == level
            mean = np.average(self.log_cost[inside], weights=self.steps[inside])
            total += float((self.steps[inside] * (self.log_cost[inside] - mean) ** 2).sum())
            freedom += int(inside.sum()) - 1
        return total / freedom if freedom > 0 else math.nan

    def of(self, level: Level) -> tuple[float, float]:
        """Mean log of the cost at a level, and its steps."""
        inside = self.level == level.number
        if not inside.any():
            return math.nan, 0.0
        return float(np.average(self.log_cost[inside], weights=self.steps[inside])), float(self.steps[inside].sum())

    def trend(self) -> tuple[float, float, float]:
        """Growth of the log cost per second within levels, its standard error, and for how long levels lasted (s)."""
        x, y = self.time_s.copy(), self.log_cost.copy()
        for level in np.unique(self.level):
            inside = self.level == level
            x[inside] -= np.average(x[inside], weights=self.steps[inside])
            y[inside] -= np.average(y[inside], weights=self.steps[inside])
        spread = float((self.steps * x * x).sum())
        if spread <= 0:
            return 0.0, math.inf, 0.0
        return (
            float((self.steps * x * y).sum()) / spread,
            math.sqrt(self.variation2 / spread),
            float(np.ptp(self.time_s)),
        )


def _slower_or_faster(
    run: RunData, levels: Sequence[Level], pairs: Sequence[tuple[Level, Sequence[Level]]]
) -> list[Change]:
    costs = [one for one in _costs(run, levels) if math.isfinite(one.variation2)]
    asked = max(1, len(costs) * (len(pairs) + 1))
    allowed = float(-special.ndtri(FALSE_ALARMS / asked / 2))
    found: list[tuple[float, Change]] = []
    for one in costs:
        for again, before in pairs:
            later, steps = one.of(again)
            earlier = [one.of(lv) for lv in before]
            if not steps or not all(n for _, n in earlier):
                continue
            growth = later - _between(again, before, [log for log, _ in earlier])
            error = math.sqrt(one.variation2 * (1 / steps + 1 / sum(n for _, n in earlier)))
            sure = abs(growth) / max(error, LEAST_ERROR)
            change = _grown(one.key, growth, again.load.delivered)
            if sure > SUPPORTING:
                drift, of_drift = _with_the_climb(one, levels)
                sure = max(sure, of_drift if drift * growth > 0 else 0.0)
            found.append((sure, change))
        slope, se, seconds = one.trend()
        if seconds > 0:
            found.append((abs(slope) / max(se, LEAST_ERROR), _grown(one.key, slope * seconds, None)))
    if not costs:
        found += [_response_again(again, before) for again, before in pairs]
        allowed = RESPONSE_DEVIATIONS
    told = [(sure, change) for sure, change in found if sure > allowed and abs(change.size) > _least(change)]
    return [change for _, change in sorted(told, key=lambda pair: -pair[0])]


def _with_the_climb(cost: _Costs, levels: Sequence[Level]) -> tuple[float, float]:
    """Growth per second of what a step costs over all levels, where a later visit keeps time and load apart, and how
    many standard errors it is: busy servers = U₀ + D·X + G·X·t by least squares, U₀ not negative."""
    told = [(lv, *cost.of(lv)) for lv in levels]
    told = [row for row in told if row[2] > 0]
    if len(told) < 5:
        return 0.0, 0.0
    rate = np.array([lv.completion_rate for lv, _, _ in told])
    work = np.exp([log for _, log, _ in told]) * rate
    time_s = np.array([(lv.start_s + lv.end_s) / 2 for lv, _, _ in told])
    time_s -= time_s.mean()
    # A sum of n services varies as their number.
    se = work * np.sqrt(cost.variation2 / np.array([n for _, _, n in told]))
    for design in (np.stack([np.ones_like(rate), rate, rate * time_s]), np.stack([rate, rate * time_s])):
        covariance = np.linalg.pinv(design / se**2 @ design.T)
        fitted = covariance @ (design / se**2 @ work)
        if len(fitted) == 2 or fitted[0] > 0:
            break
    known = covariance[-1, -1] > 0
    return float(fitted[-1]), float(abs(fitted[-1]) / math.sqrt(covariance[-1, -1])) if known else 0.0


def _least(change: Change) -> float:
    return LEAST_RESPONSE if change.subject == "response" else LEAST


def _grown(subject: str, growth: float, load: float | None) -> Change:
    return Change("slower" if growth > 0 else "faster", subject, abs(math.expm1(growth)), load)


def _response_again(again: Level, before: Sequence[Level]) -> tuple[float, Change]:
    usual = _between(again, before, [lv.response_s for lv in before])
    se = math.hypot(again.response_se_s, *(lv.response_se_s / math.sqrt(len(before)) for lv in before))
    if not (usual > 0 and again.response_s > 0 and se > 0):
        return 0.0, _grown("response", 0.0, None)
    growth = math.log(again.response_s / usual)
    return abs(again.response_s - usual) / se, _grown("response", growth, again.load.delivered)


def _costs(run: RunData, levels: Sequence[Level]) -> Iterable[_Costs]:
    finished = run.completed.sum(axis=1).astype(np.float64)
    least_failing = min((level.error_ratio for level in levels), default=0.0)
    for resource in run.resources:
        if resource.kind not in HARDWARE:
            continue
        busy = resource.utilisation * resource.capacity
        rows: list[tuple[float, float, float, float]] = []
        for level in levels:
            # Steps that are refused or given up cost something else.
            failing = level.error_ratio > least_failing + FAILING
            if failing or not level.utilisation.get(resource.key, math.nan) >= LEAST_BUSY:
                continue
            window = level.window(run.seconds)
            seconds = np.flatnonzero(window.used & np.isfinite(busy))
            block = window.block_of_second[seconds]
            lengths, steps, work, times = (
                np.bincount(block, of, window.blocks)
                for of in (np.ones(seconds.size), finished[seconds], busy[seconds], seconds.astype(np.float64))
            )
            told = (steps >= 5) & (work > 0)
            middle, cost = times[told] / lengths[told], np.log(work[told] / steps[told])
            rows += [(level.number, *row) for row in zip(middle, cost, steps[told], strict=True)]
        if len(rows) >= 6:
            yield _Costs(resource.key, *np.array(rows).T)


def _periodic(run: RunData, levels: Sequence[Level]) -> tuple[Change, ...]:
    """Other work at regular times, as the resource or the response tells that it tells best."""
    found = []
    series = [(r.key, r.utilisation) for r in run.resources if r.kind in HARDWARE]
    # Of a count the square root varies alike at every rate.
    series.append(("throughput", -np.sqrt(run.completed.sum(axis=1))))
    with np.errstate(divide="ignore", invalid="ignore"):
        mean = run.response_sum_s.sum(axis=1) / run.succeeded
        series.append(("response", np.where(run.succeeded > 0, np.log(mean), np.nan)))
    events = [
        (
            subject,
            _events(levels, np.where(run.counting, values, np.nan), resource=subject not in ("response", "throughput")),
        )
        for subject, values in series
    ]
    told_by = max(events, key=lambda pair: len(pair[1]))[0]
    for subject, stretches in (*events, (told_by, _merged([one for _, of in events for one in of]))):
        regular = _regular(stretches)
        if regular is not None:
            chance, period_s, length_s = regular
            found.append((chance, Change("periodic", subject, length_s / period_s, None, period_s)))
    told = [(chance, change) for chance, change in found if chance < RARE]
    return (min(told, key=lambda pair: pair[0])[1],) if told else ()


def _events(levels: Sequence[Level], values: FloatArray, *, resource: bool) -> list[tuple[float, float]]:
    """When values stand out from their level, and for how long (s)."""
    found: list[tuple[float, float]] = []
    for level in levels:
        # From its beginning: what is regular goes on while a level settles.
        first = math.ceil(level.start_s + SETTLE_S)
        inside = values[first : int(level.end_s)]
        known = inside[np.isfinite(inside)]
        if known.size < 8 or (resource and known.mean() > MOST_BUSY):
            continue
        middle = float(np.median(known))
        usual = 1.4826 * float(np.median(np.abs(known - middle)))
        out = np.nan_to_num(inside - middle) > OUTSTANDING * max(usual, 0.02)
        for start in np.flatnonzero(out & ~np.concatenate([[False], out[:-1]])):
            lasts = int(np.argmin(np.append(out[start:], False)))
            if not found or first + start - found[-1][0] >= 2 + found[-1][1]:
                found.append((float(first + start), float(lasts)))
    return found


def _merged(stretches: Sequence[tuple[float, float]]) -> list[tuple[float, float]]:
    """Events of several figures, each once, by the first sign of it."""
    merged: list[tuple[float, float]] = []
    for at, lasts in sorted(stretches):
        if not merged or at - merged[-1][0] > AT_ONCE_S:
            merged.append((at, lasts))
    return merged


def _regular(events: Sequence[tuple[float, float]]) -> tuple[float, float, float] | None:
    """How likely gaps are so regular by chance, the period (s), and how long an event lasts (s)."""
    if len(events) < LEAST_EVENTS:
        return None
    gaps = np.diff([at for at, _ in events])
    best: tuple[float, float] | None = None
    for candidate in np.unique(gaps):
        multiple = np.clip(np.round(gaps / candidate), 1, MULTIPLES)
        for within in WITHIN:
            fits = np.abs(gaps / candidate - multiple) <= within
            period = float((gaps[fits] / multiple[fits]).mean())
            # The candidate is one of them: it fits itself.
            by_chance = float(special.bdtrc(int(fits.sum()) - 2, len(gaps) - 1, 2 * within))
            chance = len(WITHIN) * len(gaps) * by_chance
            if best is None or chance < best[0]:
                best = chance, period
    return (best[0], best[1], float(np.mean([lasts for _, lasts in events]))) if best else None


def aged(changes: Sequence[Change]) -> float:
    """By how much what steps cost changed over the run, 0 where it did not."""
    return max((change.size for change in changes if change.kind in ("slower", "faster")), default=0.0)


def interrupted(changes: Sequence[Change]) -> float:
    """The share of time that something else takes, 0 where nothing does."""
    return max((change.size for change in changes if change.kind == "periodic"), default=0.0)
