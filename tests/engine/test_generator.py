"""The loop against a server whose answers are known, over real sockets."""

from __future__ import annotations

import time

import numpy as np
import pytest

from stonekettle.core.load_profile import LoadProfile, Segment
from tests.engine.conftest import KnownServer, Played


@pytest.mark.usefixtures("each_driver")
def test_every_request_sent_is_recorded_once(known_server: KnownServer) -> None:
    played = Played(known_server.url, users=20)
    assert len(played.records) == known_server.seen["/"] > 100
    assert sum(s.started[0] for s in played.seconds) == len(played.records)
    assert played.errors() == {"none"}


@pytest.mark.usefixtures("each_driver")
def test_every_user_has_a_connection_of_its_own(known_server: KnownServer) -> None:
    played = Played(known_server.url, users=12)
    assert len(known_server.connections) == 12
    assert int((played.records["flags"] & 1).sum()) == 12


def test_users_keep_their_own_cookies(known_server: KnownServer) -> None:
    Played(known_server.url, users=4)
    assert known_server.cookies.count(None) == 4
    assert set(known_server.cookies) == {None, "visit=1"}


def test_response_times_are_those_of_the_server(known_server: KnownServer) -> None:
    records = Played(known_server.url, "/slow", users=3, seconds=1.2).records
    assert np.median(records["total_us"]) == pytest.approx(302_000, rel=0.05)
    assert np.all(records["first_byte_us"] <= records["total_us"])


def test_users_in_flight_finish_their_step_when_the_profile_ends(known_server: KnownServer) -> None:
    played = Played(known_server.url, "/slow", users=6, seconds=0.5)
    assert len(played.records) == known_server.seen["/slow"]
    assert played.errors() == {"none"}
    assert 0.5 < played.lasted < 1.5


def test_a_drain_order_ends_early_and_loses_nothing(known_server: KnownServer) -> None:
    began = time.perf_counter()
    played = Played(known_server.url, seconds=30, orders=lambda: "drain" if time.perf_counter() - began > 0.6 else None)
    assert played.lasted < 3
    assert len(played.records) == known_server.seen["/"]


def test_what_does_not_finish_within_the_drain_limit_is_cut_off_and_said_so(known_server: KnownServer) -> None:
    played = Played(known_server.url, "/slow", users=2, seconds=0.45, think="1 ms", drain_limit_s=0.05)
    assert "cut off at the end" in played.errors()


@pytest.mark.parametrize(
    ("path", "error"), [("/fail", "status"), ("/drop", "connection lost"), ("POST /fail", "status")]
)
def test_failures_are_told_by_kind(known_server: KnownServer, path: str, error: str) -> None:
    played = Played(known_server.url, path, users=2, seconds=0.6)
    assert played.errors() == {error}


def test_nobody_listening_is_a_refused_connection() -> None:
    played = Played("http://127.0.0.1:9", users=2, seconds=0.4)
    assert played.errors() == {"connection refused"}


def test_a_forbidden_address_is_refused_at_the_socket(
    known_server: KnownServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("stonekettle.engine.targets.is_allowed", lambda host: False)
    played = Played(known_server.url, users=2, seconds=0.4)
    assert played.errors() == {"target not allowed"}
    assert not known_server.seen


def test_users_follow_the_profile_up_and_down(known_server: KnownServer) -> None:
    profile = LoadProfile((Segment.hold(3, 1), Segment.hold(9, 2), Segment.hold(2, 2)))
    played = Played(known_server.url, users=9, profile=profile)
    means = [s.users for s in played.seconds[:5]]
    assert means[0] == pytest.approx(3, abs=0.2)
    assert means[2] == pytest.approx(9, abs=0.2)
    assert means[4] == pytest.approx(2, abs=0.2)


def test_two_generators_share_the_users(known_server: KnownServer) -> None:
    profile = LoadProfile((Segment.hold(7, 1.0),))
    users = [round(Played(known_server.url, users=7, profile=profile, share=(i, 2)).seconds[0].users) for i in (0, 1)]
    assert users == [4, 3]


def test_in_flight_is_measured_so_that_littles_law_holds(known_server: KnownServer) -> None:
    played = Played(known_server.url, "/slow", users=10, seconds=4, think="300 ms")
    settled = played.seconds[1:4]
    in_flight = np.mean([s.in_flight for s in settled])
    thinking = np.mean([s.started[0] for s in settled]) * 0.3
    assert in_flight + thinking == pytest.approx(10, rel=0.15)


def test_recorded_lateness_sees_a_stall(known_server: KnownServer) -> None:
    calls = iter(range(10_000))

    def stall_once() -> str | None:
        if next(calls) == 20:
            time.sleep(0.25)
        return None

    played = Played(known_server.url, users=10, seconds=1.5, orders=stall_once)
    assert max(s.start_gap_s for s in played.seconds) > 0.2
    stalls = [stall for s in played.seconds for stall in s.stalls]
    assert any(0.25 <= end - begin < 1.0 for begin, end in stalls)
    assert sum(s.overdue for s in played.seconds) > 0.25


@pytest.mark.usefixtures("each_driver")
def test_thinking_users_do_not_make_the_loop_spin(known_server: KnownServer) -> None:
    played = Played(known_server.url, users=10, seconds=3, think="500 ms")
    assert np.mean([s.cpu for s in played.seconds[:3]]) < 0.15
