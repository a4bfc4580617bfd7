"""What was measured at each load, once the system had settled?

A level is ordered load held for at least 10 s with at least 100 completions. Its beginning is
discarded: the larger of a fifth and two mean cycles (a journey's think and response times), at
most half. Truncation rules that search the data for the end of the warm-up (MSER-5, White 1997) gave
no benefit, as sampling noise dominates. Standard errors come from batch means over 5-second
blocks (Conway 1963).

The load of a level is what the system felt: users present less those overdue. Response times have two
ends: as recorded, and less the time in which the generator had not looked.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from stonekettle.core.histogram import cropped, several_percentiles_s
from stonekettle.core.load import Load
from stonekettle.core.orders import PlannedLevel
from stonekettle.core.quantile import intervals_s
from stonekettle.core.run_data import RunData, Times
from stonekettle.core.types import BoolArray, FloatArray, IntArray

MIN_HOLD_S = 10.0
MIN_COMPLETIONS = 100
BLOCK_S = 5
MIN_BLOCKS = 4
PERCENTS = (50, 95, 99)
WARM_UP_SHARE = 0.2
WARM_UP_CYCLES = 2.0
OFF_PLAN_SHARE = 0.02
MORE_ERRORS = 0.02
LEAST_DELIVERED = 0.01
"""Of the users present, for a generator that got round to next to none of them: a load is never zero."""
MOST_KEPT, SOME_KEPT = 0.5, 0.2
"""With such a share of response times left beside stalls, these alone count; with less, both count as
ends; with less than some, those left are too few to tell."""
POOL_FULL, POOL_WAITING = 0.95, 0.5
"""A pool is full with so much of it in use and so many waiting, on average."""


@dataclass(frozen=True)
class Window:
    """The seconds of a level that count, and the block each belongs to (−1: left out)."""

    used: BoolArray
    block_of_second: IntArray
    blocks: int


@dataclass(frozen=True)
class StepLevel:
    """One step at one level. Times in seconds; NaN where nothing succeeded. ``intervals`` as of a level."""

    step: int
    throughput: float
    response_s: float
    p50_s: float
    p95_s: float
    p99_s: float
    p95_low_s: float
    completions: int
    errors: int
    intervals: dict[str, tuple[float, float]] = field(default_factory=dict)


@dataclass(frozen=True)
class Level:
    """One level of a run, measured after warm-up.

    ``load`` is its place on the axis of the run. ``users`` are the users present less those overdue; ``blind`` of them
    may have been answered unseen, so that those felt lie between users − blind and users. ``throughput``
    counts successful requests per second, ``throughput_se`` is its standard error; ``thinking`` is the
    mean number of users in think time by the plan's laws (X·Z); ``completion_rate`` counts failed
    requests too. ``p50_low_s`` and so on are the lower ends of the percentiles; ``blind_s`` is the mean
    blind time of a response, ``bunch_s`` how much longer late starts, released together, may have made
    it: twice the mean lateness. ``think_variation`` is over all requests, ``own_variation`` that of each
    step alone; ``steps_in_turn`` the mean number of steps in a journey. Of ``longest_gap_s``
    between two starts the generator stood still for ``gap_stalled_s``. ``spans`` are the seconds that count, each
    from its first to before its end. ``response_se_s`` is the standard error of the mean response; ``unsettled`` by
    how many steps per second those begun and those ended differ. ``intervals`` are the 90 % intervals (s) of its
    percentiles by name ("p95"), blur included; without those that nothing tells.
    """

    number: int
    start_s: float
    end_s: float
    load: Load
    present: float
    users: float
    moving: bool
    throughput: float
    throughput_se: float
    completion_rate: float
    response_s: float
    p50_s: float
    p95_s: float
    p99_s: float
    p50_low_s: float
    p95_low_s: float
    p99_low_s: float
    blind_s: float
    bunch_s: float
    in_flight: float
    thinking: float
    think_variation: float
    own_variation: float
    steps_in_turn: float
    overdue: float
    blind: float
    longest_gap_s: float
    gap_stalled_s: float
    completions: int
    errors: int
    seconds_used: int
    seconds_left_out: int
    steps: tuple[StepLevel, ...]
    utilisation: dict[str, float]
    capacity: dict[str, float]
    waiting: dict[str, float]
    spans: tuple[tuple[int, int], ...]
    response_se_s: float = math.nan
    unsettled: float = 0.0
    intervals: dict[str, tuple[float, float]] = field(default_factory=dict)

    @property
    def error_ratio(self) -> float:
        return self.errors / self.completions if self.completions else 0.0

    def window(self, seconds: int) -> Window:
        """Its seconds within a run of so many, and their blocks."""
        used = np.zeros(seconds, dtype=np.bool_)
        for first, end in self.spans:
            used[first:end] = True
        return _window(used)

    def fills(self, pool: str) -> bool:
        """Whether a pool was full at it."""
        return self.utilisation.get(pool, 0.0) >= POOL_FULL and self.waiting.get(pool, 0.0) >= POOL_WAITING

    @property
    def shift(self) -> float:
        """The share of the users present that may not have been load: overdue or blind."""
        return (self.overdue + self.blind) / self.present if self.present > 0 else 0.0


def measure(run: RunData, planned: Sequence[PlannedLevel]) -> tuple[Level, ...]:
    """The levels of ``run`` that are long and busy enough to analyse, in order of time."""
    bad = gaps(run) | (off_plan(run) & ~_moving(run, planned)) | ~run.counting
    found: list[Level] = []
    for plan in planned:
        if plan.users + plan.rate <= 0 or plan.duration_s < MIN_HOLD_S or plan.start_s >= run.seconds:
            continue
        level = _measure_one(run, plan, bad, len(found) + 1)
        if level is not None:
            found.append(level)
    return _with_pooled_errors(found)


def usual_success(levels: Sequence[Level]) -> tuple[float, float]:
    """The share of steps that succeeds while nothing is overloaded, and its standard error: of the lower third of the
    levels, and of all others where next to no more fail."""
    ordered = sorted(levels, key=lambda lv: lv.load.delivered)
    light = ordered[: max(2, len(ordered) // 3)]
    usual = sum(lv.errors for lv in light) / max(1, sum(lv.completions for lv in light))
    alike = [lv for lv in ordered if lv in light or lv.error_ratio <= usual + MORE_ERRORS]
    n = max(1, sum(lv.completions for lv in alike))
    share = 1 - sum(lv.errors for lv in alike) / n
    return max(share, 1 / n), math.sqrt(share * (1 - share) / n)


def gaps(run: RunData) -> BoolArray:
    """Seconds in which no generator reported, shape (n,)."""
    return np.isnan(run.users)


def off_plan(run: RunData) -> BoolArray:
    """Seconds whose users differ from the plan by over 2 % and more than one user, shape (n,)."""
    allowed = np.maximum(OFF_PLAN_SHARE * run.planned_users, 1.0)
    return np.asarray(np.abs(np.nan_to_num(run.users) - run.planned_users) > allowed, dtype=np.bool_)


def _moving(run: RunData, planned: Sequence[PlannedLevel]) -> BoolArray:
    moving = np.zeros(run.seconds, dtype=np.bool_)
    for plan in planned:
        if plan.moving:
            moving[int(plan.start_s) : int(np.ceil(plan.end_s))] = True
    return moving


def _warm_up_s(run: RunData, plan: PlannedLevel) -> float:
    """The larger of a fifth of the level and two mean cycles, at most half the level."""
    inside = slice(int(np.ceil(plan.start_s)), int(plan.end_s))
    completions = run.completed[inside].sum(axis=0)
    total = max(1, int(completions.sum()))
    think = sum(s.think_s * c for s, c in zip(run.cells, completions, strict=True)) / total
    response = float(run.response_sum_s[inside].sum()) / max(1, int(run.succeeded[inside].sum()))
    wanted = max(
        WARM_UP_SHARE * plan.duration_s, WARM_UP_CYCLES * (think + response) * _steps_in_turn(run, completions)
    )
    return float(min(wanted, plan.duration_s / 2))


def _steps_in_turn(run: RunData, completions: IntArray) -> float:
    """Mean number of steps in a journey: the mix of steps settles over whole journeys only."""
    journeys = [(cell.group, cell.journey) for cell in run.cells]
    first = [i for i, journey in enumerate(journeys) if journeys.index(journey) == i]
    begun = int(completions[first].sum())
    return max(1.0, float(completions.sum()) / begun) if begun else 1.0


def _measure_one(run: RunData, plan: PlannedLevel, bad: BoolArray, number: int) -> Level | None:
    second = np.arange(run.seconds)
    warm_up = 0.0 if plan.moving else _warm_up_s(run, plan)
    settled = (second >= plan.start_s + warm_up) & (second + 1 <= plan.end_s + 1e-9)
    used = settled & ~bad
    seconds = int(used.sum())
    completions = run.completed[used].sum(axis=0)
    total = int(completions.sum())
    if total < MIN_COMPLETIONS or seconds < 2:
        return None
    window = _window(used)
    succeeded = run.succeeded[used]
    blocks = np.bincount(window.block_of_second[used], succeeded, window.blocks)
    lengths = np.bincount(window.block_of_second[used], minlength=window.blocks)
    rates = blocks / lengths
    present, overdue = float(run.users[used].mean()), float(run.overdue[used].mean())
    users = max(present - overdue, LEAST_DELIVERED * present)
    times = best_times(run, used)
    timed = max(1, int(times.count[used].sum()))
    bunch_s = 2 * overdue / (total / seconds)
    highs, lows = percentile_ends(run, used, bunch_s, PERCENTS)
    gap_s, gap_stalled_s = _longest_gap(run, settled & ~gaps(run))
    think_s = np.array([cell.think_s for cell in run.cells])
    variation = np.array([cell.think_variation for cell in run.cells])
    thinking = float(completions @ think_s) / seconds
    # The second moment of a mixture: each step's own variance plus the spread between means.
    second_moment = float(completions @ (think_s**2 * (1 + variation**2))) / total
    mean = float(completions @ think_s) / total
    mixed = np.sqrt(max(second_moment - mean**2, 0.0)) / mean if mean > 0 else 0.0
    return Level(
        number=number,
        start_s=plan.start_s,
        end_s=plan.end_s,
        load=_load(run, plan, used, users),
        present=present,
        users=users,
        moving=plan.moving,
        throughput=float(succeeded.sum()) / seconds,
        throughput_se=float(rates.std(ddof=1) / np.sqrt(window.blocks)) if window.blocks > 1 else np.nan,
        completion_rate=total / seconds,
        response_s=float(times.sum_s[used].sum()) / timed,
        p50_s=highs[0],
        p95_s=highs[1],
        p99_s=highs[2],
        p50_low_s=lows[0],
        p95_low_s=lows[1],
        p99_low_s=lows[2],
        blind_s=float(times.blind_sum_s[used].sum()) / timed,
        bunch_s=bunch_s,
        in_flight=float(run.in_flight[used].mean()),
        thinking=thinking,
        think_variation=float(mixed),
        own_variation=float(np.sqrt(completions @ (think_s * variation) ** 2 / total)) / mean if mean > 0 else 0.0,
        steps_in_turn=_steps_in_turn(run, completions),
        overdue=overdue,
        blind=float(run.blind[used].mean()),
        longest_gap_s=gap_s,
        gap_stalled_s=gap_stalled_s,
        completions=total,
        errors=int(run.errors[used].sum()),
        seconds_used=seconds,
        seconds_left_out=int((settled & bad).sum()),
        steps=tuple(
            _measure_step(run, window, step, list(cells), bunch_s) for step, cells in enumerate(run.cells_of_steps)
        ),
        utilisation={r.key: _mean(r.utilisation[used]) for r in run.resources},
        capacity={r.key: _mean(r.capacity[used]) for r in run.resources},
        waiting={r.key: _mean(r.waiting[used]) for r in run.resources if r.waiting is not None},
        spans=_spans(used),
        response_se_s=_response_se(times, window),
        unsettled=abs(float(run.started[used].sum()) - total) / seconds,
        intervals=_intervals(times, window, None, highs, lows),
    )


def _intervals(
    times: Times, window: Window, cells: Sequence[int] | None, highs: Sequence[float], lows: Sequence[float]
) -> dict[str, tuple[float, float]]:
    """How surely the percentiles are known, from the low end by blur to the high end."""
    blocks = times.histograms.blocks(window.block_of_second, window.blocks, cells)
    found = intervals_s(blocks, PERCENTS)
    blur = {f"p{percent}": low / high for percent, high, low in zip(PERCENTS, highs, lows, strict=True) if high > 0}
    return {name: (low * blur[name], high) for name, (low, high) in found.items() if name in blur}


def _response_se(times: Times, window: Window) -> float:
    """Of the mean over blocks, a ratio of sums (Cochran 1977)."""
    if window.blocks < 2:
        return math.nan
    block = window.block_of_second[window.used]
    counts = np.bincount(block, times.count[window.used].sum(axis=1), window.blocks)
    sums = np.bincount(block, times.sum_s[window.used].sum(axis=1), window.blocks)
    total = max(float(counts.sum()), 1.0)
    off = sums - sums.sum() / total * counts
    return float(np.sqrt(window.blocks / (window.blocks - 1) * (off**2).sum()) / total)


def _load(run: RunData, plan: PlannedLevel, used: BoolArray, users: float) -> Load:
    if run.arrivals is None or not run.arrivals.alone:
        ordered = float(run.planned_users[used].mean()) if plan.rate else plan.users
        return Load("users", ordered, users, float(run.blind[used].mean()))
    ordered = float(run.arrivals.ordered[used].mean())
    came = run.arrivals.started[used] + run.arrivals.turned_away[used]
    return Load("arrivals", ordered, max(float(came.mean()), LEAST_DELIVERED * ordered))


def _window(used: BoolArray) -> Window:
    """Blocks of 5 s, shorter where the level would otherwise have fewer than four."""
    seconds = int(used.sum())
    length = max(1, min(BLOCK_S, seconds // MIN_BLOCKS))
    blocks = max(1, seconds // length)
    block = np.full(used.shape, -1, dtype=np.int64)
    block[used] = np.minimum(np.arange(seconds) // length, blocks - 1)
    return Window(used, block, blocks)


def _spans(used: BoolArray) -> tuple[tuple[int, int], ...]:
    turns = np.flatnonzero(np.diff(np.concatenate([[False], used, [False]]).astype(np.int8)))
    return tuple((int(first), int(end)) for first, end in turns.reshape(-1, 2))


def best_times(run: RunData, used: BoolArray, cells: Sequence[int] | None = None) -> Times:
    """The response times to go by in these seconds: those beside stalls where enough are left."""
    return run.kept if run.kept is not None and _share_kept(run, used, cells) >= MOST_KEPT else run.times


def percentile_ends(
    run: RunData, used: BoolArray, bunch_s: float, percents: Sequence[float], cells: Sequence[int] | None = None
) -> tuple[list[float], list[float]]:
    """The upper and lower end of each percentile (s) over the seconds ``used``; NaN where nothing succeeded.

    ``bunch_s`` is taken off the lower end of times among which stalls were not, or not wholly, cut out.
    """
    share = _share_kept(run, used, cells)
    if run.kept is not None and share >= MOST_KEPT:
        return _both_ends(run.kept, used, percents, cells, 0.0)
    highs, lows = _both_ends(run.times, used, percents, cells, bunch_s)
    if run.kept is not None and share >= SOME_KEPT:
        kept_highs, kept_lows = _both_ends(run.kept, used, percents, cells, 0.0)
        highs = [max(pair) for pair in zip(highs, kept_highs, strict=True)]
        lows = [min(pair) for pair in zip(lows, kept_lows, strict=True)]
    return highs, lows


def _both_ends(
    times: Times, used: BoolArray, percents: Sequence[float], cells: Sequence[int] | None, bunch_s: float
) -> tuple[list[float], list[float]]:
    rows = np.stack([one.merged(used, cells) for one in (times.histograms, times.low_histograms)]).astype(np.float64)
    counts, first = cropped(rows)
    ends = np.array(several_percentiles_s(counts, percents, first))
    highs = ends[:, 0].tolist()
    return highs, [min(h, max(low - bunch_s, h / 10)) for h, low in zip(highs, ends[:, 1].tolist(), strict=True)]


def _share_kept(run: RunData, used: BoolArray, cells: Sequence[int] | None) -> float:
    if run.kept is None:
        return 1.0
    chosen = slice(None) if cells is None else list(cells)
    everything = int(run.times.count[used][:, chosen].sum())
    return int(run.kept.count[used][:, chosen].sum()) / everything if everything else 1.0


def _longest_gap(run: RunData, seconds: BoolArray) -> tuple[float, float]:
    """The longest gap between two starts, and for how much of it a generator stood still (s)."""
    at = int(np.argmax(np.where(seconds, run.start_gap_s, -1.0)))
    gap = float(run.start_gap_s[at])
    inside = np.minimum(run.stalls[:, 1], at + 1) - np.maximum(run.stalls[:, 0], at - gap)
    return gap, min(gap, float(np.maximum(inside, 0).sum()))


def _measure_step(run: RunData, window: Window, step: int, cells: list[int], bunch_s: float) -> StepLevel:
    used = window.used

    def total(counts: IntArray | FloatArray) -> float:
        return float(counts[used][:, cells].sum())

    completions, errors = int(total(run.completed)), int(total(run.errors))
    times = best_times(run, used, cells)
    timed = total(times.count)
    highs, lows = percentile_ends(run, used, bunch_s, PERCENTS, cells)
    p50, p95, p99 = highs
    return StepLevel(
        step=step,
        throughput=(completions - errors) / int(used.sum()),
        response_s=total(times.sum_s) / timed if timed else np.nan,
        p50_s=p50,
        p95_s=p95,
        p99_s=p99,
        p95_low_s=lows[1],
        completions=completions,
        errors=errors,
        intervals=_intervals(times, window, cells, highs, lows),
    )


def _with_pooled_errors(levels: list[Level]) -> tuple[Level, ...]:
    """Standard errors shrunk half-way towards the run's typical dispersion.

    A few blocks estimate a variance badly, and a level whose blocks agree by chance would get a
    huge weight. The dispersion (variance over that of a Poisson count) is alike across levels.
    """
    poisson = np.array([lv.throughput / lv.seconds_used for lv in levels])
    own = np.array([lv.throughput_se**2 for lv in levels])
    known = np.isfinite(own) & (poisson > 0)
    typical = float(np.median(own[known] / poisson[known])) if known.any() else 1.0
    pooled = [
        np.sqrt((o + typical * p) / 2) if ok else np.sqrt(typical * p)
        for o, p, ok in zip(own, poisson, known, strict=True)
    ]
    return tuple(replace(lv, throughput_se=float(se)) for lv, se in zip(levels, pooled, strict=True))


def _mean(values: FloatArray) -> float:
    present = values[np.isfinite(values)]
    return float(present.mean()) if present.size else float("nan")
