"""What moves with it: by how much does each metric of each component go with a step's response time, or any other row?

Blocks of a few seconds are compared by rank (Spearman 1904): whatever rises where the other does counts, by whatever
law. Each metric is shifted by up to ``REACH_S`` either way, and the shift that fits best is taken.

**With the load taken out.** In a climb whatever grows with users goes with everything else that does. So the same is
asked of what is left of both once the load has explained what it can: ranks as normal scores, less their regression on
users (a broken line through quantiles, so that no shape is presumed), on the steps begun and done in the block, and on
how late the generators were (partial correlation, Fisher 1924). Each is explained by the load of its own time.

**Chance.** Successive blocks are alike, so that there are fewer independent ones than blocks: Bartlett's (1946)
variance for two series with a memory. The best of many shifts is better than any one by chance: the probability counts
for as many as there are shifts of independent blocks (Bonferroni). Over hundreds of metrics false discoveries are kept
to ``FALSE`` (Benjamini & Hochberg 1995).

**Worth naming.** What queues at a resource goes with response time by law, if only by a little (Little 1961), and
chance makes some blocks of work longer. So metrics are named only where the target reaches beyond what the load
explains by ``LEAST_UNEXPLAINED``, and the metric itself by ``LEAST_VARIES``, both from the low tenth to the high one.
A metric that counts something and goes more closely with the requests in flight than with response time counts those
who wait: that is response time seen inside, and told apart.

A correlation is one. It says where to look, never why.
"""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from scipy import special, stats

from stonekettle.core.types import CoreInputError, FloatArray

REACH_S = 60
"""A metric is shifted by so much at most, and by no more than a fourth of what is looked at."""
LEAST_BLOCKS = 12
FALSE = 0.02
LEAST_UNEXPLAINED, LEAST_VARIES = 0.6, 0.1
"""Shares of the target's mean, and of the metric's middle. In healthy runs of the practice system's twin response times
reach 0.1 to 0.5 beyond, most where a resource is nearly full."""
SHIFTS = 2.0
"""Of independent shifts a series with a memory has about so many for each block that counts."""
NOT_MOVING = 0.5
"""A metric whose correlation is below this at any shift, for sure, did not move with the target."""
NEARLY = 0.97
"""Of shifts that fit nearly as well as the best the shortest is taken: such a share of its correlation."""
MOST_KNOTS, BLOCKS_A_KNOT = 12, 8
MEMORY = 12
"""Blocks after which one is forgotten, for the likeness of successive ones."""
FIFTH = 0.2
MOSTLY = 0.8
"""Known in such a share of the blocks in which the best known is."""
_TENTHS = (0.1, 0.9)

SAME, CLOSER = 0.6, 0.05
"""What goes by so much with the requests in flight, and by so much more than with the target, counts the same wait."""

Standing = Literal["moves", "the same", "a little", "does not", "unknown"]
"""Goes with the target; goes with it, for it counts those who wait; goes with it, and is too little of it to matter;
cannot have, or nobody can tell."""


@dataclass(frozen=True)
class Together:
    """How a metric goes with the target: the rank correlation at the shift that fits best, -1..1. ``lag_s`` is how long
    the target follows the metric; below 0 it is before it. ``p`` is the chance of one as strong at any shift where
    nothing goes together; ``false_share`` of how many as strong as this, at least, are expected to be chance."""

    correlation: float
    lag_s: int
    p: float
    false_share: float


@dataclass(frozen=True)
class Move:
    """A metric beside the target: ``plain`` as they are, ``apart`` with the load taken out.

    ``swing`` is how much higher the target is in the metric's high fifth than in its low one with the load taken out,
    as a share of its mean; ``varies`` how far the metric reaches beyond what the load explains, in shares of its
    middle.
    """

    key: str
    plain: Together
    apart: Together
    swing: float
    varies: float
    standing: Standing


@dataclass(frozen=True)
class Moving:
    """All metrics against the target, those first that move with it most surely with the load taken out. ``still`` did
    not vary at all, or were hardly measured. ``blocks`` is how many there were, ``unexplained`` how far the target
    reaches beyond what the load explains, as a share of its mean."""

    blocks: int
    block_s: int
    moves: tuple[Move, ...]
    still: tuple[str, ...]
    unexplained: float

    @property
    def named(self) -> tuple[Move, ...]:
        return tuple(move for move in self.moves if move.standing == "moves")


