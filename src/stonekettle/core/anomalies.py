"""What is unusual while a run goes on: resources that work more than their steps explain, and memory that grows.

**Cost.** Busy servers are a line of what is done, U·m = U₀ + D·X (Denning & Buzen 1978), with a demand D_j of its own
for each step, and parts for steps that failed and for those on their way. The line is fitted as a run goes on, by
Bayesian regression (Gelman et al. 2013, chapter 14) on blocks of ``BLOCK_S``: what has not been seen yet, a mix or a
load, is uncertain and alarms nobody. Each block is foretold from those before it; scores of how far off it was add up
in a one-sided CUSUM (Page 1954), and what began when the sum last left nothing is an anomaly if all its blocks together
are off for ``SURE`` and by ``LEAST_COST`` more than was foretold. From then on the line is no longer fitted: it tells
what was usual.

**Memory.** Growth from block to block beyond what more requests on their way and more users explain, in the same sum,
with the spread from differences of neighbours (von Neumann 1941), which a steady growth does not widen. It is told
where it passes all that was seen before, and would fill the memory within ``FULL_WITHIN_S``: memory that is given back
now and then grows no further than last time.
"""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections import deque
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

import numpy as np

from stonekettle.core.notices import Notice
from stonekettle.core.run_data import HARDWARE
from stonekettle.core.types import FloatArray

BLOCK_S = 5
DRIFT, DECISION, MOST_SCORE = 1.0, 9.0, 3.0
"""The sum loses so much each block, is an alarm at so much, and a block adds at most so much, in deviations."""
SURE = 4.0
"""All blocks of an alarm together are so many deviations off."""
LEAST_BLOCKS = 6
"""So many are seen before one is judged, and an anomaly is told of by its last so many."""
LONGEST = 12
"""A sum that has said nothing for so many blocks was of what is usual by now."""
LEAST_COST, LEAST_BUSY = 0.15, 0.02
"""Worth a look: such a share more than foretold, and such a share of all servers."""
HALVES_AFTER = 120
"""What was so many blocks ago counts half."""
MISPLACED_S = 1.0
"""So far the clocks of a meter and of those who count steps may be apart."""
BACKGROUND = 0.05
"""What a resource may be busy with by itself, as a share of its servers: a deviation."""
SLOPE, APART = 0.3, 1.5
"""How far what a step costs more may be from what steps cost by and large, and how far each step's cost from that, in
shares of it: deviations."""
FULL_WITHIN_S = 3600.0
LEAST_GROWTH = 0.004
"""Memory must have grown by such a share of its limit."""
EACH = 0.005
"""What a user or a request may need of a memory, as a share of all: a deviation."""
MOSTLY = 0.6
"""An instance that does so much of what is unusual is named."""
GIVEN_BACK = 0.3
"""Growth is over when such a share of it has been given back."""


@dataclass(frozen=True)
class Block:
    """``BLOCK_S`` seconds from ``at_s`` on: steps done per second by step (shape (steps,)), those failed and those
    begun among all, and the mean of users and of requests on their way; by resource the busy servers of all there are,
    or of memory the share in use. Unknown resources are left out."""

    at_s: int
    done: FloatArray
    failed: float
    begun: float
    users: float
    in_flight: float
    busy: Mapping[str, float]
    servers: Mapping[str, float]
    memory: Mapping[str, float]


class _Fit:
    """A line fitted block after block by weighted least squares, older blocks forgotten by and by."""

    def __init__(self, size: int) -> None:
        self._squares, self._products = np.zeros((size, size)), np.zeros(size)
        self.blocks = 0

    def foretell(self, features: FloatArray, guess: FloatArray, precision: FloatArray) -> tuple[float, float]:
        """The value expected, and its variance for want of knowledge, in variances of an observation of weight 1.
        What was thought of each coefficient beforehand is a ``guess`` of such a ``precision``."""
        inverse = np.linalg.inv(self._squares + np.diag(precision))
        found = inverse @ (self._products + precision * guess)
        return float(features @ found), float(features @ inverse @ features)

    def learn(self, features: FloatArray, value: float, weight: float) -> None:
        kept = 0.5 ** (1 / HALVES_AFTER)
        self._squares = kept * self._squares + weight * np.outer(features, features)
        self._products = kept * self._products + weight * features * value
        self.blocks += 1


@dataclass(frozen=True, slots=True)
class _Seen:
    """A block of a resource: what was seen of it, how far ``off`` that was, the variance of ``chance`` in that and a
    standard deviation of what is ``unknown`` of the line. One not ``judged`` is only learnt of."""

    at_s: int
    features: FloatArray
    value: float
    weight: float
    off: float
    chance: float
    unknown: float
    judged: bool

    @property
    def score(self) -> float:
        return self.off / math.sqrt(self.chance + self.unknown**2) if self.judged else 0.0


