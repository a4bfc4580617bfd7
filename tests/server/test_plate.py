"""The plate of a run: columns, read whole, by what is new, or by a window."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from django.db.models import F
from django.test import Client

from stonekettle.engine import records
from stonekettle.engine.rollup import Second
from stonekettle.engine.script import cell_numbers
from stonekettle.engine.seconds import Layout
from stonekettle.meters.samples import Catalogue, Source
from stonekettle.plan import document
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.runs import data, merging, metering, plate
from stonekettle.server.runs.models import Generator, GeneratorSecond, Run
from tests.server.conftest import store_second

MakeRun = Callable[..., Run]


def test_the_plate_is_columns_of_equal_length(client: Client, make_run: MakeRun) -> None:
    run = make_run(5)
    found = client.get(f"/api/runs/{run.pk}/plate").json()
    assert found["t"] == [0.5, 1.5, 2.5, 3.5, 4.5]
    assert found["throughput"] == [5.0] * 5
    assert (found["p95"][0], found["mean"][0]) == (pytest.approx(0.02, rel=0.02), pytest.approx(0.02))
    assert found["planned"] == [30.0] * 5
    assert found["resources"][0]["utilisation"] == [0.5] * 5
    columns = {name: v for name, v in found.items() if isinstance(v, list) and v and not isinstance(v[0], dict)}
    assert len(columns) == 15
    assert {len(v) for v in columns.values()} == {5}
    assert found["state"] == run.state
    assert found["elapsed_s"] == 5


def test_a_page_asks_only_for_what_is_new(client: Client, make_run: MakeRun) -> None:
    run = make_run(20, state="running", begun_at=1.0)
    whole = client.get(f"/api/runs/{run.pk}/plate").json()
    cursor = f"after={whole['sequence']}&bin_s=1"
    nothing = client.get(f"/api/runs/{run.pk}/plate?{cursor}").json()
    assert (nothing["whole"], nothing["t"], nothing["sequence"]) == (False, [], whole["sequence"])
    told = GeneratorSecond.objects.get(generator__run=run, second=7)
    late = Generator.objects.create(run=run, name="local-2", region="local")
    GeneratorSecond.objects.create(
        generator=late, second=7, rollup=told.rollup, histograms=told.histograms, records=b""
    )
    merging.merge(run.pk)
    new = client.get(f"/api/runs/{run.pk}/plate?{cursor}").json()
    assert (new["start"], new["throughput"], new["users"]) == ([7], [10.0], [60.0])
    assert new["p95"][0] == pytest.approx(whole["p95"][7])
    assert new["resources"][0]["utilisation"] == [0.5]
    assert client.get(f"/api/runs/{run.pk}/plate?{cursor}0").json()["whole"]


def test_a_live_look_reads_no_more_in_a_long_run(
    client: Client, make_run: MakeRun, django_assert_max_num_queries: Any
) -> None:
    run = make_run(60, state="running", begun_at=2.0)
    client.get(f"/api/runs/{run.pk}/plate")
    with django_assert_max_num_queries(10) as queries:
        client.get(f"/api/runs/{run.pk}/plate?after={run.sequence - 1}&bin_s=1")
    assert not any("plan_document" in query["sql"] for query in queries.captured_queries)
    assert not any("histograms" in query["sql"] for query in queries.captured_queries)


def test_a_look_that_came_too_early_reads_no_seconds(
    client: Client, make_run: MakeRun, django_assert_max_num_queries: Any
) -> None:
    run = make_run(60, state="running", begun_at=2.0)
    whole = client.get(f"/api/runs/{run.pk}/plate").json()
    cursor = f"after={whole['sequence']}&bin_s=1&has={whole['of']}"
    with django_assert_max_num_queries(3) as queries:
        early = client.get(f"/api/runs/{run.pk}/plate?{cursor}").json()
    assert (early["same"], early["whole"], early["start"], early["of"]) == (True, False, [], whole["of"])
    assert {name for name, value in early.items() if value == []} >= {"resources", "pins", "users", "selections"}
    assert not any("figures" in query["sql"] or "values" in query["sql"] for query in queries.captured_queries)
    # Not where something else is wanted by now.
    for other in (f"{cursor}&of=all", cursor.replace("bin_s=1", "bin_s=10")):
        found = client.get(f"/api/runs/{run.pk}/plate?{other}").json()
        assert (found["same"], found["whole"]) == (False, True)
    Run.objects.filter(pk=run.pk).update(state="finished")
    assert not client.get(f"/api/runs/{run.pk}/plate?{cursor}").json()["same"]


def test_what_is_shown_is_chosen_anew_every_ten_seconds(client: Client, make_run: MakeRun) -> None:
    run = make_run(25, state="running", begun_at=3.0)
    goal = run.goals[0].selection
    (other,) = {"step:0", "step:1"} - {goal}
    for rows in (run.seconds, run.meter_seconds):
        rows.update(sequence=F("second"))
    Run.objects.filter(pk=run.pk).update(sequence=24)

    def look(after: int) -> dict[str, Any]:
        window = f"after={after}&bin_s=1&has={other}"
        found: dict[str, Any] = client.get(f"/api/runs/{run.pk}/plate?{window}").json()
        return found

    kept, anew = look(21), look(18)
    assert (kept["whole"], kept["of"], kept["start"]) == (False, other, [22, 23, 24])
    assert (anew["whole"], anew["of"], len(anew["start"])) == (True, goal, 25)


def test_the_instances_of_a_resource_are_there_for_who_asks(client: Client, make_run: MakeRun) -> None:
    run = make_run(10)
    run.meter_series.all().delete()
    run.meter_scrapes.all().delete()
    catalogue, read = Catalogue(), []
    for name, cores in (("ledger:1", 1.0), ("ledger:2", 3.0)):
        busy = Source("ledger", name, "quillport_cpu_seconds", (), "counter")
        have = Source("ledger", name, "quillport_cpu_cores", (), "gauge")
        read.append((busy, have, cores))
    rounds = [
        catalogue.batch(t, [pair for busy, have, cores in read for pair in ((busy, t, cores * t), (have, t, 4.0))])
        for t in range(11)
    ]
    data.store(run.pk, rounds)
    metering.complete(run, data.load(run))
    together = client.get(f"/api/runs/{run.pk}/plate").json()["resources"][0]
    assert (together["utilisation"][5], together["instance_count"], together["instances"]) == (0.5, 2, [])
    apart = client.get(f"/api/runs/{run.pk}/plate?split=instance").json()
    assert [(one["label"], one["values"][5]) for one in apart["resources"][0]["instances"]] == [
        ("ledger:1", 0.25),
        ("ledger:2", 0.75),
    ]
    assert apart["parts"] == []


def test_journeys_are_told_by_the_second_where_generators_counted_them(client: Client, make_run: MakeRun) -> None:
    run = make_run(3)
    assert client.get(f"/api/runs/{run.pk}/plate").json()["journeys"] == [None] * 3
    row = GeneratorSecond.objects.get(generator__run=run, second=2)
    row.pk, row.merged, row.second = None, False, 3
    row.rollup = {**row.rollup, "second": 3, "journeys": [4]}
    row.save()
    merging.merge(run.pk)
    assert client.get(f"/api/runs/{run.pk}/plate").json()["journeys"] == [None, None, None, 4.0]


def test_stalls_and_blur_are_on_the_plate(client: Client, make_run: MakeRun) -> None:
    run = make_run(5)
    row = GeneratorSecond.objects.get(generator__run=run, second=2)
    row.rollup = {**row.rollup, "users": 0.0, "overdue": 1.5, "stalls": [[2.1, 2.5], [2.8, 2.83]]}
    row.pk, row.generator = None, Generator.objects.create(run=run, name="local-2", region="local")
    row.merged = False
    row.save()
    merging.merge(run.pk)
    found = client.get(f"/api/runs/{run.pk}/plate").json()
    assert found["blur"] == [0.0, 0.0, pytest.approx(0.05), 0.0, 0.0]
    assert found["stalls"] == [{"t": pytest.approx(2.1), "length_s": pytest.approx(0.4)}]


def test_a_run_without_data_has_an_empty_plate(client: Client, make_run: MakeRun) -> None:
    assert client.get(f"/api/runs/{make_run(0).pk}/plate").json()["t"] == []


def test_long_runs_are_merged_to_a_bounded_number_of_points(
    client: Client, make_run: MakeRun, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(plate, "MAX_POINTS", 4)
    run = make_run(34)
    drawn = client.get(f"/api/runs/{run.pk}/plate?after={run.sequence}&bin_s=1").json()
    assert (drawn["whole"], drawn["bin_s"], drawn["t"]) == (True, 10, [5, 15, 25, 32])
    assert drawn["throughput"] == [5.0] * 4
    assert drawn["resources"][0]["utilisation"] == [0.5] * 4
    assert drawn["p95"] == [pytest.approx(0.02, rel=0.02)] * 4


def test_restarts_and_silences_are_marked_on_the_plate(client: Client, make_run: MakeRun) -> None:
    run = make_run(30)
    run.meter_series.all().delete()
    run.meter_scrapes.all().delete()
    catalogue = Catalogue()
    busy = Source("ledger", "ledger:1", "cpu_seconds", (), "counter")
    started = Source("planner", "planner:1", "process_start_time_seconds", (), "gauge")
    rounds = []
    for t in range(31):
        read = [(started, float(t), 1e9 if t < 20 else 1e9 + 60)]
        if not 8 < t < 18:
            read.append((busy, float(t), float(t)))
        rounds.append(catalogue.batch(t, read))
    data.store(run.pk, rounds)
    metering.complete(run, data.load(run))
    events = client.get(f"/api/runs/{run.pk}/plate").json()["events"]
    assert [(e["kind"], e["t"], e["until"]) for e in events] == [("silence", 8, 18), ("restart", 20, None)]
    assert events[0]["text"] == "ledger (ledger:1) answered no scrape for 10 s"
    assert events[1]["text"] == "planner (planner:1) restarted"


def test_a_window_of_a_long_run_is_read_as_fine_as_it_fits(
    client: Client, make_run: MakeRun, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(plate, "MAX_POINTS", 20)
    run = make_run(90, state="finished", begun_at=1.0)
    whole = client.get(f"/api/runs/{run.pk}/plate").json()
    assert (whole["bin_s"], len(whole["t"]), whole["first"]) == (10, 9, 0)
    part = client.get(f"/api/runs/{run.pk}/plate?from_s=33&until_s=47").json()
    assert (part["bin_s"], part["first"]) == (1, 33)
    assert part["start"] == list(range(33, 47))
    assert part["throughput"] == [5.0] * 14
    assert part["resources"][0]["utilisation"] == [0.5] * 14
    coarse = client.get(f"/api/runs/{run.pk}/plate?from_s=33&until_s=77").json()
    assert (coarse["bin_s"], coarse["start"]) == (10, [30, 40, 50, 60, 70])
    cursor = f"after={part['sequence']}&bin_s=1&from_s=33&until_s=47"
    assert client.get(f"/api/runs/{run.pk}/plate?{cursor}").json()["t"] == []
    for odd in ("from_s=80&until_s=20", "from_s=900", "from_s=0&until_s=999999"):
        assert client.get(f"/api/runs/{run.pk}/plate?{odd}").status_code == 200
    assert client.get(f"/api/runs/{run.pk}/plate?from_s=-3").status_code == 422


def test_the_last_seconds_of_a_resource_are_at_hand_by_its_key(make_run: MakeRun) -> None:
    run = make_run(60)
    measured = data.load(run)
    whole = measured.run.resources[0]
    metering.complete(run, measured)
    found = metering.lately(run.pk, [whole.key, "shop.unknown"], 12)
    assert list(found) == [whole.key]
    assert found[whole.key] == pytest.approx(whole.utilisation[-12:], abs=1e-5)
    assert metering.lately(make_run(0, state="running").pk, [whole.key], 12) == {}


def test_columns_of_meters_that_came_since_the_run_was_read_are_known(make_run: Callable[..., Run]) -> None:
    run = make_run(5, state="running", begun_at=1.0)
    expected = plate.read(run, plate.Window(), 5).resources
    run.meter_columns = {}  # as it was before the first round of meters
    assert expected
    assert plate.read(run, plate.Window(), 5).resources == expected


@pytest.fixture
def from_two_places(experiment: Experiment) -> Run:
    """A run of 20 s: people from the north are answered in 20 ms, others in 300 ms, and one in five fails."""
    found = document.to_document(experiment.current.plan)
    load = found.pop("load")
    mix = {journey["name"]: 1 for journey in found["journeys"]}
    found["groups"] = [
        {"name": "locals", "region": "north", "mix": mix, "users": load},
        {"name": "guests", "mix": mix, "users": load},
    ]
    run = Run.objects.create(revision=experiment.current, plan_document=found, state="finished", begun_at=1.0)
    generator = Generator.objects.create(run=run, name="local-1", region="local")
    numbers = cell_numbers(run.plan)
    for t in range(20):
        made = np.zeros(20, dtype=records.RECORD)
        made["group"], made["step"] = np.arange(20) % 2, np.arange(20) // 2 % 5
        made["status"], made["total_us"] = 200, np.where(made["group"] == 0, 20_000, 300_000)
        made["error"][1], made["status"][1] = 1, 503
        made["bytes_in"] = 500
        timings = {"ledger": {"0": [2, 0.030], "1": [1, 0.090]}}
        counted = Second(
            t, 30.0, 1.0, 0.0, 0.2, 0.001, 0.1, 0.0, 0.0, 0.0, [1] * 14, present=[20.0, 10.0], timings=timings
        )
        store_second(generator, counted, made, numbers)
    merging.merge(run.pk)
    run.refresh_from_db()
    return run


def test_regions_are_read_beside_each_other(client: Client, from_two_places: Run) -> None:
    run = from_two_places
    found = client.get(f"/api/runs/{run.pk}/plate?split=region").json()
    assert [one["name"] for one in found["selections"] if one["id"].startswith("region:")] == ["north", "anywhere"]
    assert [(one["name"], one["region"]) for one in found["groups"]] == [("locals", "north"), ("guests", "anywhere")]
    north, anywhere = found["regions"]
    assert (north["id"], anywhere["id"]) == ("region:0", "region:1")
    assert north["p95"][5] == pytest.approx(0.02, rel=0.02)
    assert anywhere["p50"][5] == pytest.approx(0.3, rel=0.02)
    assert (north["throughput"][5], north["errors"][5]) == (10.0, 0.0)
    assert (anywhere["throughput"][5], anywhere["errors"][5]) == (9.0, 1.0)
    assert found["parts"] == []
    unsplit = client.get(f"/api/runs/{run.pk}/plate").json()
    assert unsplit["regions"] == []
    one = client.get(f"/api/runs/{run.pk}/plate?of=region:1").json()
    assert one["p95"][5] == pytest.approx(0.3, rel=0.02)


def test_errors_are_told_by_kind_with_what_came_in_and_the_time_in_servers(
    client: Client, from_two_places: Run
) -> None:
    found = client.get(f"/api/runs/{from_two_places.pk}/plate?of=all").json()
    (kind,) = found["error_kinds"]
    assert kind == {"kind": "status 503", "errors": [1.0] * 20}
    assert (found["received"][3], found["requests"][3]) == (10_000.0, 20.0)
    (served,) = found["served"]
    assert (served["name"], served["mean_s"][3]) == ("ledger", 0.04)
    first = client.get(f"/api/runs/{from_two_places.pk}/plate?of=step:0").json()
    assert first["served"][0]["mean_s"][3] == 0.015
    assert client.get(f"/api/runs/{from_two_places.pk}/plate?of=step:2").json()["served"] == []
    fresh = client.get(f"/api/runs/{from_two_places.pk}/plate?of=all&has=all&after=1&bin_s=1").json()
    assert not fresh["whole"]


def test_seconds_from_before_regions_were_told_apart_are_drawn_without(client: Client, from_two_places: Run) -> None:
    run = from_two_places
    older = Layout(run.layout.groups, run.layout.cells, ("", "")).width
    for row in run.seconds.all():
        row.figures = bytes(row.figures)[: 4 * older]
        row.save(update_fields=["figures"])
    found = client.get(f"/api/runs/{run.pk}/plate?split=region").json()
    assert found["throughput"][5] == 19.0
    assert found["regions"][0]["throughput"][5] is None
