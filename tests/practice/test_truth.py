"""The truth of configurations small enough to work out by hand."""

from __future__ import annotations

import pytest

from stonekettle.practice import truth
from stonekettle.practice.config import Component, PracticeConfig, Route, Visit, quillport
from tests.conftest import ROUTE, one_server_system


def test_one_server_saturates_at_one_over_its_service_time() -> None:
    found = truth.compute(one_server_system(10), {ROUTE: 1.0}, 1.0)
    assert found.throughput_limit == pytest.approx(100)
    assert found.light_response_s == pytest.approx(0.010)
    assert found.users == pytest.approx(101)
    assert found.limiting == "shop.cpu"


def test_demands_follow_the_mix_of_routes() -> None:
    config = PracticeConfig(
        (Component("a", cpus=1), Component("b", cpus=1, disks=1)),
        (
            Route("GET", "/", (Visit("a", 10),)),
            Route("GET", "/deep", (Visit("a", 10), Visit("b", 40, disk_ms=8))),
        ),
    )
    found = truth.compute(config, {"GET /": 0.75, "GET /deep": 0.25}, 2.0)
    assert found.demands_s["a.cpu"] == pytest.approx(0.010)
    assert found.demands_s["b.cpu"] == pytest.approx(0.010)
    assert found.demands_s["b.disk"] == pytest.approx(0.002)
    assert found.throughput_limit == pytest.approx(100)


def test_a_narrow_pool_is_the_limit_and_a_wide_one_is_not() -> None:
    narrow = truth.compute(one_server_system(20, servers=8, pool=2), {ROUTE: 1.0}, 1.0)
    assert narrow.limiting == "shop.connections"
    assert narrow.throughput_limit == pytest.approx(100)
    wide = truth.compute(one_server_system(20, servers=2, pool=50), {ROUTE: 1.0}, 1.0)
    assert wide.limiting == "shop.cpu"
    assert wide.throughput_limit == pytest.approx(100, rel=1e-6)


def test_instances_multiply_servers() -> None:
    found = truth.compute(one_server_system(10, servers=2, instances=3), {ROUTE: 1.0}, 1.0)
    assert found.throughput_limit == pytest.approx(600)


def test_the_demo_saturates_at_a_few_hundred_users_on_the_ledger() -> None:
    routes = {
        "GET /": 1 / 3, "GET /departures": 2 / 9, "GET /trips": 1 / 9,
        "GET /tickets/new": 1 / 9, "POST /tickets": 1 / 9, "POST /tickets/activate": 1 / 9,
    }  # fmt: skip
    found = truth.compute(quillport(), routes, 2.0)
    assert found.limiting == "ledger.cpu"
    assert 300 < found.users < 500
