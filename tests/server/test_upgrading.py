"""Runs of the version before, kept as seconds of generators only."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from django.test import Client

from stonekettle.server.runs import analysing, upgrading
from stonekettle.server.runs.models import GeneratorSecond, MeterSecond, RecordBundle, Run, RunSecond

pytestmark = pytest.mark.django_db
MakeRun = Callable[..., Run]


def told(run: Run) -> list[GeneratorSecond]:
    """What its generators told, as the version before kept it."""
    rows = list(GeneratorSecond.objects.filter(generator__run=run))
    for row in rows:
        row.rollup = {name: value for name, value in row.rollup.items() if name not in ("requests", "present")}
        row.merged = False
    return rows


def as_before(run: Run, rows: list[GeneratorSecond]) -> None:
    """Leave of the run what the version before kept."""
    for model in (RunSecond, MeterSecond, RecordBundle):
        model.objects.filter(run=run).delete()  # type: ignore[attr-defined]
    Run.objects.filter(pk=run.pk).update(sequence=0, meter_columns={})
    for row in rows:
        row.save()


def test_a_run_of_the_version_before_is_shown_unchanged(client: Client, make_run: MakeRun) -> None:
    run = make_run(12, state="finished", begun_at=1.0)
    rows = told(run)
    analysing.analyse(run, state="finished", cause="done")
    found, plate = client.get(f"/api/runs/{run.pk}").json(), client.get(f"/api/runs/{run.pk}/plate").json()
    as_before(run, rows)
    kept = Run.objects.get(pk=run.pk).result
    told_then = {k: v for k, v in kept["findings"].items() if k not in ("levels", "load_kind")}
    Run.objects.filter(pk=run.pk).update(result={**kept, "format": 2, "levels": [], "findings": told_then})
    said: list[str] = []
    assert upgrading.bring_up_to_date(said.append) == 1
    assert said == [f"Bringing the measurements of run {run.pk} up to date, 1 of 1 …"]
    assert client.get(f"/api/runs/{run.pk}").json() == found
    again = client.get(f"/api/runs/{run.pk}/plate").json()
    assert {**again, "sequence": 0, "groups": []} == {**plate, "sequence": 0, "groups": []}
    assert upgrading.bring_up_to_date(said.append) == 0
    assert sum(run.bundles.values_list("rows", flat=True)) == 60


def test_a_run_that_cannot_be_brought_up_to_date_keeps_no_other_from_it(client: Client, make_run: MakeRun) -> None:
    broken, sound = make_run(3, state="finished"), make_run(3, state="finished")
    for run in (broken, sound):
        as_before(run, told(run))
    GeneratorSecond.objects.filter(generator__run=broken).update(rollup={"second": "soon"})
    said: list[str] = []
    assert upgrading.bring_up_to_date(said.append) == 2
    assert any("a fault of Stone Kettle" in line for line in said)
    assert client.get(f"/api/runs/{sound.pk}/plate").json()["throughput"] == [5.0] * 3
    assert client.get(f"/api/runs/{broken.pk}/plate").json()["t"] == []