class _Watch(ABC):
    """One resource: its line, the sum of its scores, and the notices so far."""

    def __init__(self, subject: str, size: int) -> None:
        self.subject = subject
        self.notices: list[Notice] = []
        self._fit = _Fit(size)
        self._sum, self._since_s = 0.0, 0
        self._held: list[_Seen] = []
        self._lately: deque[tuple[int, float, float]] = deque(maxlen=LEAST_BLOCKS)
        """Of the last blocks: when, how far off they were, and what that is to be held against."""

    @abstractmethod
    def hear(self, block: Block) -> None:
        """Another block, in order."""

    @abstractmethod
    def _notice(self, since_s: int, share: float) -> Notice | None:
        """What has been going on since then, by the last blocks, if it is worth a look: or such a share of that."""

    @property
    def now(self) -> Notice | None:
        """What goes on."""
        return self.notices[-1] if self.notices and self.notices[-1].until_s is None else None

    def _judge(self, seen: _Seen) -> bool:
        """Add a block to the sum and learn of those that turned out usual; whether it has."""
        if self._sum <= 0.0:
            self._since_s = seen.at_s
        self._sum = max(0.0, self._sum + min(MOST_SCORE, max(-MOST_SCORE, seen.score)) - DRIFT)
        self._held.append(seen)
        if self._sum >= DECISION and self._sure and (notice := self._notice(self._since_s, 1.0)):
            self.notices.append(notice)
            self._held = []
        elif self._sum <= 0.0 or len(self._held) >= LONGEST:
            for one in self._held:
                self._fit.learn(one.features, one.value, one.weight)
            self._held, self._sum = [], 0.0
            return True
        return False

    @property
    def _sure(self) -> bool:
        """Whether the sum's blocks are off by more than chance and what is not known of the line, which they share."""
        table = np.array([(one.off, one.chance, one.unknown) for one in self._held])
        off, chance, unknown = table.T
        weight = 1 / (chance + unknown**2)
        deviation = math.sqrt(float(weight**2 @ chance) + float(weight @ unknown) ** 2)
        return float(weight @ off) >= SURE * (1 + LEAST_BLOCKS / (self._fit.blocks + len(self._held))) * deviation

    def _follow(self, *, over: bool = False) -> None:
        """What goes on may be worse by now, or over."""
        kept, first_s = self.notices[-1], self._lately[0][0]
        if len(self._lately) < LEAST_BLOCKS and not over:
            return
        found = None if over else self._notice(max(first_s, kept.since_s), 0.5)
        if found is None:
            until_s = self._lately[-1][0] if over else first_s
            self.notices[-1] = replace(kept, until_s=max(until_s, kept.since_s + BLOCK_S))
            self._sum = 0.0
        elif found.value > kept.value or self._renewed:
            self.notices[-1] = replace(found, since_s=kept.since_s)

    _renewed = False
    """Whether the last blocks are told of, or the worst ones."""


class _Cost(_Watch):
    """Busy servers against the steps that are done."""

    def __init__(self, subject: str, steps: int) -> None:
        super().__init__(subject, steps + 4)
        self._work = self._done = 0.0
        self._spread, self._spread_of = 0.0, 0
        self._rate: float | None = None
        self._servers = 0.0

    def hear(self, block: Block) -> None:
        busy, self._servers = block.busy[self.subject], block.servers[self.subject]
        rate = float(block.done.sum())
        self._work, self._done = self._work + busy, self._done + rate
        before, self._rate = self._rate, rate
        if before is None or self._done <= 0 or self._work <= 0:
            return
        each = self._work / self._done
        features = np.array([1.0, rate, *block.done, block.begun - rate, block.failed])
        weight = 1 / max(rate, 1 / BLOCK_S)
        noise = self._noise(each, rate)
        known = np.array([BACKGROUND * self._servers, SLOPE * each, *[APART * each] * block.done.size, each, each])
        guess = np.array([0.0, each, *np.zeros(block.done.size + 2)])
        expected, unknown = self._fit.foretell(features, guess, noise / known**2)
        misplaced = MISPLACED_S / BLOCK_S * each * (rate - before)
        off = busy - expected
        self._lately.append((block.at_s, off, expected))
        if self.now:
            self._follow()
            return
        chance, judged = noise / weight + misplaced**2, self._fit.blocks >= LEAST_BLOCKS
        seen = _Seen(block.at_s, features, busy, weight, off, chance, math.sqrt(noise * unknown), judged)
        if self._judge(seen) and judged:
            self._spread += noise * min(abs(seen.score), MOST_SCORE) ** 2
            self._spread_of += 1

    def _noise(self, each: float, rate: float) -> float:
        """The variance of a block's busy servers per unit of rate: to begin with that of exponential service, and of
        readings that are a hundredth off."""
        read = (0.01 * self._servers) ** 2 / max(rate, 1 / BLOCK_S)
        first = (2 * each**2 + read) / BLOCK_S
        return (LEAST_BLOCKS * first + self._spread) / (LEAST_BLOCKS + self._spread_of)

    def _notice(self, since_s: int, share: float) -> Notice | None:
        own = [(off, expected) for at_s, off, expected in self._lately if at_s >= since_s]
        excess, usual = (float(np.mean(column)) for column in zip(*own, strict=True))
        if excess <= share * max(LEAST_COST * usual, LEAST_BUSY * self._servers):
            return None
        return Notice("cost", self.subject, since_s, None, excess / max(usual, LEAST_BUSY * self._servers), LEAST_COST)


