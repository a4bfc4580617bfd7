"""The practice cloud deploys versions, and a machine drifts, over real sockets as in virtual time."""

from __future__ import annotations

import json
import time
from collections.abc import Callable
from dataclasses import replace
from random import Random

import pytest
import yaml

from stonekettle.core.distribution import Law
from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.plan import signing
from stonekettle.practice import shapes
from stonekettle.practice.cloud import Booting
from stonekettle.practice.component import LiveComponent
from stonekettle.practice.config import Component, Size, Version, quillport
from stonekettle.practice.twin import simulate
from tests.core.test_comparing import JOURNEYS, shop
from tests.practice.test_server import Quillport
from tests.practice.test_server import quillport as quillport_process

__all__ = ["quillport_process"]
BODY = b'{"version": "3.4"}'


def put(system: Quillport, path: str, body: bytes, **headers: str) -> tuple[int, dict[str, object]]:
    answer = system.http.request("PUT", system.directory["cloud"][0] + path, body=body, headers=headers)
    return answer.status, json.loads(answer.data) if answer.data.startswith(b"{") else {}


def test_a_version_is_deployed_and_ready_a_while_later(quillport_process: Callable[[str], Quillport]) -> None:
    system = quillport_process("")
    cloud = system.directory["cloud"][0]
    before = system.metrics("planner")["memory_used_bytes"]
    status, told = put(system, "/components/planner/version", BODY)
    assert (status, told["version"], told["ready"]) == (202, "3.4", 0)
    assert system.http.request("GET", f"{cloud}/components/planner/ready").status == 503
    assert system.get("/trips").status == 503
    boots_s = next(one.boots_s for one in quillport().component("planner").versions if one.name == "3.4")
    until = time.monotonic() + boots_s + 10
    while system.http.request("GET", f"{cloud}/components/planner/ready").status != 200:
        assert time.monotonic() < until
        time.sleep(0.1)
    assert system.get("/trips").status == 200
    assert system.metrics("planner")["memory_used_bytes"] > 1.4 * before
    told_of = {one["component"]: one["version"] for one in system.http.request("GET", f"{cloud}/components").json()}
    assert told_of["planner"] == "3.4"


@pytest.mark.parametrize(
    ("path", "body", "status"),
    [
        ("/components/planner/version", b'{"version": "9"}', 422),
        ("/components/planner/version", b"3.4", 422),
        ("/components/planner/version", b'{"version": "3.4", "at_a_time": 0}', 422),
        ("/components/planner/type", b'{"type": "harbour-8", "at_a_time": true}', 422),
        ("/components/planner/version", b"[", 422),
        ("/components/crane/version", BODY, 404),
        ("/components/planner/version", b"x" * 20_000, 413),
        ("/components/planner/instances", b'{"instances": 0}', 422),
        ("/components/planner/instances", b'{"instances": 1000000}', 422),
        ("/components/planner/instances", b'{"instances": true}', 422),
        ("/components/planner/instances", b"[3]", 422),
        ("/components/crane/instances", b'{"instances": 2}', 404),
        ("/components/planner/type", b'{"type": "raft-1"}', 422),
        ("/components/planner/failures", b'{"share": 2}', 422),
        ("/components/planner/failures", b'{"share": true}', 422),
        ("/components/planner/instances/0", b"", 409),
        ("/components/planner/instances/-1", b"", 422),
        ("/components/planner/instances/3000", b"", 422),
    ],
)
def test_what_it_cannot_do_it_refuses(
    quillport_process: Callable[[str], Quillport], path: str, body: bytes, status: int
) -> None:
    assert put(quillport_process(""), path, body)[0] == status


def ready(system: Quillport, component: str, within_s: float = 30) -> dict[str, object]:
    cloud = system.directory["cloud"][0]
    until = time.monotonic() + within_s
    while (answer := system.http.request("GET", f"{cloud}/components/{component}/ready")).status != 200:
        assert time.monotonic() < until
        time.sleep(0.1)
    return dict(answer.json())


def test_instances_are_added_get_work_once_they_are_up_and_are_taken_away(
    quillport_process: Callable[[str], Quillport],
) -> None:
    system = quillport_process(yaml.safe_dump({"changes": {"planner": {"boots_s": 0.6, "boots_variation": 0.1}}}))
    cloud = system.directory["cloud"][0]
    asked = time.time()
    status, told = put(system, "/components/planner/instances", b'{"instances": 3}')
    assert (status, told["instances"], told["ready"]) == (202, 3, 1)
    assert len(system.look_up()["planner"]) == 1, "nobody is sent to those that boot"
    assert system.get("/trips").status == 200
    assert ready(system, "planner")["ready"] == 3
    for _ in range(6):
        assert system.get("/trips").status == 200
    places = system.look_up()["planner"]
    pages = [system.http.request("GET", f"{place}/metrics") for place in places]
    assert [page.status for page in pages] == [200, 200, 200]
    log = [one for one in system.http.request("GET", f"{cloud}/log").json() if one["component"] == "planner"]
    for one in log[1:]:
        assert asked - 0.2 < one["asked"] < one["ready"] <= one["first_request"] + 0.01
        assert 0.3 < one["ready"] - one["asked"] < 1.2
    status, told = put(system, "/components/planner/instances", b'{"instances": 1}')
    assert (status, told["instances"], told["ready"]) == (202, 1, 1)
    assert system.look_up()["planner"] == places[:1]
    assert system.http.request("GET", f"{places[2]}/metrics").status == 503
    left = [one["left"] for one in system.http.request("GET", f"{cloud}/log").json() if one["component"] == "planner"]
    assert left[0] is None
    assert None not in left[1:]


