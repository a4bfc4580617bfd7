"""Laws over instances: what is foretold of systems whose law is known, and what is said where nothing can be."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from stonekettle.cli.bench import scaling as bench
from stonekettle.core.hidden import Rest
from stonekettle.core.objectives import Z_90
from stonekettle.core.scaling import Cap, Limit, Point, Scaled, efficiency, points_of
from stonekettle.core.types import CoreInputError, Estimate

ERROR = 0.012


def told(value: float, error: float = ERROR) -> Estimate:
    return Estimate(value, value * np.exp(-Z_90 * error), value * np.exp(Z_90 * error))


def measured(
    law: Callable[[float], float], at: tuple[float, ...] = (1, 2, 4), *, own: Callable[[float], float] | None = None
) -> list[Point]:
    return [Point(n, told(law(n)), False, 2, told(own(n)) if own else None) for n in at]


def linear(n: float) -> float:
    return 50 * n


def contended(n: float) -> float:
    return 50 * n / (1 + 0.15 * (n - 1))


def coherent(n: float) -> float:
    return 50 * n / (1 + 0.03 * (n - 1) + 0.02 * n * (n - 1))


def shared(n: float) -> float:
    return 50 * min(n, 2.6)


def test_a_lock_that_no_run_has_come_to_is_heard_of_by_response_times() -> None:
    bare = measured(linear, own=linear)
    assert not Scaled(bare).foretold(8).wide

    def with_rest(lock: float | None) -> Scaled:
        rate = np.array([40.0, 80.0, 120.0, 160.0, 190.0])
        inside_s = np.zeros(5) if lock is None else 1 / lock / (1 - rate / lock)
        rest = Rest(rate, 0.01 + inside_s, np.full(5, 0.0008))
        return Scaled([*bare[:-1], replace(bare[-1], rests=(rest,))])

    assert not with_rest(None).foretold(8).wide
    assert with_rest(None).ahead is None
    warned = with_rest(250.0)
    assert warned.ahead is not None
    assert warned.ahead.low < 250 < warned.ahead.high
    found = warned.foretold(8)
    assert found.wide or found.capacity.low < 250 < found.capacity.high
    assert warned.laws["shared limit"] > 0.5
    # What was measured stands.
    assert warned.foretold(4).capacity.value == pytest.approx(200, rel=0.03)


@pytest.mark.parametrize(
    ("law", "name"), [(linear, "linear"), (contended, "contention"), (coherent, "coherency"), (shared, "shared limit")]
)
def test_the_law_is_the_likeliest_and_its_truth_a_doubling_on_is_within(
    law: Callable[[float], float], name: str
) -> None:
    scaled = Scaled(measured(law, (1, 2, 3, 4, 6)))
    laws = scaled.laws
    assert sum(laws.values()) == pytest.approx(1)
    # Contention and coherency are told apart by many points alone.
    assert max(laws, key=lambda one: laws[one]) == name or {name, "coherency"} == {"contention", "coherency"}
    found = scaled.foretold(12)
    assert found.capacity.low <= law(12) <= found.capacity.high


@given(sigma=st.floats(0, 0.3), kappa=st.floats(3e-4, 0.03), alone=st.floats(1, 1e4))
@settings(max_examples=25, deadline=None)
def test_what_is_told_beyond_the_data_holds_whatever_the_constants(sigma: float, kappa: float, alone: float) -> None:
    def law(n: float) -> float:
        return alone * n / (1 + sigma * (n - 1) + kappa * n * (n - 1))

    scaled = Scaled(measured(law, (1, 2, 4, 6), own=law))
    inside, beyond = scaled.foretold(3), scaled.foretold(12)
    assert inside.capacity.low * 0.98 <= law(3) <= inside.capacity.high * 1.02
    assert not inside.wide
    assert beyond.capacity.low * 0.9 <= law(12) <= beyond.capacity.high * 1.1
    assert beyond.limit == ""


def test_another_component_caps_every_law_and_is_named() -> None:
    scaled = Scaled(measured(linear, own=linear), [Cap("planner.cpu", 290, 0.04), Cap("gateway.cpu", 900, 0.04)])
    below, beyond = scaled.foretold(5), scaled.foretold(8)
    assert (below.limit, beyond.limit) == ("", "planner.cpu")
    assert beyond.sure > 0.9
    assert beyond.capacity.low == pytest.approx(290, rel=0.1)
    assert beyond.capacity.high == pytest.approx(290, rel=0.1)
    assert scaled.faded_from() in (5, 6)


def test_a_limit_that_was_met_and_no_meter_shows_is_told_as_such() -> None:
    scaled = Scaled(measured(shared, own=linear))
    found = scaled.foretold(8)
    assert found.limit == "shared"
    assert found.capacity.low <= 130 <= found.capacity.high
    assert not found.wide
    assert scaled.faded_from() == 3


def test_a_run_that_did_not_reach_its_limit_counts_as_at_least() -> None:
    points = measured(linear, own=linear)
    open_end = [*points[:2], Point(4, Estimate(170, 170, np.inf), True, 1, told(200))]
    found = Scaled(open_end).foretold(4)
    assert found.capacity.low > 180
    assert efficiency(open_end[2], points[0]) is None


def test_the_data_may_leave_too_much_room() -> None:
    loose = [Point(n, told(contended(n), 0.08), False, 1) for n in (1.0, 2.0, 4.0)]
    assert Scaled(loose).foretold(8).wide


def test_how_far_it_is_told_goes_by_what_is_metered() -> None:
    points = measured(linear)
    assert Scaled(points).told_to == 8
    assert Scaled(points, metered=False).told_to == 6


@pytest.mark.parametrize(
    ("points", "why"),
    [
        (measured(linear, (1, 2)), "values: a law needs 3 values measured, not 2"),
        (
            [Point(n, Estimate(9 * n, 9 * n, np.inf), True, 1) for n in (1.0, 2.0, 4.0)],
            "load: no run reached its limit",
        ),
        (measured(linear, (0, 1, 2)), "values: 0 is not above 0"),
    ],
)
def test_what_no_law_can_be_told_of_is_refused(points: list[Point], why: str) -> None:
    with pytest.raises(CoreInputError, match=why):
        Scaled(points)


def test_runs_of_one_value_are_taken_together_and_their_spread_counts() -> None:
    alike, apart = ([(2.0, Limit(rate, 0.01, False)) for rate in rates] for rates in ((99, 101), (80, 125)))
    close, wide = points_of(alike)[0], points_of(apart)[0]
    assert close.capacity.value == pytest.approx(100, rel=0.01)
    assert wide.capacity.high / wide.capacity.low > 1.5 > 1.1 > close.capacity.high / close.capacity.low
    both = points_of([(2.0, Limit(100, 0.01, False)), (2.0, Limit(60, 0.0, True))])[0]
    assert (both.at_least, both.runs) == (False, 2)
    assert both.capacity.value == pytest.approx(100)
    assert efficiency(points_of([(4.0, Limit(150, 0.01, False))])[0], close).value == pytest.approx(0.75, rel=0.02)  # type: ignore[union-attr]


@pytest.mark.parametrize("number", [0, 3])
def test_an_experiment_on_a_system_foretells_what_comes(number: int) -> None:
    """Of the laboratory's systems one that grows evenly and one with a hard next limit, played in virtual time."""
    one = bench.examine(number)
    assert one.told is not None
    assert one.told.capacity.value == pytest.approx(one.rate, rel=0.12)
    assert one.told.limit == one.limit