class _Memory(_Watch):
    """Memory in use against users and requests on their way."""

    _renewed = True

    def __init__(self, subject: str) -> None:
        super().__init__(subject, 3)
        self._before: tuple[float, float, float] | None = None
        self._off: float | None = None
        self._differences, self._differences_of = 0.0, 0
        self._used = self._highest = self._peak = 0.0
        """Now, the most while all was usual, and the most at all."""

    def hear(self, block: Block) -> None:
        used = block.memory[self.subject]
        before, self._before = self._before, (used, block.users, block.in_flight)
        if before is None:
            self._used = self._highest = self._peak = used
            return
        # Who gave up may have left requests behind, which nobody counts as on their way.
        features = np.array([block.users - before[1], block.in_flight - before[2], BLOCK_S * block.failed])
        precision = np.full(3, self._variance / EACH**2)
        expected, unknown = self._fit.foretell(features, np.zeros(3), precision)
        off = used - before[0] - expected
        self._used, self._peak = used, max(self._peak, used)
        self._lately.append((block.at_s, off, used))
        if self._off is not None:
            difference2 = (off - self._off) ** 2 / 2
            judged = self._differences_of >= LEAST_BLOCKS
            self._differences += min(difference2, 9 * self._variance) if judged else difference2
            self._differences_of += 1
        self._off = off
        if self.now:
            given_back = self._peak - used > GIVEN_BACK * (self._peak - self._highest)
            self._follow(over=given_back)
            if not self.now:
                self._highest = self._peak
            return
        judged, chance = self._differences_of >= LEAST_BLOCKS, self._variance
        lacking = math.sqrt(chance * unknown)
        if self._judge(_Seen(block.at_s, features, used - before[0], 1.0, off, chance, lacking, judged)):
            self._highest = max(self._highest, used)

    @property
    def _variance(self) -> float:
        return self._differences / max(1, self._differences_of) + 1e-12

    def _notice(self, since_s: int, share: float) -> Notice | None:
        """``value`` is the growth a second, ``limit`` what is in use by now, as shares of all."""
        own = [off for at_s, off, _ in self._lately if at_s >= since_s]
        growth = float(np.mean(own)) / BLOCK_S
        passed = self._used - self._highest if self.now is None else LEAST_GROWTH
        if passed < LEAST_GROWTH or growth * FULL_WITHIN_S < share * (1 - self._used):
            return None
        return Notice("memory", self.subject, since_s, None, growth, self._used)


def block_of(
    at_s: int,
    completed: FloatArray,
    load: Mapping[str, FloatArray],
    resources: Iterable[tuple[str, str, FloatArray, FloatArray]],
) -> Block:
    """The block of ``BLOCK_S`` seconds from ``at_s`` on. ``completed`` has the shape (BLOCK_S, steps), what else
    happened in these seconds is in ``load`` (shape (BLOCK_S,): failed, begun, users, in_flight); of each resource its
    key, its kind, utilisation and capacity. A resource of which less than most is known is left out."""
    busy: dict[str, float] = {}
    servers: dict[str, float] = {}
    memory: dict[str, float] = {}
    for key, kind, utilisation, capacity in resources:
        known = np.isfinite(utilisation) & np.isfinite(capacity) & (capacity > 0)
        if known.sum() <= BLOCK_S / 2:
            continue
        if kind in HARDWARE:
            busy[key] = float((utilisation * capacity)[known].mean())
            servers[key] = float(capacity[known].mean())
        elif kind == "memory":
            memory[key] = float(utilisation[known].mean())
    means = {name: float(series.mean()) for name, series in load.items()}
    return Block(at_s, completed.mean(axis=0), busy=busy, servers=servers, memory=memory, **means)


def mostly_of(before: Mapping[str, float], since: Mapping[str, float], value: float) -> str:
    """The instance that does most of what a resource works more than is explained, empty where it is no single one:
    ``before`` and ``since`` are how busy each was, the same work shared in the same way, and ``value`` is the excess as
    a share of what was foretold."""
    there = before.keys() & since.keys()
    was, now = (sum(busy[name] for name in there) for busy in (before, since))
    if len(there) < 2 or was <= 0:
        return ""
    foretold = now / (1 + value)
    excess = {name: since[name] - before[name] * foretold / was for name in there}
    most = max(sorted(there), key=lambda name: excess[name])
    return most if excess[most] >= MOSTLY * (now - foretold) else ""


class Anomalies:
    """Everything unusual in a run of so many ``steps``, as its blocks are heard."""

    def __init__(self, steps: int) -> None:
        self._steps = steps
        self._watches: dict[str, _Watch] = {}

    def hear(self, block: Block) -> None:
        """The next block. Resources may come and go."""
        for subject in block.busy:
            self._watches.setdefault(subject, _Cost(subject, self._steps)).hear(block)
        for subject in block.memory:
            self._watches.setdefault(subject, _Memory(subject)).hear(block)

    @property
    def notices(self) -> list[Notice]:
        """Those so far, in the order of their resources."""
        return [notice for watch in self._watches.values() for notice in watch.notices]
