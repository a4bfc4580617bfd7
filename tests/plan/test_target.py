"""A target's terms: hosts in one form, ports, closed hours by the clock of a place."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

import pytest

from stonekettle.plan.checking import validated
from stonekettle.plan.problems import PlanError
from stonekettle.plan.target import TargetTerms


def terms(host: str = "shop.example.com", **more: Any) -> TargetTerms:
    return validated(TargetTerms, {"host": host, "contact": "Anna, 123", **more})


@pytest.mark.parametrize(
    ("written", "kept"),
    [
        (" Shop.Example.COM. ", "shop.example.com"),
        ("bücher.example", "xn--bcher-kva.example"),
        ("10.1.2.3", "10.1.2.3"),
        ("[2001:DB8::5]", "2001:db8::5"),
        ("10.1.2.0/24", "10.1.2.0/24"),
        ("host_1", "host_1"),
    ],
)
def test_a_host_has_one_form(written: str, kept: str) -> None:
    assert terms(written).host == kept


@pytest.mark.parametrize(
    "written",
    [
        "2130706433",
        "0177.0.0.1",
        "0x7f000001",
        "127.1",
        "１２７.0.0.1",
        "anna@shop.example.com",
        "http://shop.example.com",
        "shop.example.com:80",
        "shop.example.com\\@evil.test",
        "*.example.com",
        "10.0.0.0/8",
        "10.1.2.3/24",
        "fd00::/32",
        "a..b",
        "",
        "x" * 254,
    ],
)
def test_what_is_no_host_is_refused_by_name(written: str) -> None:
    with pytest.raises(PlanError) as caught:
        terms(written)
    assert caught.value.problems[0].path == "host"


def test_ports_are_ranges_in_order() -> None:
    assert terms(ports="443, 8000-8100").port_ranges == ((443, 443), (8000, 8100))
    assert terms().port_ranges == ((1, 65_535),)
    for wrong in ("0", "65536", "80-", "90-80", "http", "80;81", ",".join(map(str, range(1, 60)))):
        with pytest.raises(PlanError) as caught:
            terms(ports=wrong)
        assert caught.value.problems[0].path == "ports"


def test_closed_hours_are_told_by_the_clock_of_the_place_also_over_midnight_and_when_clocks_change() -> None:
    weekdays = {"days": ["Mon", "Tue", "Wed", "Thu", "Fri"], "start": "07:00", "end": "09:00"}
    night = {"days": ["Sat"], "start": "22:00", "end": "04:00"}
    told = terms(closed=[weekdays, night], time_zone="Europe/Berlin")
    monday = datetime(2026, 7, 6, 5, 30, tzinfo=UTC)  # 07:30 there
    assert told.closed_until(monday) == datetime(2026, 7, 6, 7, 0, tzinfo=UTC)
    assert told.closed_until(datetime(2026, 1, 5, 5, 30, tzinfo=UTC)) is None, "06:30 there in winter"
    assert told.closed_until(datetime(2026, 7, 5, 1, 59, tzinfo=UTC)) == datetime(2026, 7, 5, 2, 0, tzinfo=UTC)
    assert told.closed_until(datetime(2026, 7, 5, 2, 0, tzinfo=UTC)) is None, "the end is open again"
    assert told.closes_at(datetime(2026, 7, 5, 12, 0, tzinfo=UTC)) == datetime(2026, 7, 6, 5, 0, tzinfo=UTC)
    assert terms().closes_at(monday) is None


@pytest.mark.parametrize(
    ("more", "path"),
    [
        ({"time_zone": "Mars/Base"}, "time_zone"),
        ({"closed": [{"days": [], "start": "07:00", "end": "09:00"}]}, "closed[0].days"),
        ({"closed": [{"days": ["Mon"], "start": "7", "end": "09:00"}]}, "closed[0].start"),
        ({"users": 0}, "users"),
        ({"contact": ""}, "contact"),
    ],
)
def test_what_is_wrong_is_named(more: dict[str, Any], path: str) -> None:
    with pytest.raises(PlanError) as caught:
        terms(**more)
    assert caught.value.problems[0].path == path


def test_ceilings_are_told_in_words() -> None:
    assert terms(users=5, requests=10).ceilings == "5 users, 10 requests per second"
    assert terms().ceilings == ""
