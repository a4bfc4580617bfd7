"""Records in bundles: compacted while a run goes on, and asked."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pyarrow as pa
import pytest

from stonekettle.engine import bundles, records
from stonekettle.engine.rollup import Second, fold, pack_histograms
from stonekettle.server.runs import bundling, data, merging, search
from stonekettle.server.runs.models import Generator, GeneratorSecond, RecordBundle, Run
from stonekettle.server.runs.search import Chosen, Filter

pytestmark = pytest.mark.django_db
SECONDS, RATE = 200, 40


@pytest.fixture
def recorded(make_run: Callable[..., Run]) -> tuple[Run, records.Records]:
    """A run of three minutes and some, and its records with the second of each in the last column."""
    run = make_run(0, state="running", begun_at=1.0)
    generator = Generator.objects.get(run=run)
    random = np.random.default_rng(3)
    everything = []
    for t in range(SECONDS):
        made = np.zeros(RATE, dtype=records.RECORD)
        made["start_us"] = np.sort(random.integers(t * 1_000_000, (t + 1) * 1_000_000, RATE))
        made["scheduled_us"] = made["start_us"] - random.integers(0, 500, RATE)
        made["user"], made["visit"] = random.integers(0, 30, RATE), 1 + t // 20
        made["step"], made["status"] = random.integers(0, 7, RATE), 200
        made["first_byte_us"] = random.lognormal(10, 0.7, RATE).astype(np.uint32)
        made["total_us"] = made["first_byte_us"] + random.integers(1, 90, RATE)
        made["error"] = (random.random(RATE) < 0.03) & (t > 100)
        made["flags"] = np.where(random.random(RATE) < 0.2, records.PART, 0)
        made["flags"][:2] = records.WHOLE
        counted = Second(t, 30.0, 1.0, 0.0, 0.2, 0.001, 0.1, 0.0, 0.0, 0.0, [1] * 7)
        folded, histograms = fold(counted, made, np.arange(7)[None])
        GeneratorSecond.objects.create(
            generator=generator,
            second=t,
            rollup=folded.as_dict(),
            histograms=pack_histograms(histograms),
            records=records.to_chunk(made),
        )
        everything.append(made)
    merging.merge(run.pk)
    return run, np.concatenate(everything)


def test_closed_minutes_are_bundled_while_the_run_goes_on(recorded: tuple[Run, records.Records]) -> None:
    run, every = recorded
    assert bundling.compact(run.pk, everything=False) == 3
    assert list(RecordBundle.objects.values_list("first_second", "last_second")) == [(0, 59), (60, 119), (120, 179)]
    spooled = GeneratorSecond.objects.filter(generator__run=run)
    assert spooled.count() == SECONDS  # told once more, a second is found to be there
    assert [bytes(chunk) for chunk in spooled.filter(second__lt=180).values_list("records", flat=True)] == [b""] * 180
    whole = pa.concat_tables(bundling.tables(run))
    assert np.array_equal(np.sort(whole["start_us"].to_numpy()), np.sort(every["start_us"]))
    told = [requests.start_s.size for requests in data.requests(run)]
    assert sum(told) == int(((every["error"] == 0) & (every["flags"] & records.PART == 0)).sum())
    assert bundling.compact(run.pk) == 1
    assert bundling.compact(run.pk) == 0
    assert np.array_equal(np.sort(pa.concat_tables(bundling.tables(run))["start_us"]), np.sort(every["start_us"]))


def test_seconds_that_come_late_are_a_bundle_of_their_own(recorded: tuple[Run, records.Records]) -> None:
    run, every = recorded
    bundling.compact(run.pk)
    late = Generator.objects.create(run=run, name="local-2", region="local")
    row = GeneratorSecond(generator=late, second=70, rollup={"second": 70, "completed": [0] * 7}, histograms=b"")
    row.records = records.to_chunk(every[:5])
    row.rollup = fold(Second(70, 1.0, 0, 0, 0, 0, 0, 0, 0, 0, [0] * 7), every[:5], np.arange(7)[None])[0].as_dict()
    row.save()
    merging.merge(run.pk)
    assert bundling.compact(run.pk) == 1
    assert sum(RecordBundle.objects.values_list("rows", flat=True)) == len(every) + 5


@pytest.mark.parametrize(
    ("wanted", "chosen"),
    [
        (Filter(), lambda r: r["flags"] & records.WHOLE == 0),
        (Filter(counting="steps"), lambda r: r["flags"] & records.PART == 0),
        (Filter(failed=True), lambda r: (r["flags"] & records.WHOLE == 0) & (r["error"] > 0)),
        (
            Filter(since_s=50, until_s=130.5, steps=(2, 3), failed=False),
            lambda r: (
                (r["flags"] & records.WHOLE == 0)
                & (r["error"] == 0)
                & (r["start_us"] >= 50e6)
                & (r["start_us"] < 130.5e6)
                & np.isin(r["step"], (2, 3))
            ),
        ),
        (Filter(slower_than_s=0.06), lambda r: (r["flags"] & records.WHOLE == 0) & (r["total_us"] > 60_000)),
        (
            Filter(users=(4,), visit=3, groups=(0,), statuses=(200,)),
            lambda r: (r["flags"] & records.WHOLE == 0) & (r["user"] == 4) & (r["visit"] == 3),
        ),
        (Filter(statuses=(503,)), lambda r: np.zeros(len(r), dtype=bool)),
        (
            Filter(slower_than_s=0.02, within_s=0.06, errors=(0,), failed=False),
            lambda r: (
                (r["flags"] & records.WHOLE == 0)
                & (r["error"] == 0)
                & (r["total_us"] > 20_000)
                & (r["total_us"] <= 60_000)
            ),
        ),
        (Filter(errors=(1,)), lambda r: (r["flags"] & records.WHOLE == 0) & (r["error"] == 1)),
    ],
)
def test_questions_are_answered_as_by_looking_at_every_record(
    recorded: tuple[Run, records.Records], wanted: Filter, chosen: Callable[[records.Records], np.ndarray]
) -> None:
    run, every = recorded
    bundling.compact(run.pk)
    own = every[chosen(every)]
    found = Chosen(run, wanted)
    assert found.total == len(own)
    slowest = np.sort(own["total_us"])[::-1]
    page = found.page(by="total_us", descending=True, limit=20, offset=5)
    assert page["total_us"].to_pylist() == slowest[5:25].tolist()
    assert found.page(limit=7)["start_us"].to_pylist() == np.sort(own["start_us"])[:7].tolist()
    for together in found.together(["step", "error"]):
        step, error = together.key
        mine = own[(own["step"] == step) & (own["error"] == error)]
        assert (together.count, together.errors) == (len(mine), len(mine) if error else 0)
        if not error:
            assert together.percentiles_s == pytest.approx(np.percentile(mine["total_us"] / 1e6, [50, 95, 99]))
            assert together.longest_s == pytest.approx(mine["total_us"].max() / 1e6)


def test_copies_on_disk_can_be_dropped_at_any_time(
    recorded: tuple[Run, records.Records], monkeypatch: pytest.MonkeyPatch, settings: object
) -> None:
    run, _ = recorded
    bundling.compact(run.pk)
    total = Chosen(run).total
    assert Chosen(run).page(limit=1).num_rows == 1
    monkeypatch.setattr(search, "CACHE_BYTES", 0)
    folder = settings.SPOOL / "bundles"  # type: ignore[attr-defined]
    paths = sorted(folder.glob("*.parquet"))
    assert len(paths) == 4
    assert len({path.suffix for path in folder.iterdir()} - {".parquet"}) == len(bundles.STORED)
    paths[0].unlink()
    assert Chosen(run).total == total
    for path in folder.iterdir():
        path.unlink()
    assert Chosen(run).total == total
    paths[0].unlink()
    Chosen(run, Filter(until_s=1.0))
    assert paths[0].exists()


def test_a_run_without_records_has_none(make_run: Callable[..., Run]) -> None:
    run = make_run(0)
    assert Chosen(run).total == 0
    assert Chosen(run).page().num_rows == 0
    assert Chosen(run).together(["step"]) == []


def test_what_is_in_no_bundle_yet_is_found_too(recorded: tuple[Run, records.Records]) -> None:
    run, every = recorded
    requests = every[every["flags"] & records.WHOLE == 0]
    assert Chosen(run).total == len(requests)
    bundling.compact(run.pk, everything=False)
    found = Chosen(run)
    assert found.total == len(requests)
    newest = found.page(descending=True, limit=5)["start_us"].to_pylist()
    assert newest == np.sort(requests["start_us"])[::-1][:5].tolist()


def test_records_are_put_together_by_what_a_second_belongs_to(recorded: tuple[Run, records.Records]) -> None:
    run, every = recorded
    bundling.compact(run.pk)
    level = np.where(np.arange(150) < 90, 4, -1)  # of seconds beyond nothing is known
    told = {one.key[0]: one.count for one in Chosen(run).together(["level"], {"level": level})}
    own = every[every["flags"] & records.WHOLE == 0]
    early = int((own["start_us"] // 1_000_000 < 90).sum())
    assert told == {4: early, -1: len(own) - early}
    within = Filter(seconds=np.arange(150) < 90)
    assert Chosen(run, within).total == early