def test_an_instance_is_lost_or_restarted_but_never_the_last(quillport_process: Callable[[str], Quillport]) -> None:
    system = quillport_process(yaml.safe_dump({"changes": {"ledger": {"instances": 2, "restart_s": 0.4}}}))
    cloud = system.directory["cloud"][0]
    restarted = system.http.request("POST", f"{cloud}/components/ledger/instances/1/restart")
    assert (restarted.status, restarted.json()["ready"]) == (202, 1)
    ready(system, "ledger", 5)
    lost = system.http.request("DELETE", f"{cloud}/components/ledger/instances/0")
    assert (lost.status, lost.json()["instances"]) == (202, 1)
    assert system.get("/tickets/new").status == 200
    last = system.http.request("DELETE", f"{cloud}/components/ledger/instances/1")
    assert last.status == 409
    assert "the last instance" in last.json()["error"]
    assert system.http.request("DELETE", f"{cloud}/components/ledger/instances/9").status == 404


def test_one_is_started_by_its_number_and_asked_after_by_it(quillport_process: Callable[[str], Quillport]) -> None:
    system = quillport_process(yaml.safe_dump({"changes": {"planner": {"boots_s": 0.6, "boots_variation": 0.1}}}))
    cloud = system.directory["cloud"][0]

    def status(number: int) -> int:
        return system.http.request("GET", f"{cloud}/components/planner/instances/{number}/ready").status

    assert (status(0), status(7)) == (200, 404)
    assert put(system, "/components/planner/instances/7", b"")[0] == 202
    assert status(7) == 503
    ready(system, "planner", 5)
    assert status(7) == 200
    # What is added without a number has the lowest that is free.
    assert put(system, "/components/planner/instances", b'{"instances": 4}')[1]["instances"] == 4
    assert [status(number) for number in (1, 2, 3)] == [503, 503, 404]
    assert put(system, "/components/planner/instances", b'{"instances": 1}')[1]["instances"] == 1
    assert put(system, "/components/planner/instances", b'{"instances": 2}')[1]["instances"] == 2
    assert status(1) == 503


def test_another_type_has_other_processors_and_starts_anew(quillport_process: Callable[[str], Quillport]) -> None:
    system = quillport_process(yaml.safe_dump({"changes": {"planner": {"boots_s": 0.5}}}))
    assert system.metrics("planner")["cpu_cores"] == 4
    status, told = put(system, "/components/planner/type", b'{"type": "harbour-8"}')
    assert (status, told["cpus"], told["ready"]) == (202, 8, 0)
    assert {"type": "harbour-8", "cpus": 8, "price_per_hour": 0.22} in told["types"]  # type: ignore[operator]
    assert system.get("/trips").status == 503
    ready(system, "planner", 5)
    assert system.metrics("planner")["cpu_cores"] == 8
    assert system.get("/trips").status == 200


def test_so_many_fail_as_were_asked_to(quillport_process: Callable[[str], Quillport]) -> None:
    system = quillport_process("")
    assert put(system, "/components/gateway/failures", b'{"share": 1}')[1]["fails"] == 1
    assert system.get("/").status == 500
    assert put(system, "/components/gateway/failures", b'{"share": 0}')[1]["fails"] == 0
    assert system.get("/").status == 200


def test_a_type_bears_what_its_processors_do() -> None:
    now = [0.0]
    component = LiveComponent(Component("shop", cpus=2, boots_s=5.0), lambda: now[0], Random(1))
    component.make(Size("large", 6, 1.0))
    assert component.cpus == 6
    now[0] = 4.9
    assert not component.instances[0].is_up
    now[0] = 6.0
    assert component.instances[0].is_up
    assert sum(1 for _ in range(6) if component.servers_of(component.instances[0])[0].serve(6.0, 1.0) == 7.0) == 6


def test_so_many_boot_at_a_time_and_the_others_wait() -> None:
    law = Law("lognormal", 10.0, variation=0.2)
    up_at = Booting(4, Random(1)).up_at(100.0, law, 40)
    assert sum(at < 115 for at in up_at) <= 6
    # Ten rounds of four.
    assert max(up_at) == pytest.approx(200, rel=0.08)
    alone = Booting(40, Random(1)).up_at(100.0, law, 40)
    assert max(alone) < 120


