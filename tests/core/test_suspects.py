"""Suspects: the culprit first, with what speaks for it, and nothing about the system where the generators were it."""

from __future__ import annotations

from dataclasses import replace

import pytest

from stonekettle.core import analysis, suspects
from stonekettle.core.analysis import Analysis
from stonekettle.core.bottleneck import LimitingResource
from stonekettle.core.load_profile import LoadProfile
from stonekettle.core.orders import as_planned
from stonekettle.core.run_data import RunData
from stonekettle.core.suspects import Seen, Suspect
from stonekettle.core.types import Declined, Reason
from stonekettle.practice.config import Component, PracticeConfig, Route, Visit
from stonekettle.practice.twin import Twin, simulate
from stonekettle.practice.unfit import Laborious
from tests.conftest import climb, one_server_system, visits

PROFILE = climb(20, 180, 20)


def analysed(run: RunData, profile: LoadProfile = PROFILE) -> Analysis:
    return analysis.analyse(run, as_planned(profile), [], 0.05)


def claims(one: Suspect) -> dict[str, bool]:
    """What is said of it, and whether that speaks for it."""
    return {point.claim: point.weight > 0 for point in one.points}


@pytest.fixture(scope="module")
def full_store() -> Analysis:
    config = PracticeConfig(
        (Component("front", cpus=2), Component("store", cpus=2)),
        (Route("GET", "/", (Visit("front", 8), Visit("store", 20))),),
    )
    return analysed(simulate(config, visits(1.0), PROFILE))


def test_the_fullest_hardware_stands_first_with_all_that_speaks_for_it(full_store: Analysis) -> None:
    first, *others = suspects.rank(full_store, Seen({"store": 0.8, "front": 0.05}, 0.01))
    assert (first.key, first.named) == ("store.cpu", True)
    assert claims(first) == {
        "full": True,
        "filled first": True,
        "carries no more": True,
        "response follows": True,
        "most of the time": True,
    }
    front = next(one for one in others if one.key == "front.cpu")
    assert claims(front)["has room"] is False
    assert claims(front)["could carry more"] is False
    assert claims(front)["little of the time"] is False
    assert {one.kind for one in others} == {"hardware", "contention", "unmetered", "generator", "network"}
    assert all(one.weight < 0 for one in others if one.kind != "hardware")
    assert suspects.undecided((first, *others)) is None


def test_most_of_the_time_on_the_wire_makes_the_network_a_suspect(full_store: Analysis) -> None:
    ranked = suspects.rank(full_store, Seen(on_the_wire=0.9))
    assert ranked[1].kind == "network"
    assert claims(ranked[1]) == {"on the wire": True}


def test_a_pool_over_idle_hardware_stands_first_and_its_queue_tells() -> None:
    first, *others = suspects.rank(
        analysed(simulate(one_server_system(20, servers=8, pool=2), visits(1.0), PROFILE)), Seen()
    )
    assert (first.kind, first.key) == ("pool", "shop.connections")
    assert claims(first)["queue grew"]
    assert "behind it is full" not in claims(first)
    assert claims(next(one for one in others if one.key == "shop.cpu"))["has room"] is False


def test_a_full_pool_before_full_hardware_has_that_against_it() -> None:
    found = analysed(simulate(one_server_system(20, servers=2, pool=2), visits(1.0), PROFILE))
    pool = next(one for one in suspects.rank(found, Seen()) if one.kind == "pool")
    assert claims(pool)["full"]
    assert claims(pool)["behind it is full"] is False


def test_what_no_meter_sees_stands_first_where_nothing_is_full() -> None:
    run = simulate(one_server_system(20, servers=8, pool=2), visits(1.0), PROFILE)
    found = analysed(replace(run, resources=tuple(r for r in run.resources if not r.is_pool)))
    first = suspects.rank(found, Seen(unmetered=["store"]))[0]
    assert (first.kind, first.named) == ("unmetered", True)
    assert claims(first) == {"nothing is full": True, "no meter": True}


def test_without_a_limit_resources_stand_in_the_order_of_how_near_they_are() -> None:
    profile = climb(5, 40, 5)
    config = PracticeConfig(
        (Component("front", cpus=2), Component("store", cpus=2)),
        (Route("GET", "/", (Visit("front", 8), Visit("store", 20))),),
    )
    ranked = suspects.rank(analysed(simulate(config, visits(1.0), profile), profile), Seen())
    assert [one.key for one in ranked[:2]] == ["store.cpu", "front.cpu"]
    assert not any(one.named for one in ranked)
    assert claims(next(one for one in ranked if one.kind == "unmetered"))["no limit"] is False


def test_of_a_run_that_its_generators_limited_nothing_else_is_suspected() -> None:
    twin = Twin(one_server_system(2, servers=8), visits(1.0), loop=Laborious(0.01))
    found = analysis.analyse(twin.run(as_planned(PROFILE)), as_planned(PROFILE), [], 0.05, [twin.requests()])
    (only,) = suspects.rank(found, Seen({"shop": 0.9}, 0.9, ["store"]))
    assert (only.kind, only.named) == ("generator", True)
    assert claims(only)["late"]
    (same,) = suspects.rank(replace(found, limiting=Declined(Reason.GENERATOR)), Seen())
    assert same.kind == "generator"
    assert suspects.rank(replace(found, limiting=Declined(Reason.LAWS)), Seen()) == ()


def test_two_that_are_as_near_to_their_end_are_not_told_apart(full_store: Analysis) -> None:
    found = full_store.limiting
    assert isinstance(found, LimitingResource)
    assert found.resource is not None
    twin_of_it = replace(found.resource, key="front.cpu", component="front")
    both = replace(full_store, limiting=replace(found, evidence=(found.resource, twin_of_it)))
    pair = suspects.undecided(suspects.rank(both, Seen()))
    assert pair is not None
    assert {one.key for one in pair} == {"store.cpu", "front.cpu"}
