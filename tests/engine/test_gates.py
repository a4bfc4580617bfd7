"""Ceilings hold in every second, wherever it begins, and what was held back is told."""

from __future__ import annotations

import time
from urllib.parse import urlsplit

import numpy as np
import pytest

from stonekettle.engine.allowance import Allowance, Ceilings, Permit
from stonekettle.engine.gates import Gate, Gates
from stonekettle.engine.records import WHOLE
from tests.engine.conftest import KnownServer, Played


def allowance(url: str, until: float | None = None, **ceilings: int) -> Allowance:
    port = urlsplit(url).port or 80
    permit = Permit(1, "the shop", ("127.0.0.0/8",), ((port, port),), ceilings=Ceilings(**ceilings), until=until)
    return Allowance((permit,))


def most_in_a_second(starts: np.ndarray) -> int:
    starts = np.sort(starts)
    return int(max(np.searchsorted(starts, starts + 1.0, side="left") - np.arange(len(starts))))


def test_no_second_has_more_requests_than_the_ceiling(known_server: KnownServer) -> None:
    told = allowance(known_server.url, requests=60)
    played = Played(known_server.url, users=20, seconds=3, think="10 ms", allowance=told)
    starts = played.records["start_us"] / 1e6
    assert len(starts) > 120
    assert most_in_a_second(starts) <= 60
    assert played.seconds[-1].told["ceiling"] == "The ceiling of the shop was reached: 60 requests per second"


def test_below_the_ceiling_nothing_is_held_back_nor_told(known_server: KnownServer) -> None:
    told = allowance(known_server.url, requests=5_000, users=50, connections=50)
    played = Played(known_server.url, users=5, seconds=1.5, think="100 ms", allowance=told)
    assert played.errors() == {"none"}
    assert played.seconds[-1].told["ceiling"] is None


def test_redirects_and_accompanying_requests_are_counted_too(known_server: KnownServer) -> None:
    step = {"request": "GET /", "accompanying": ["/a", "/b"]}
    told = allowance(known_server.url, requests=30)
    played = Played(known_server.url, users=8, seconds=2, think="5 ms", step=step, allowance=told)
    sent = played.records[played.records["flags"] & WHOLE == 0]
    assert known_server.seen["/a"] > 3
    assert most_in_a_second(sent["start_us"] / 1e6) <= 30


def test_users_beyond_the_ceiling_do_not_come(known_server: KnownServer) -> None:
    played = Played(known_server.url, users=9, seconds=1.5, allowance=allowance(known_server.url, users=4))
    assert max(second.users for second in played.seconds) == pytest.approx(4, abs=0.1)
    assert "4 users" in played.seconds[-1].told["ceiling"]


def test_connections_beyond_the_ceiling_are_not_made(known_server: KnownServer) -> None:
    played = Played(known_server.url, users=9, seconds=1.0, allowance=allowance(known_server.url, connections=3))
    assert played.errors() == {"none", "target not allowed"}
    good = played.records[played.records["error"] == 0]
    assert len(set(good["user"])) == 3
    assert "3 connections" in played.seconds[-1].told["ceiling"]


def test_connections_that_were_closed_are_not_counted(known_server: KnownServer) -> None:
    step = {"headers": {"Connection": "close"}}
    told = allowance(known_server.url, connections=3)
    played = Played(known_server.url, users=2, seconds=1.5, step=step, allowance=told)
    assert played.errors() == {"none"}
    assert len(played.records) > 20


def test_load_ends_when_the_permit_does(known_server: KnownServer) -> None:
    told = allowance(known_server.url, until=time.time() + 1.0)
    played = Played(known_server.url, users=3, seconds=30, allowance=told)
    assert played.lasted < 15


def test_a_smaller_share_holds_at_once() -> None:
    gate = Gate("shop", Ceilings(requests=10))
    for n in range(10):
        assert gate.opens(n * 0.01)
        gate.passed(n * 0.01)
    assert not gate.opens(0.5)
    gate.give(Ceilings(requests=4))
    assert not gate.opens(1.075)
    assert gate.opens(1.085)
    gate.give(Ceilings(requests=0))
    assert not gate.opens(99.0)


def test_what_is_known_of_no_permit_counts_under_all() -> None:
    permits = tuple(Permit(n, f"host {n}", (f"10.0.0.{n}",), ceilings=Ceilings(requests=1)) for n in (1, 2))
    gates = Gates(Allowance(permits, {"one.test": ("10.0.0.1",)}))
    assert gates.passes("http://one.test/", 0.0)
    assert not gates.passes("http://10.0.0.1:8080/", 0.1)
    assert gates.passes("http://10.0.0.2/", 0.2)
    assert not gates.passes("http://elsewhere.test/", 0.3)
    assert gates.passes("http://10.0.0.3/", 0.4)
    assert gates.reached is None
    gates.held_long("http://10.0.0.2/", 0.5)
    assert gates.reached == "The ceiling of host 2 was reached: 1 requests per second"