@dataclass(frozen=True)
class Load:
    """What the load is made of, each of shape (n,): ``users`` ordered (or arrivals per second), steps ``begun`` and
    ``done`` per second; and how many users waited for the generators, who were ``late`` (overdue or unseen)."""

    users: FloatArray
    begun: FloatArray
    done: FloatArray
    late: FloatArray | None = None


def moving(
    target: tuple[FloatArray, FloatArray],
    metrics: Mapping[str, FloatArray],
    load: Load,
    *,
    in_flight: FloatArray | None = None,
    counting: Collection[str] = (),
    block_s: int = 5,
    every_s: int = 1,
    window: tuple[int, int] | None = None,
) -> Moving | None:
    """Every metric beside the target, in blocks of ``block_s`` within the ``window`` (rows from, before; all of it
    without one).

    All series have shape (n,), a value for each row of ``every_s`` seconds, NaN where unknown. The ``target`` is a sum
    and what it is divided by, block by block. Held against the requests ``in_flight``, those metrics that are
    ``counting`` may turn out to count the same wait. None where too few blocks are known, or the target stood still.
    Raises :class:`CoreInputError` where shapes differ, or a block is no whole number of rows.
    """
    n = load.users.size
    if any(series.shape != (n,) for series in (*target, load.begun, load.done, *metrics.values())):
        raise CoreInputError(f"All series must have {n} values, as the users have")
    if block_s % every_s or block_s < every_s:
        raise CoreInputError(f"block_s: {block_s} is no whole number of rows of {every_s} s")
    grid = _Grid(block_s // every_s, every_s, *(window or (0, n)), n)
    sums, counts = (grid.blocks(series[None, :], 0, within=True)[0] for series in target)
    with np.errstate(divide="ignore", invalid="ignore"):
        values = np.where(counts > 0, sums / counts, np.nan)
    explained = _Explained.of(load, grid, 0)
    known = np.isfinite(values) & explained.known
    if known.sum() < LEAST_BLOCKS or np.ptp(values[known]) <= 0:
        return None
    mean = float(np.mean(values[known]))
    left = _left(explained, values, known) / mean if mean > 0 else math.nan
    keys: list[str] = []
    still: list[str] = []
    rows: list[FloatArray] = []
    for key, series in metrics.items():
        own = grid.blocks(series[None, :], 0, within=True)[0]
        there = np.isfinite(own)
        moves = there.sum() >= max(LEAST_BLOCKS, 0.5 * known.sum()) and np.ptp(own[there]) > 0
        if moves:
            keys.append(key)
            rows.append(series)
        else:
            still.append(key)
    if not keys:
        return Moving(int(known.sum()), block_s, (), tuple(still), left)
    table = np.vstack(rows)
    plain = _together(grid, table, values, known, None)
    apart = _together(grid, table, values, known, load)
    same = np.zeros(len(keys), dtype=np.bool_)
    if in_flight is not None:
        flying = grid.blocks(in_flight[None, :], 0, within=True)[0]
        inside = _together(grid, table, flying, np.isfinite(flying) & explained.known, load).correlation
        same = (inside >= SAME) & (inside > np.abs(apart.correlation) + CLOSER)
        same &= np.array([key in counting for key in keys])
    swing, varies = _worth(grid, table, values, known, explained, apart.lag_rows)
    moves = [
        Move(
            key,
            plain.of(i, every_s),
            apart.of(i, every_s),
            float(swing[i]),
            float(varies[i]),
            _standing(apart, i, bool(same[i]), left >= LEAST_UNEXPLAINED and varies[i] >= LEAST_VARIES),
        )
        for i, key in enumerate(keys)
    ]
    moves.sort(key=lambda move: (move.standing != "moves", move.apart.p, -abs(move.apart.correlation), move.key))
    return Moving(int(known.sum()), block_s, tuple(moves), tuple(still), left)


def least_explained(
    targets: Sequence[tuple[FloatArray, FloatArray]], load: Load, *, block_s: int = 5, every_s: int = 1
) -> int | None:
    """Which of the targets (:func:`moving`), all of a kind, the load explains least: by how far they reach beyond what
    it explains, from the low tenth to the high one, as a share of their mean, or of the mean of all where that is
    longer: what is short varies by what measuring adds. Those that are known most of the time come first; None where
    none is."""
    grid = _Grid(block_s // every_s, every_s, 0, load.users.size, load.users.size)
    explained = _Explained.of(load, grid, 0)
    found = []
    for sums, counts in (grid.blocks(np.vstack(target), 0, within=True) for target in targets):
        known = (counts > 0) & np.isfinite(sums) & explained.known
        if known.sum() >= LEAST_BLOCKS:
            values = np.where(known, sums / np.where(counts > 0, counts, 1.0), 0.0)
            found.append((known.mean(), _left(explained, values, known), float(values[known].mean())))
        else:
            found.append((0.0, 0.0, math.nan))
    if all(math.isnan(mean) for _, _, mean in found):
        return None
    usual = float(np.nanmean([mean for _, _, mean in found]))
    often = max(share for share, _, _ in found)
    scores = [
        (share >= MOSTLY * often, left / max(mean, usual)) if mean > 0 else (False, 0.0) for share, left, mean in found
    ]
    return max(range(len(scores)), key=scores.__getitem__)


def _left(explained: _Explained, values: FloatArray, known: FloatArray) -> float:
    rest = explained.rest(np.where(known, values, 0.0)[None, :])[0][known]
    return float(np.ptp(np.quantile(rest, _TENTHS)))


@dataclass(frozen=True)
class _Grid:
    """Blocks of ``size`` rows within the rows from ``start`` to before ``end`` of ``n``."""

    size: int
    every_s: int
    start: int
    end: int
    n: int

    @property
    def count(self) -> int:
        return max(0, (min(self.end, self.n) - self.start) // self.size)

    @property
    def reach(self) -> int:
        """By how many blocks a metric is shifted at most."""
        return min(REACH_S // (self.size * self.every_s), self.count // 4)

    def blocks(self, table: FloatArray, phase: int, *, within: bool = False) -> FloatArray:
        """Means of blocks ``phase`` rows later, shape (m, count), NaN where most of one is unknown. Those not
        ``within`` reach out of the window on both sides, by as many as a metric is shifted; outside the run nothing is
        known."""
        aside = 0 if within else self.reach
        first = self.start + phase - aside * self.size
        wanted = np.arange(first, first + (self.count + 2 * aside) * self.size)
        inside = (wanted >= 0) & (wanted < self.n)
        rows = np.full((table.shape[0], wanted.size), np.nan)
        rows[:, inside] = table[:, wanted[inside]]
        parts = rows.reshape(table.shape[0], -1, self.size)
        there = np.isfinite(parts)
        count = there.sum(axis=2)
        total = np.where(there, parts, 0.0).sum(axis=2)
        return np.where(2 * count >= self.size, total / np.maximum(count, 1), np.nan)


@dataclass(frozen=True)
class _Explained:
    """What the load of each block explains: orthonormal columns, shape (count, k), zero where the load is unknown."""

    basis: FloatArray
    known: FloatArray

    @classmethod
    def of(cls, load: Load, grid: _Grid, phase: int, *, within: bool = True) -> _Explained:
        late = np.zeros(load.users.size) if load.late is None else np.nan_to_num(load.late)
        users, begun, done, late = grid.blocks(
            np.vstack([load.users, load.begun, load.done, late]), phase, within=within
        )
        known = np.isfinite(users) & np.isfinite(begun) & np.isfinite(done)
        columns = np.zeros((users.size, 0))
        if known.any():
            rates = _scores(np.vstack([begun, done])[:, known])
            lateness = _scores(np.nan_to_num(late[None, known]))
            columns = np.column_stack([_broken_line(users[known]), *rates, *(rates**2), *lateness])
        whole = np.zeros((users.size, columns.shape[1]))
        whole[known] = columns
        # Columns that say the same (users that arrive and steps begun, say) must not count twice.
        left, sizes, _ = np.linalg.svd(whole, full_matrices=False)
        return cls(left[:, sizes > 1e-6 * max(float(sizes.max(initial=0.0)), 1e-12)], known)

    def rest(self, table: FloatArray) -> FloatArray:
        """What the load leaves of each row of a ``table`` that is zero where it is unknown, shape (m, count)."""
        return np.asarray(table - (table @ self.basis) @ self.basis.T)


@dataclass(frozen=True)
class _Found:
    """Correlations at the best shifts, each of shape (m,)."""

    correlation: FloatArray
    lag_rows: FloatArray
    p: FloatArray
    false_share: FloatArray
    reached: FloatArray
    """How far from 0 the correlation might be all the same, for sure."""

    def of(self, place: int, every_s: int) -> Together:
        lag_s = int(self.lag_rows[place]) * every_s
        return Together(float(self.correlation[place]), lag_s, float(self.p[place]), float(self.false_share[place]))


def _together(grid: _Grid, table: FloatArray, values: FloatArray, known: FloatArray, load: Load | None) -> _Found:
    """The best shift of each row of the table against the target; of what the ``load`` leaves, if it is given."""
    m, aside, size = table.shape[0], grid.reach, grid.size
    own = np.zeros(grid.count)
    own[known] = _scores(values[None, known])[0]
    gone = 0
    if load is not None:
        explained = _Explained.of(load, grid, 0)
        own = np.where(known, explained.rest(own[None, :])[0], 0.0)
        gone = explained.basis.shape[1]
    own = _centred_ranks(own[None, :], known[None, :])
    squares = known[None, :].astype(np.float64)
    lags = [size * shift + phase for shift in range(-aside, aside + 1) for phase in range(size)]
    lags = [lag for lag in lags if abs(lag) <= aside * size]
    found = np.zeros((len(lags), m))
    memory = np.ones(m)
    for phase in range(size):
        blocks = grid.blocks(table, phase)
        there = np.isfinite(blocks)
        scores = _scores(blocks)
        if load is not None:
            around = _Explained.of(load, grid, phase, within=False)
            there &= around.known[None, :]
            scores = around.rest(np.where(there, scores, 0.0))
        ranks = _centred_ranks(scores, there)
        if phase == 0:
            memory = _memory(own, ranks[:, aside : aside + grid.count])
        weights = there.astype(np.float64)
        for place, lag in enumerate(lags):
            shift, rest = divmod(lag, size)
            if rest != phase:
                continue
            part = slice(aside + shift, aside + shift + grid.count)
            theirs, overlap = ranks[:, part], weights[:, part]
            norm = np.sqrt(((theirs**2) @ squares[0]) * (overlap @ (own[0] ** 2)))
            found[place] = np.where(norm > 0, (theirs @ own[0]) / np.maximum(norm, 1e-12), 0.0)
    strength = np.abs(found)
    best = strength.max(axis=0)
    # Of those that fit nearly as well, the shortest shift; a lag below 0 is of a metric that comes after.
    lengths = np.abs(np.array(lags, dtype=np.float64))
    chosen = np.argmin(np.where(strength >= NEARLY * best, lengths[:, None], np.inf), axis=0)
    correlation = found[chosen, np.arange(m)]
    blocks_alone = known.sum() / memory
    freedom = np.maximum(blocks_alone - 2 - gone / memory, 1.0)
    strong = np.minimum(best, 1 - 1e-9)
    chance = 2 * special.stdtr(freedom, -strong * np.sqrt(freedom / (1 - strong**2)))
    p = np.minimum(1.0, chance * np.maximum(1.0, SHIFTS * (2 * aside + 1) / memory))
    reached = np.tanh(np.arctanh(strong) + special.ndtri(0.975) / np.sqrt(np.maximum(freedom - 1, 1.0)))
    false_share = np.asarray(stats.false_discovery_control(p, method="bh"))
    return _Found(correlation, -np.array(lags, dtype=np.float64)[chosen], p, false_share, reached)


def _worth(
    grid: _Grid,
    table: FloatArray,
    values: FloatArray,
    known: FloatArray,
    explained: _Explained,
    lag_rows: FloatArray,
) -> tuple[FloatArray, FloatArray]:
    """How much higher the target is in each metric's high fifth than in its low one, as a share of its mean, both with
    the load taken out and at their shift; and how far each metric reaches beyond what the load explains."""
    mean = float(np.mean(values[known]))
    target = np.where(known, values / mean if mean else values, 0.0)
    target = explained.rest(target[None, :])[0]
    swing, varies = np.zeros(table.shape[0]), np.zeros(table.shape[0])
    for place, row in enumerate(table):
        shift, phase = divmod(-int(lag_rows[place]), grid.size)
        around = grid.blocks(row[None, :], phase)[0]
        blocks = around[grid.reach + shift : grid.reach + shift + grid.count]
        there = np.isfinite(blocks) & known
        if there.sum() < LEAST_BLOCKS:
            continue
        rest = explained.rest(np.where(there, blocks, 0.0)[None, :])[0][there]
        low, high = np.quantile(rest, [FIFTH, 1 - FIFTH])
        own = target[there]
        swing[place] = abs(float(own[rest >= high].mean() - own[rest <= low].mean()))
        tenth = float(np.ptp(np.quantile(rest, _TENTHS)))
        middle = float(np.median(np.abs(blocks[there])))
        varies[place] = tenth / middle if middle > 0 else math.inf
    return swing, varies


def _standing(apart: _Found, place: int, same: bool, matters: bool) -> Standing:
    if apart.false_share[place] <= FALSE:
        return "a little" if not matters else "the same" if same else "moves"
    return "does not" if apart.reached[place] < NOT_MOVING else "unknown"


def _broken_line(users: FloatArray) -> FloatArray:
    """Hats over quantiles of the users, shape (count, knots): any line broken there is a sum of them."""
    most = max(1, min(MOST_KNOTS, users.size // BLOCKS_A_KNOT))
    knots = np.unique(np.quantile(users, np.linspace(0, 1, most))) if most > 1 else np.zeros(1)
    if knots.size < 2:
        return np.ones((users.size, 1))
    return np.column_stack([np.interp(users, knots, hat) for hat in np.eye(knots.size)])


def _scores(table: FloatArray) -> FloatArray:
    """Normal scores of each row's ranks (Blom 1958), 0 where it is unknown."""
    ranks = stats.rankdata(table, axis=1, nan_policy="omit")
    there = np.isfinite(table)
    count = np.maximum(there.sum(axis=1, keepdims=True), 1)
    return np.where(there, special.ndtri((np.nan_to_num(ranks, nan=1.0) - 0.375) / (count + 0.25)), 0.0)


def _centred_ranks(table: FloatArray, there: FloatArray) -> FloatArray:
    """Ranks of each row less their mean, 0 where it is unknown."""
    ranks = stats.rankdata(np.where(there, table, np.nan), axis=1, nan_policy="omit")
    mean = (there.sum(axis=1, keepdims=True) + 1) / 2
    return np.where(there, ranks - mean, 0.0)


def _memory(own: FloatArray, theirs: FloatArray) -> FloatArray:
    """How many blocks count as one for each metric (Bartlett 1946), at least 1, shape (m,)."""
    count = own.shape[1]
    found = np.ones(theirs.shape[0])
    for lag in range(1, min(MEMORY, count - 1) + 1):
        mine, others = (
            (rows[:, lag:] * rows[:, :-lag]).sum(axis=1) / np.maximum((rows**2).sum(axis=1), 1e-12)
            for rows in (own, theirs)
        )
        found += 2 * (1 - lag / count) * mine * others
    return np.maximum(found, 1.0)


@dataclass(frozen=True)
class Picture:
    """Blocks of a target to be drawn against those of metrics, every ``each``-th of them."""

    target: FloatArray
    each: int
    _grid: _Grid

    @classmethod
    def of(cls, target: tuple[FloatArray, FloatArray], window: tuple[int, int], size: int, most: int) -> Picture:
        """Blocks of ``size`` rows in the window, so many at most."""
        grid = _Grid(size, 1, *window, target[0].size)
        sums, counts = (grid.blocks(series[None, :], 0, within=True)[0] for series in target)
        each = max(1, math.ceil(grid.count / most))
        with np.errstate(divide="ignore", invalid="ignore"):
            return cls(np.where(counts > 0, sums / counts, np.nan)[::each], each, grid)

    def beside(self, metric: FloatArray, lag: int) -> FloatArray:
        """The metric's blocks beside them, which follow it by ``lag`` rows."""
        shift, phase = divmod(-lag, self._grid.size)
        moved = self._grid.blocks(metric[None, :], phase + shift * self._grid.size, within=True)[0]
        return np.asarray(moved[:: self.each], dtype=np.float64)
