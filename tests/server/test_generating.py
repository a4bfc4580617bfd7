"""The owner of a generator: orders get through whatever happens to what it has to save."""

from __future__ import annotations

from collections.abc import Callable
from types import SimpleNamespace

import pytest
from django.db import OperationalError

from stonekettle.server.runs import generating
from stonekettle.server.runs.generating import Courier
from stonekettle.server.runs.models import Generator, GeneratorSecond, Run


class FakeProcess:
    """Stands for a generator: notes what it is told."""

    pid = 4711

    def __init__(self, *_: object, **__: object) -> None:
        self.told: list[str] = []

    def begin(self, at: float) -> None:
        self.told.append("begin")

    def drain(self) -> None:
        self.told.append("drain")


@pytest.fixture
def courier(make_run: Callable[..., Run], monkeypatch: pytest.MonkeyPatch) -> Courier:
    monkeypatch.setattr(generating, "GeneratorProcess", FakeProcess)
    run = make_run(0, state="running", begun_at=1.0)
    return Courier(Generator.objects.get(run=run), 0, 1)


def test_an_order_to_drain_is_heard_though_nothing_can_be_saved(
    courier: Courier, monkeypatch: pytest.MonkeyPatch
) -> None:
    def full(*_: object, **__: object) -> None:
        raise OperationalError("could not extend file: No space left on device")

    Run.objects.filter(pk=courier.generator.run_id).update(drain_ordered=True)
    monkeypatch.setattr(GeneratorSecond.objects, "bulk_create", full)
    courier._unsaved = [GeneratorSecond(generator=courier.generator, second=0, rollup={}, histograms=b"", records=b"")]
    with pytest.raises(OperationalError):
        courier._look_and_save()
    assert courier._process.told == ["begin", "drain"]  # type: ignore[attr-defined]
    assert len(courier._unsaved) == 1


def test_seconds_are_saved_once_and_orders_given_once(courier: Courier) -> None:
    event = SimpleNamespace(rollup={"second": 3}, histograms={}, records=b"")
    courier._unsaved = [courier._row(event)]  # type: ignore[arg-type]
    for _ in range(3):
        courier._look_and_save()
    assert courier._process.told == ["begin"]  # type: ignore[attr-defined]
    assert GeneratorSecond.objects.get(generator=courier.generator).second == 3
    assert Generator.objects.get(pk=courier.generator.pk).process_id == 4711
