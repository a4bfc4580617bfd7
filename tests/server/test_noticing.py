"""Notices of a run under way: what begins and ends in its seconds, and where it is told."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from django.test import Client

from stonekettle.core.load_profile import Target
from stonekettle.core.orders import Order
from stonekettle.engine import orderbook, records
from stonekettle.engine.rollup import Second
from stonekettle.meters.samples import Catalogue, Source
from stonekettle.plan import document
from stonekettle.plan.models import StopRule
from stonekettle.server.runs import data, merging, metering
from stonekettle.server.runs.models import (
    Generator,
    MeterScrape,
    MeterSecond,
    MeterSeries,
    Run,
    RunNote,
    RunNotice,
    RunOrder,
)
from stonekettle.server.runs.noticing import Noticing
from stonekettle.server.runs.unusual import Unusual
from tests.server.conftest import store_second

pytestmark = pytest.mark.django_db
STOP = [{"errors": "50 %", "for": "10 s"}]


def told(run: Run, first: int, last: int, *, slow: bool = False, errors: int = 0, overdue: float = 0.0) -> None:
    """Seconds in which each step is done twice, the one with the objective in time or not."""
    generator = Generator.objects.get(run=run)
    goal = run.goals[0]
    for t in range(first, last):
        made = np.zeros(20, dtype=records.RECORD)
        made["step"] = np.arange(20) % 5
        made["status"], made["total_us"] = 200, 5_000
        made["error"][:errors] = 1
        aimed = made["step"] == int(goal.selection.removeprefix("step:"))
        made["total_us"][aimed] = goal.limit_s * 1e6 * (2.0 if slow else 0.2)
        counted = Second(t, 30.0, 1.0, overdue, 0.2, 0.001, 0.1, 0.0, 0.0, 0.0, [4, 4, 4, 4, 4, 0, 0])
        store_second(generator, counted, made)
    merging.merge(run.pk)


def ordered(run: Run, at: float, users: float) -> None:
    number = run.orders.count() + 1
    order = Order(number, at, {"everyone": Target.steady(users)})
    RunOrder.objects.create(run=run, number=number, order=orderbook.to_plain(order), who="the plan")


@pytest.fixture
def run(make_run: Callable[..., Run]) -> Run:
    run = make_run(0)
    rules = tuple(map(StopRule.model_validate, STOP))
    run.plan_document = document.to_document(run.plan.model_copy(update={"stop_when": rules}))
    run.state, run.begun_at = "running", time.time() - 100
    run.save()
    ordered(run, 0, 30)
    return run


def noticed(client: Client, run: Run) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = client.get(f"/api/runs/{run.pk}").json()["noticed"]
    return found


def standing(client: Client, run: Run) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = client.get(f"/api/runs/{run.pk}/plate").json()["standing"]
    return found


def test_while_all_is_well_there_is_nothing_to_notice(client: Client, run: Run) -> None:
    told(run, 0, 60)
    Noticing(run.pk).look()
    assert noticed(client, run) == []


def test_what_begins_is_told_and_what_ends_has_its_end(client: Client, run: Run) -> None:
    watch = Noticing(run.pk)
    told(run, 0, 40)
    watch.look()
    told(run, 40, 60, slow=True)
    watch.look()
    (begun,) = noticed(client, run)
    assert (begun["kind"], begun["row"], begun["until_s"]) == ("objective", "response", None)
    assert "does not hold" in begun["text"]
    assert 38 <= begun["at_s"] <= 42
    (line,) = client.get("/api/now").json()["runs"]
    assert (line["id"], line["state"], line["notices"]) == (run.pk, "running", 1)
    before = client.get(f"/api/runs/{run.pk}/plate").json()["story"]
    told(run, 60, 130)
    watch.look()
    (over,) = noticed(client, run)
    assert 60 <= over["until_s"] <= 105
    assert client.get(f"/api/runs/{run.pk}/plate").json()["story"] > before
    assert RunNotice.objects.count() == 1


def test_what_only_becomes_worse_is_told_anew_now_and_then_and_at_the_end(client: Client, run: Run) -> None:
    watch = Noticing(run.pk)
    told(run, 0, 20)
    stories, texts = set(), set()
    for second in range(20, 60):
        told(run, second, second + 1, overdue=0.2 * (second - 15))
        watch.look()
        stories.add(client.get(f"/api/runs/{run.pk}/plate").json()["story"])
        texts |= {one["text"] for one in noticed(client, run)}
    assert 4 <= len(texts) == len(stories) - 1 <= 9  # each second without that
    watch.end()
    (worst,) = noticed(client, run)
    assert worst["text"] not in texts
    assert worst["text"].startswith("The generators were late with 25 %")  # 7.5 of 30 users in the last ten seconds


def test_load_that_is_not_there_lateness_errors_and_a_stop_rule_near(client: Client, run: Run) -> None:
    told(run, 0, 20)
    ordered(run, 20, 60)
    told(run, 20, 50, errors=9, overdue=6.0)
    Noticing(run.pk).look()
    found = {one["kind"]: one for one in noticed(client, run)}
    assert {"order", "blur", "stop rule"} <= set(found)
    assert 19 <= found["order"]["at_s"] <= 21
    assert found["order"]["text"].endswith("of the load that is ordered is not there")
    assert found["stop rule"]["text"].startswith("Close to a stop rule, all steps over 50 % errors for 10 s: at 9")
    assert found["blur"]["row"] == "blur"


def test_objectives_and_stop_rules_stand_as_the_last_seconds_say(client: Client, run: Run) -> None:
    watch = Noticing(run.pk)
    told(run, 0, 5)
    assert standing(client, run) == []
    watch.look()
    assert {one["value"] for one in standing(client, run)} == {None}
    told(run, 5, 50, errors=5)
    assert standing(client, run) == []  # what was heard last is older than the last seconds
    watch.look()
    found = standing(client, run)
    rule = next(one for one in found if one["kind"] == "stop rule")
    assert rule["text"] == "all steps over 50 % errors for 10 s"
    assert (rule["value"], rule["limit"]) == (0.5, 1.0)
    goal = next(one for one in found if one["kind"] == "objective")
    assert (goal["value"], goal["limit"]) == (0.0, pytest.approx(0.05))
    told(run, 50, 90, slow=True)
    watch.look()
    assert next(one for one in standing(client, run) if one["kind"] == "objective")["value"] == 1.0
    Run.objects.filter(pk=run.pk).update(state="draining")
    assert standing(client, run) == []


def test_a_rule_on_a_resource_stands_where_its_meter_does(client: Client, make_run: Callable[..., Run]) -> None:
    run = make_run(40)
    rule = StopRule.model_validate({"resource": "ledger.cpu", "utilisation": "80 %", "for": "10 s"})
    run.plan_document = document.to_document(run.plan.model_copy(update={"stop_when": (rule,)}))
    run.state, run.begun_at = "running", time.time() - 40
    run.save()
    Noticing(run.pk).look()
    (stands,) = [one for one in standing(client, run) if one["kind"] == "stop rule"]
    assert stands["value"] == pytest.approx(0.5 / 0.8, rel=0.01)


def metered(run: Run, first: int, last: int, *busy: float, memory: float = 0.4, grows: float = 0.0) -> None:
    """What the ledger's instances told in these seconds, of which two of four cores were busy until the 60th: so many
    busy cores of each, and a share of its memory."""
    catalogue = Catalogue()
    names = {
        "cpu_seconds": "counter",
        "cpu_cores": "gauge",
        "memory_used_bytes": "gauge",
        "memory_limit_bytes": "gauge",
    }
    instances = [
        [Source("ledger", f"ledger:{number}", f"quillport_{name}", (), kind) for name, kind in names.items()]
        for number in range(1, len(busy) + 1)
    ]
    if first == 0:
        MeterSeries.objects.filter(run=run).delete()
        MeterScrape.objects.filter(run=run).delete()
    begun = {0: 0.0, 60: 120.0}[first] / len(busy)
    data.store(
        run.pk,
        [
            catalogue.batch(
                t,
                [
                    read
                    for (cpu, cores, used, limit), each in zip(instances, busy, strict=True)
                    for read in (
                        (cpu, t, begun + each * (t - first)),
                        (cores, t, 4.0 / len(busy)),
                        (used, t, 1e9 * (memory + grows * (t - first))),
                        (limit, t, 1e9),
                    )
                ],
            )
            for t in range(first if first == 0 else first + 1, last + 1)
        ],
    )
    metering.Reader(run.pk).look()


@pytest.mark.parametrize(
    ("busy", "where"),
    [((1.8, 1.2), ", mostly at ledger:1"), ((1.5, 1.5), ""), ((1.1, 1.9), ", mostly at ledger:2")],
)
def test_the_instance_that_does_most_of_what_is_unusual_is_named(
    client: Client, run: Run, busy: tuple[float, float], where: str
) -> None:
    watch = Noticing(run.pk)
    told(run, 0, 60)
    metered(run, 0, 60, 1.0, 1.0)
    watch.look()
    told(run, 60, 120)
    metered(run, 60, 120, *busy)
    watch.look()
    (cost,) = noticed(client, run)
    assert cost["text"] == f"ledger CPU works 50 % more than the steps done explain{where}"


def test_what_is_unusual_in_a_resource_is_told_in_its_row(client: Client, run: Run) -> None:
    watch = Noticing(run.pk)
    told(run, 0, 60)
    metered(run, 0, 60, 2.0)
    watch.look()
    assert noticed(client, run) == []
    told(run, 60, 120)
    metered(run, 60, 120, 3.6, grows=0.002)
    watch.look()
    found = {one["kind"]: one for one in noticed(client, run)}
    cost, memory = found["cost"], found["memory"]
    assert (cost["row"], cost["until_s"], cost["at_s"]) == ("resource:ledger.cpu", None, 60)
    assert cost["text"] == "ledger CPU works 80 % more than the steps done explain"
    assert (memory["row"], memory["at_s"]) == ("resource:ledger.memory", 60)
    # 0.2 % a second from 40 % on, with the last seconds still to come from slower meters.
    assert memory["text"].startswith("ledger memory grows by 12 % of all a minute, more than the load explains: ")
    assert memory["text"].endswith(": full in 4 min 10 s at this rate")
    again = Noticing(run.pk)
    again.look()
    assert {one["kind"] for one in noticed(client, run)} == {"cost", "memory"}
    assert RunNotice.objects.count() == 2


def test_without_meters_nothing_is_unusual(client: Client, run: Run) -> None:
    told(run, 0, 60)
    watch = Unusual(run.layout)
    watch.look(run)
    assert watch.notices == []


def test_what_the_plan_did_and_meters_showed_stand_among_them(client: Client, run: Run) -> None:
    told(run, 0, 20)
    RunNote.objects.create(run=run, at_s=12.5, who="the plan", text="The generator local-1 was lost at 12 s.")
    RunNote.objects.create(run=run, at_s=13.5, who="anna", text="Held where it is.")
    silence = {"kind": "silence", "component": "ledger", "instance": "ledger:1", "metric": "", "second": 5, "until": 9}
    MeterSecond.objects.create(run=run, every=1, second=5, sequence=1, values=b"", events=[silence])
    found = noticed(client, run)
    assert [(one["kind"], one["at_s"], one["until_s"]) for one in found] == [("plan", 12.5, None), ("silence", 5, 9)]
    assert found[1]["text"] == "ledger (ledger:1) answered no scrape for 4 s"


def test_before_load_nothing_is_watched(make_run: Callable[..., Run]) -> None:
    Noticing(make_run(0).pk).look()
    assert not RunNotice.objects.exists()
