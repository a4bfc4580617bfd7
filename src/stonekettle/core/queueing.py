"""How would a closed system with known service demands behave at any number of users?

Exact solution of a closed product-form network of multi-server stations and a delay (think time)
by Buzen's convolution (Buzen 1973), worked in logarithms so that hundreds of users do not
overflow. It gives the same figures as exact multi-server mean value analysis (Reiser & Lavenberg
1980), whose recursion loses precision near saturation.

Asymptotic bounds (Denning & Buzen 1978): X ≤ min(1/max(D/m), N/(D + Z)).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.linalg import blas
from scipy.special import gammaincc, gammaln, logsumexp, xlogy

from stonekettle.core.types import CoreInputError, FloatArray

NEAR = 30.0
"""Populations are worked together that are no further apart than so many roots of the least of them: where throughput
rises with every user, their factors are no further apart than by e to the NEAR²/8."""


@dataclass(frozen=True)
class Station:
    """A station by the relative service rate ``rates[j-1]`` (1/s of requests) with j present.

    The last rate holds for every larger number.
    """

    name: str
    rates: FloatArray

    @staticmethod
    def servers(name: str, demand_s: float, servers: int) -> Station:
        """``servers`` servers sharing one queue, each request asking ``demand_s`` seconds."""
        if demand_s <= 0 or servers < 1:
            raise CoreInputError(f"{name}: demand_s and servers must be positive")
        return Station(name, np.arange(1, servers + 1) / demand_s)

    @property
    def limit(self) -> float:
        """The largest rate at which requests can leave, 1/s."""
        return float(self.rates.max())

    @property
    def demand_s(self) -> float:
        """Time a lone request spends here, seconds."""
        return float(1 / self.rates[0])


@dataclass(frozen=True)
class ClosedSolution:
    """Throughput (1/s) and response time (s) for 1..N users; arrays of shape (N,)."""

    users: FloatArray
    throughput: FloatArray
    response_s: FloatArray


def solve(stations: Sequence[Station], think_s: float, users: int) -> ClosedSolution:
    """Solve the closed network for every population from 1 to ``users``."""
    if users < 1:
        raise CoreInputError(f"users must be at least 1, not {users}")
    n = np.arange(users + 1, dtype=np.float64)
    if think_s > 0:
        log_g = n * np.log(think_s) - gammaln(n + 1)
    else:
        log_g = np.where(n == 0, 0.0, -np.inf)
    for station in stations:
        log_g = _convolve(log_g, _log_factors(station, users))
    throughput = np.exp(log_g[:-1] - log_g[1:])
    return ClosedSolution(n[1:], throughput, n[1:] / throughput - think_s)


def throughput_at(stations: Sequence[Station], think_s: float, users: FloatArray) -> FloatArray:
    """Throughput (1/s) at these numbers of users, between whole ones on a straight line; shape as ``users``.

    The same solution as :func:`solve`, for populations of any size: those that are near each other are worked
    together, in powers of about their throughput, so that nothing of weight overflows or vanishes, and a station is a
    recursive filter, since beyond its last rate its factors are a geometric series. Takes time in proportion to users
    and servers.
    """
    lone_s = think_s + sum(station.demand_s for station in stations)
    limit = min((station.limit for station in stations), default=math.inf)
    order = np.argsort(users, kind="stable")
    found = np.empty(users.shape)
    while order.size:
        least = float(users[order[0]])
        near = int(np.searchsorted(users[order], least + NEAR * math.sqrt(max(least, 1.0)), side="right"))
        here, order = order[:near], order[near:]
        middle = (least + float(users[here[-1]])) / 2
        found[here] = _throughput_at(stations, think_s, users[here], min(limit, max(middle, 1.0) / lone_s))
    return found


def _throughput_at(stations: Sequence[Station], think_s: float, users: FloatArray, unit: float) -> FloatArray:
    below = np.maximum(1, np.floor(users).astype(np.int64))
    n = np.arange(int(below.max()) + 2)
    if think_s > 0:
        factors = np.exp(xlogy(n, think_s * unit) - think_s * unit - gammaln(n + 1))
    else:
        factors = np.where(n == 0, 1.0, 0.0)
    for station in stations:
        # Of use but for a constant, so that hundreds of servers do not overflow.
        inside = np.concatenate([[0.0], np.cumsum(np.log(unit / station.rates[: n.size - 1]))])
        inside = np.exp(inside - inside.max())
        last = unit / station.rates[-1]
        fed = np.convolve(np.append(inside[0], inside[1:] - last * inside[:-1]), factors)[: factors.size]
        # What is fed plus the last one's part of the one before: a triangular system of two diagonals.
        factors = blas.dtbsv(1, np.array([[1.0], [-last]]).repeat(fed.size, axis=1), fed, lower=1)
    at, after = (unit * factors[k - 1] / factors[k] for k in (below, below + 1))
    return np.asarray(np.where(users < 1, users * at, at + (users - below) * (after - at)))


def open_response_s(stations: Sequence[Station], rate: float) -> float:
    """The mean time (s) that an arrival spends in an open network to which ``rate`` (1/s) come at random: each station
    by itself, as if all came to it at random (Jackson 1957); infinite where one cannot keep up."""
    total = 0.0
    for station in stations:
        busy = rate / station.rates[-1]
        if busy >= 1:
            return math.inf
        # Probabilities of 0 to m there but for a constant; from m on each is ``busy`` times the one before.
        logs = np.concatenate([[0.0], np.cumsum(np.log(rate / station.rates))])
        weights = np.exp(logs - logs.max())
        m, last = len(station.rates), float(weights[-1])
        beyond = last * busy / (1 - busy)
        inside = float(weights @ np.arange(m + 1)) + m * beyond + last * busy / (1 - busy) ** 2
        total += inside / (float(weights.sum()) + beyond) / rate
    return total


def have_to_wait(busy: FloatArray, servers: FloatArray) -> FloatArray:
    """How likely somebody who comes at random finds all ``servers`` busy, of which ``busy`` are on the mean, fewer than
    there are (Erlang 1917, formula C); any shapes that go together."""
    carried = np.maximum(busy, 1e-12)
    lost = np.exp(xlogy(servers, carried) - carried - gammaln(servers + 1)) / gammaincc(servers + 1, carried)
    return np.asarray(lost / (1 - carried / servers * (1 - lost)))


def found_by_arrival(users: int, delay_s: float, demand_s: float, servers: int) -> FloatArray:
    """How likely a user who comes to a station finds 0, 1, … others there, shape (users,), where all spend ``delay_s``
    elsewhere: what would be seen with one user fewer (Sevcik & Mitrani 1981; Lavenberg & Reiser 1980)."""
    others = np.arange(1, users)
    ratios = np.log((users - others) / delay_s) - np.log(np.minimum(others, servers) / demand_s)
    logs = np.concatenate([[0.0], np.cumsum(ratios)])
    return np.asarray(np.exp(logs - logsumexp(logs)), dtype=np.float64)


def throughput_limit(stations: Sequence[Station]) -> float:
    """The throughput no load can exceed, 1/s: the slowest station's limit."""
    return min(station.limit for station in stations)


def flow_equivalent(name: str, stations: Sequence[Station], limit: int) -> Station:
    """One station that stands for ``stations`` behind a pool that admits ``limit`` at a time.

    Its rates are the throughputs of the inner network alone (Chandy, Herzog & Woo 1975).
    """
    return Station(name, solve(stations, 0.0, limit).throughput)


def _log_factors(station: Station, users: int) -> FloatArray:
    """Logarithms of Π 1/rate(j) for 0..users requests at the station."""
    rates = np.full(users, station.rates[-1], dtype=np.float64)
    rates[: min(users, len(station.rates))] = station.rates[:users]
    return np.concatenate([[0.0], -np.cumsum(np.log(rates))])


def _convolve(log_a: FloatArray, log_b: FloatArray) -> FloatArray:
    return np.array([logsumexp(log_a[: k + 1] + log_b[k::-1]) for k in range(len(log_a))])
