"""Requests kept whole: which, and what of them."""

from __future__ import annotations

from collections.abc import Callable
from random import Random
from typing import Any

import numpy as np
import pytest

from stonekettle.engine.evenly import Evenly
from stonekettle.engine.kept import EXCERPT, FIRST_FAILURES, LOOKED_AT, SAMPLE, SLOWEST, Choice, Whole
from stonekettle.engine.owner import KeptWhole
from stonekettle.plan.models import Plan
from tests.engine.conftest import KnownServer, Played
from tests.engine.test_process import Ears, begun


def chosen(choice: Choice, totals: list[int], error: int = 0, step: int = 0) -> list[tuple[str, float] | None]:
    return [choice.why(step, error, total) for total in totals]


def test_the_slowest_of_all_are_among_those_kept() -> None:
    totals = np.random.default_rng(1).permutation(5_000).tolist()
    told = chosen(Choice(Random(1)), totals)
    kept = {total for total, why in zip(totals, told, strict=True) if why is not None and why[0] == "slow"}
    assert set(range(5_000 - SLOWEST, 5_000)) <= kept
    assert len(kept) < SLOWEST * (2 + np.log(5_000 / SLOWEST))


def test_under_each_order_the_slowest_and_the_first_failures_are_kept_anew() -> None:
    choice = Choice(Random(2))
    for order in (1, 2):
        choice.follow(order)
        choice.follow(order)
        failures = chosen(choice, [7] * 400, error=3)
        assert all(failures[:FIRST_FAILURES])
        assert len([why for why in failures[FIRST_FAILURES:] if why and why[0] == "failed"]) <= 15
        assert [why[0] for why in chosen(choice, [9] * 5) if why] == ["slow"] * 5


def test_the_lowest_chances_of_two_generators_are_a_fair_sample_of_both() -> None:
    """Of 6,000 fast requests of one and 2,000 of another a quarter is the other's, whoever was slow."""
    shares = []
    for seed in range(30):
        drawn = []
        for number, count in ((0, 6_000), (1, 2_000)):
            choice = Choice(Random(f"{seed}-{number}"))
            told = chosen(choice, list(range(count, 0, -1)))
            drawn += [(why[1], number) for why in told if why is not None]
        shares.append(np.mean([number for _, number in sorted(drawn)[:SAMPLE]]))
    # The slow ones of each were kept too, with chances like any others': the sample is a little of both.
    assert np.mean(shares) == pytest.approx(0.25, abs=0.03)


def test_a_budget_is_spread_over_its_second() -> None:
    budget = Evenly(100)
    taken = [budget.take(k / 1000) for k in range(1000)]
    assert sum(taken) == 100
    assert sum(taken[:500]) == pytest.approx(50, abs=3)
    budget.close_second()
    assert budget.take(0.0)


def kept_of(known_server: KnownServer, path: str, **more: Any) -> tuple[list[Whole], Played]:
    found: list[Whole] = []
    return found, Played(known_server.url, path, keep=found.extend, **more)


def test_at_a_light_load_everything_that_failed_is_kept_whole(known_server: KnownServer) -> None:
    found, played = kept_of(known_server, "/fail", users=2, seconds=1.0, think="200 ms")
    records = played.records
    assert len(found) == len(records) == known_server.seen["/fail"]
    assert {(one.why, one.error, one.status) for one in found} == {("failed", "status", 500)}
    by_start = dict(zip(records["start_us"].tolist(), records["total_us"].tolist(), strict=True))
    assert {one.start_us: one.total_us for one in found} == by_start
    assert found[0].headers.startswith("HTTP/1.1 500")
    assert "Set-Cookie: visit=1" in found[0].headers
    assert "traceparent: 00-" in found[0].sent_headers
    assert (found[0].body, found[0].size, found[0].method) == ("hello", 5, "GET")
    assert found[0].url == f"{known_server.url}/fail"


def test_bodies_are_cut_read_in_their_own_encoding_and_bytes_are_not_text(known_server: KnownServer) -> None:
    (latin, *_), _ = kept_of(known_server, "/latin", users=1, seconds=0.3)
    assert latin.body == "Grüße aus Zürich"
    known_server.answers["/long"] = ({"Content-Type": "text/plain"}, b"x" * 100_000)
    (long, *_), _ = kept_of(known_server, "/long", users=1, seconds=0.3)
    assert (len(long.body), long.size) == (EXCERPT, 100_000)
    known_server.answers["/image"] = ({"Content-Type": "image/png"}, b"\x89PNG\0\0" * 10)
    (image, *_), _ = kept_of(known_server, "/image", users=1, seconds=0.3)
    assert image.body == "(60 bytes that are no text)"


def test_of_many_requests_only_some_are_looked_at_and_all_are_recorded(known_server: KnownServer) -> None:
    found, played = kept_of(known_server, "/", users=20, seconds=2.0, think="5 ms")
    assert len(played.records) == known_server.seen["/"] > 500
    assert len(found) <= LOOKED_AT * (len(played.seconds) + 1)
    assert played.errors() == {"none"}
    assert {one.error for one in found} == {""}


def test_a_lost_connection_and_a_redirect_are_kept_with_what_there_was(known_server: KnownServer) -> None:
    (dropped, *_), _ = kept_of(known_server, "/drop", users=1, seconds=0.3)
    assert (dropped.error, dropped.status, dropped.headers, dropped.body) == ("connection lost", 0, "", "")
    known_server.answers["/moved"] = ({"Location": "/there"}, b"gone")
    (moved, *_), _ = kept_of(known_server, "/moved", users=1, seconds=0.3, step={"redirects": True})
    assert (moved.status, moved.url, moved.body) == (200, f"{known_server.url}/there", "hello")
    assert "302" not in moved.headers


def test_a_generator_tells_them_with_secrets_masked(make_plan: Callable[..., Plan], known_server: KnownServer) -> None:
    known_server.answers["/"] = ({"Content-Type": "application/json"}, b'{"token": "hush-hush-hush", "stop": "Mill"}')
    ears = Ears()
    generator = begun(make_plan(base=known_server.url), ears)
    event = ears.wait_for(KeptWhole)
    generator.close()
    assert isinstance(event, KeptWhole)
    assert "hush" not in event.requests[0].body
    assert "Mill" in event.requests[0].body
    assert "visit=1" not in event.requests[0].headers
