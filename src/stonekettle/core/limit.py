"""What is the best estimate of the throughput limit, from all that a run shows of it?

Three things know of X_max, and each knows it where the others do not. Levels beyond saturation run at it. By the
utilisation law the fullest resource tells it from any level. And the curve of throughput over load bends towards it:
for a closed system with the measured demands it is known exactly (Buzen 1973), so that a level on the bend tells
X_max too, and a small system, which approaches its limit slowly, is not taken to be at it.

The curve is min(N/(R₁+Z), X_max) less θ times the shortfall of the exact curve from it. The softness θ is 1 for
exponential services; unlike services bend it more or less, so it is fitted too. Both are found by penalised least
squares (Gauss–Newton): each level counts by its standard error and by a quarter of its shortfall, for what the curve
does not know; the utilisation law's ceiling, where it is that resource which gives out, and θ = 1 ± 0.6 are prior
knowledge. Where levels and ceiling differ by more than their errors, the interval is wider by as much (Birge 1932).

Which resource that is, or that it is none that is metered, is told by which curve fits: the metered one unless an
unseen station of one, a few or many servers explains the levels better by ``TELLS`` in χ².

R₁, the response of a lone request, is that of the lower levels less the waiting that the curve has there.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy import special

from stonekettle.core.laws import Demand
from stonekettle.core.levels import Level, usual_success
from stonekettle.core.queueing import Station, throughput_at
from stonekettle.core.types import Estimate, FloatArray

CURVE_ERROR = 0.25
"""Share of its shortfall by which the curve may be off at a level."""
LEAST_ERROR = 0.002
SOFTNESS_ERROR = 0.6
TELLS = 6.0
ROUNDS = 6
STEP = 1e-3
WAITING_ERROR = 0.5
LIGHT = 0.7
"""Levels up to such a share of N* tell the response at light load."""
CLAIM_FREEDOM = 2
MOST_APART = 9.0


TABLED = 200
"""So many loads stand in a table of the curve: between two of them it is as good as straight."""


@dataclass(frozen=True)
class Response:
    """The mean response (s) of a step at loads, by the curve; the relative ``error`` of the limit it goes by, as half
    of its interval; and the squared coefficient of variation of the services."""

    curve: Callable[[FloatArray], FloatArray]
    error: float
    variation2: float

    def tabled(self, low: float, high: float) -> Response:
        """The same from one load to another, worked once on a table when it is first asked, and read from there: the
        closed network is dear, and every objective asks it for hundreds of loads."""
        at: FloatArray = np.geomspace(low, high, TABLED)
        known: list[FloatArray] = []

        def read(loads: FloatArray) -> FloatArray:
            if not known:
                known.append(np.log(self.curve(at)))
            return np.asarray(np.exp(np.interp(np.log(loads), np.log(at), known[0])), dtype=np.float64)

        return replace(self, curve=read)


@dataclass(frozen=True)
class Limit:
    """The estimate: ``throughput`` in successes per second, ``response_s`` of a lone step with its standard error,
    the ``resource`` whose ceiling it goes by (None: one unseen), and the ``softness`` θ of the curve.

    ``plateau_share`` is how much of what is known comes from levels beyond saturation and on the bend, the rest from
    the utilisation law.
    """

    throughput: Estimate
    response_s: float
    response_se_s: float
    resource: str | None
    softness: float
    plateau_share: float
    chi2: float
    response: Response


@dataclass(frozen=True)
class _Data:
    loads: FloatArray
    rate: FloatArray
    se: FloatArray
    response_s: FloatArray
    response_se_s: FloatArray
    think_s: float
    successes: float
    """Of the steps at light load, the share that succeeds."""
    seconds: FloatArray
    arriving: float | None
    """Where people arrive, the steps that each brings: there is no curve then but the two lines."""

    def lone_rate(self, response_s: float) -> float:
        """Successes per second for each of the load at light load."""
        return self.arriving if self.arriving is not None else self.successes / (response_s + self.think_s)


@dataclass(frozen=True)
class _Network:
    """Stations that are known, and the one that limits, by its servers."""

    others: tuple[tuple[float, int], ...]
    """Their limits (1/s) and servers."""
    servers: int
    ceiling: Estimate | None
    resource: str | None
    variation2: float = 1.0

    def stations(self, limit: float) -> list[Station]:
        # Nothing else may give out before what is said to limit.
        others = [Station.servers("other", servers / max(top, 1.02 * limit), servers) for top, servers in self.others]
        return [Station.servers("limit", self.servers / limit, self.servers), *others]


def best(levels: Sequence[Level], rate: FloatArray, se: FloatArray, demands: Sequence[Demand], guess: float) -> Limit:
    """The best estimate from levels in order of load, their throughput ``rate`` ± ``se`` (1/s, shape (k,)), and the
    demands on hardware. ``guess`` is the throughput limit to begin with."""
    data = _data(levels, rate, se)
    metered = sorted((d for d in demands if d.ceiling is not None), key=lambda d: _ceiling(d).value)
    known = [_fit(data, network, guess) for network in _metered(metered)]
    unseen = [_fit(data, network, guess) for network in _unseen(data, metered, guess)]
    likely = min(unseen, key=lambda one: one.chi2)
    if known and known[0].chi2 <= likely.chi2 + TELLS:
        return known[0]
    return _together(unseen)


def _ceiling(demand: Demand) -> Estimate:
    assert demand.ceiling is not None  # only such are asked
    return demand.ceiling


def _data(levels: Sequence[Level], rate: FloatArray, se: FloatArray) -> _Data:
    loads = np.array([lv.load.delivered for lv in levels])
    think = sum(lv.thinking * lv.seconds_used for lv in levels) / sum(lv.completions for lv in levels)
    think_s = think * sum(lv.completions for lv in levels) / sum(lv.completion_rate * lv.seconds_used for lv in levels)
    light = slice(0, max(2, len(levels) // 3))
    arriving = float(np.average(rate[light] / loads[light])) if levels[0].load.kind == "arrivals" else None
    failing = max(lv.error_ratio for lv in levels[light]) > 0.01
    response = np.array([lv.in_flight / lv.completion_rate if failing else lv.response_s for lv in levels])
    response_se = np.array([max(lv.response_se_s, 0.002 * r, 1e-6) for lv, r in zip(levels, response, strict=True)])
    return _Data(
        loads,
        rate,
        np.hypot(se, LEAST_ERROR * rate),
        response,
        np.where(np.isfinite(response_se), response_se, 0.1 * response),
        think_s,
        usual_success(levels)[0],
        np.array([lv.seconds_used for lv in levels], dtype=np.float64),
        arriving,
    )


def _metered(demands: Sequence[Demand]) -> list[_Network]:
    """The resource that fills first as what limits, if any is metered."""
    if not demands:
        return []
    first, *others = demands
    return [_Network(_stations(others), _whole(first.servers), first.ceiling, first.key, first.variation2)]


def _unseen(data: _Data, demands: Sequence[Demand], guess: float) -> list[_Network]:
    """A limit that no meter sees: of one server, a few, or as many as the response has room for."""
    others = _stations(demands)
    room = data.response_s[0] - sum(servers / top for top, servers in others)
    most = max(1, int(guess * max(room, 0.0)))
    return [_Network(others, servers, None, None) for servers in sorted({1, max(1, round(math.sqrt(most))), most})]


def _stations(demands: Sequence[Demand]) -> tuple[tuple[float, int], ...]:
    return tuple((_ceiling(d).value, _whole(d.servers)) for d in demands)


def _whole(servers: float) -> int:
    return max(1, round(servers))


def _fit(data: _Data, network: _Network, guess: float) -> Limit:
    """Limit and softness of one network by penalised least squares, and the response at light load with them."""
    limit, softness = (network.ceiling.value if network.ceiling else guess), 1.0
    # Where no law tells it, next to nothing is known beforehand: yet far from saturation no level tells it either.
    sd = network.ceiling.standard_error if network.ceiling else guess
    response, response_se = float(data.response_s[0]), float(data.response_se_s[0])
    prior, prior_weight = limit, 1 / max(sd, LEAST_ERROR * limit) ** 2
    told = chi2 = 0.0
    hessian = np.eye(2)
    for _ in range(ROUNDS):
        at, short = _curve(data, network, limit, response)
        above, above_short = _curve(data, network, limit * (1 + STEP), response)
        predicted = at - softness * short
        slope = ((above - softness * above_short) - predicted) / (STEP * limit)
        # A full resource lets its work go as its services vary, of which blocks of a few levels tell little.
        own = np.clip(slope, 0.0, 1.0) * network.variation2 * data.rate / data.seconds
        weight = 1 / (np.maximum(data.se**2, own) + (CURVE_ERROR * softness * short) ** 2)
        jacobian = np.stack([slope, -short])
        residual = data.rate - predicted
        hessian = jacobian * weight @ jacobian.T + np.diag([prior_weight, 1 / SOFTNESS_ERROR**2])
        gradient = jacobian * weight @ residual + np.array(
            [prior_weight * (prior - limit), (1 - softness) / SOFTNESS_ERROR**2]
        )
        move = np.linalg.solve(hessian, gradient)
        limit = float(np.clip(limit + move[0], 0.5 * limit, 2 * limit))
        softness = float(np.clip(softness + move[1], 0.2, 5.0))
        chi2 = float((weight * residual**2).sum() + prior_weight * (prior - limit) ** 2)
        told = float((weight * slope**2).sum())
        response, response_se = _light(data, network, limit, softness, response)
    beyond = int((np.minimum(data.loads * data.lone_rate(response), limit) >= limit).sum())
    freedom = beyond + CLAIM_FREEDOM + (2 if network.ceiling else 0)
    # Two ways to the limit that differ by more than their errors are both less sure (Birge 1932).
    apart = prior_weight**2 * (prior - limit) ** 2 * (1 / prior_weight + 1 / max(told, 1e-12))
    dispersion = max(1.0, chi2 / max(1, len(data.loads) - 2), min(apart, MOST_APART) if network.ceiling else 0.0)
    reach = float(special.stdtrit(freedom, 0.95)) * math.sqrt(float(np.linalg.inv(hessian)[0, 0]) * dispersion)
    return Limit(
        Estimate(limit, max(limit - reach, 0.0), limit + reach),
        response,
        response_se,
        network.resource,
        softness,
        told / (told + prior_weight) if network.ceiling else 1.0,
        chi2 + ((softness - 1) / SOFTNESS_ERROR) ** 2,
        Response(
            lambda loads: _response(data, network, limit, softness, response, loads),
            reach / limit,
            network.variation2,
        ),
    )


def _curve(data: _Data, network: _Network, limit: float, response_s: float) -> tuple[FloatArray, FloatArray]:
    """The two lines min(N/(R₁+Z), X_max) at each level, and how far the exact curve is below them."""
    lone = data.lone_rate(response_s)
    lines = np.minimum(data.loads * lone, limit)
    if data.arriving is not None:
        return lines, np.zeros_like(lines)
    stations = network.stations(limit / data.successes)
    cycle = data.successes / lone
    delay = max(0.0, cycle - sum(station.demand_s for station in stations))
    exact = data.successes * throughput_at(stations, delay, data.loads)
    return lines, np.maximum(lines - exact, 0.0)


def _response(
    data: _Data, network: _Network, limit: float, softness: float, lone_s: float, loads: FloatArray
) -> FloatArray:
    lines, short = _curve(replace(data, loads=loads), network, limit, lone_s)
    cycle = data.successes * loads / np.maximum(lines - softness * short, 1e-9)
    return np.maximum(cycle - data.think_s, lone_s)


def _light(data: _Data, network: _Network, limit: float, softness: float, response_s: float) -> tuple[float, float]:
    """The response of a lone step (s) and its standard error: what lower levels measured less the waiting there."""
    lines, short = _curve(data, network, limit, response_s)
    lone = data.lone_rate(response_s)
    use = data.loads * lone <= LIGHT * limit
    use[0] = True
    if data.arriving is not None:
        return float(data.response_s[0]), float(data.response_se_s[0])
    felt = np.maximum(lines - softness * short, 1e-9)
    waiting = np.maximum(data.successes * (data.loads / felt - data.loads / np.maximum(lines, 1e-9)), 0.0)
    weight = (1 / (data.response_se_s**2 + (WAITING_ERROR * waiting) ** 2))[use]
    lone_s = float(np.average(np.maximum(data.response_s - waiting, 0.2 * data.response_s)[use], weights=weight))
    return lone_s, float(1 / math.sqrt(weight.sum()))


def _together(found: Sequence[Limit]) -> Limit:
    """Of several explanations that cannot be told apart, the mean by likelihood, over all that is likely."""
    best_chi2 = min(one.chi2 for one in found)
    weight = np.array([math.exp(-(one.chi2 - best_chi2) / 2) for one in found])
    weight /= weight.sum()
    values = np.array([one.throughput.value for one in found])
    value = float(weight @ values)
    between = 1.645 * math.sqrt(float(weight @ (values - value) ** 2))
    within = float(weight @ [one.throughput.high - one.throughput.value for one in found])
    reach = math.hypot(within, between)
    likely = found[int(np.argmax(weight))]
    return Limit(
        Estimate(value, max(value - reach, 0.0), value + reach),
        likely.response_s,
        likely.response_se_s,
        None,
        likely.softness,
        1.0,
        best_chi2,
        likely.response,
    )