def test_work_is_told_by_the_instances_that_did_it_as_they_come_and_go() -> None:
    now = [0.0]
    component = LiveComponent(Component("shop", cpus=2, boots_s=5.0), lambda: now[0], Random(1))
    cpu, _ = component.servers_of(component.instances[0])
    cpu.serve(0.0, 4.0)
    now[0] = 4.0
    (second,) = component.scale([6.0])
    component.settle()
    assert component.instances[0].cpu_s == pytest.approx(4.0)
    assert cpu.count == 2
    now[0] = 6.5
    component.settle()
    assert cpu.count == 4
    cpu.serve(6.5, 2.0)
    now[0] = 8.5
    component.settle()
    assert [one.cpu_s for one in component.instances] == pytest.approx([5.0, 1.0])
    component.lose(second)
    assert cpu.count == 2
    cpu.serve(8.5, 1.0)
    now[0] = 9.5
    component.settle()
    assert (component.instances[0].cpu_s, second.cpu_s) == (pytest.approx(6.0), pytest.approx(1.0))


def test_with_a_key_it_heeds_signed_calls_alone(quillport_process: Callable[[str], Quillport]) -> None:
    config = {
        "components": [{"name": "gateway", "versions": [{"name": "1"}, {"name": "2", "boots_s": 0.1}]}],
        "routes": [{"method": "GET", "path": "/", "visits": [{"component": "gateway", "cpu_ms": 1}]}],
        "signing_key": "a-long-enough-key",
    }
    system = quillport_process(yaml.safe_dump(config))
    path, body = "/components/gateway/version", b'{"version": "2"}'
    assert put(system, path, body)[0] == 401
    signed = signing.headers("a-long-enough-key", "PUT", path, body)
    assert put(system, path, b'{"version": "1"}', **signed)[0] == 401
    assert put(system, path, body, **signed)[0] == 202


def test_a_version_works_longer_and_starts_cold() -> None:
    now = 0.0
    versions = (Version("1"), Version("2", work=2.0, boots_s=3.0))
    config = Component("front", cold_factor=3.0, warms_over=5, versions=versions)
    live = LiveComponent(config, lambda: now, Random(1))
    live._served = 500
    live.deploy(versions[1])
    now = 2.9
    assert not live.instances[0].is_up
    now = 3.5
    assert live.instances[0].is_up
    assert live.version.work == 2.0
    assert shapes.wear(config, now, live._served) == pytest.approx(3.0)


def test_instances_are_replaced_by_turns_while_the_others_work() -> None:
    now = [0.0]
    versions = (Version("1"), Version("2", boots_s=3.0))
    config = Component("shop", cpus=2, instances=3, versions=versions)
    component = LiveComponent(config, lambda: now[0], Random(1))
    cpu, _ = component.servers_of(component.instances[0])

    def seen() -> tuple[set[str], int, int]:
        """In which versions requests are served, by so many servers, and how many instances are as asked for."""
        component.settle()
        entered = [component.enter() for _ in range(6)]
        return (
            {one.version.name for one in entered},
            cpu.count,
            sum(one.is_as_asked for one in component.instances),
        )

    component.deploy(versions[1], at_a_time=1)
    assert seen() == ({"1"}, 4, 0)
    now[0] = 3.1
    assert seen() == ({"1", "2"}, 4, 1)
    # Nobody looked when the second was up: the third began then all the same.
    now[0] = 8.9
    assert seen() == ({"2"}, 4, 2)
    now[0] = 9.1
    assert seen() == ({"2"}, 6, 3)
    assert sum(one.counts["refused"] for one in component.instances) == 0


def test_one_that_was_lost_is_not_replaced_and_a_size_comes_by_turns() -> None:
    now = [0.0]
    component = LiveComponent(Component("shop", cpus=2, instances=3, boots_s=5.0), lambda: now[0], Random(1))
    component.make(Size("large", 6, 1.0), at_a_time=2)
    cpu, _ = component.servers_of(component.instances[0])
    assert cpu.count == 2
    component.lose(component.instances[2])
    now[0] = 5.1
    component.settle()
    assert cpu.count == 12
    assert all(one.is_as_asked for one in component.instances)


def test_a_machine_drifts_to_and_fro() -> None:
    drifting = replace(shop(), drift=0.2, drift_every_s=400.0)
    assert shapes.drifted(drifting, 0) == pytest.approx(1.0)
    assert shapes.drifted(drifting, 100) == pytest.approx(1.2)
    assert shapes.drifted(replace(drifting, drift_from_s=200.0), 100) == pytest.approx(0.8)
    assert shapes.drifted(shop(), 100) == 1.0
    profile = LoadProfile((Segment.hold(20, 400),))
    busy = simulate(drifting, JOURNEYS, profile, seed=1).resources[1]
    slow, fast = busy.utilisation[50:150].mean(), busy.utilisation[250:350].mean()
    # Work is 1 + 0.2·(mean of a half sine around its top, 0.9) longer, then as much shorter.
    assert slow / fast == pytest.approx(1.18 / 0.82, rel=0.08)
