"""What takes turns in the demo's season: two releases, and more and more of a component; played by the practice
twin and kept in files.

:func:`build` plays it anew, :func:`seed` puts it among the other runs.
"""

from __future__ import annotations

import json
import lzma
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import timedelta
from pathlib import Path
from random import Random

from django.conf import settings
from django.utils import timezone

from stonekettle.plan import document
from stonekettle.practice import config
from stonekettle.practice.config import PracticeConfig
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.runs import archive, played
from stonekettle.server.runs.models import Run
from stonekettle.server.series import findings, rules
from stonekettle.server.series.models import Series, Turn

DRIFT, DRIFT_EVERY_S = 0.05, 1200.0
"""The machine under the releases was faster and slower by that share meanwhile."""


def _release(turn: Turn) -> PracticeConfig:
    """The practice system with the release whose turn it is, on a machine that drifts."""
    made = config.quillport()
    release = next(
        one for one in made.component("planner").versions if one.name == turn.candidate.removeprefix("planner ")
    )
    routes = tuple(
        replace(
            route,
            visits=tuple(
                replace(v, cpu_ms=v.cpu_ms * release.work) if v.component == "planner" else v for v in route.visits
            ),
        )
        for route in made.routes
    )
    since_s = turn.number * RELEASES.every.total_seconds()
    return replace(made, routes=routes, drift=DRIFT, drift_every_s=DRIFT_EVERY_S, drift_from_s=since_s)


def _grown(turn: Turn) -> PracticeConfig:
    """The practice system with so many instances as it is the turn of."""
    scaling = turn.series.plan.scaling
    assert scaling is not None  # the experiment's own
    count = int(scaling.value(turn.candidate).value)
    return config.quillport().with_component(scaling.component or "", instances=count)


@dataclass(frozen=True)
class Turns:
    """An experiment of the demo, whose turns of so many ``days`` ago stand in ``file``, one ``every`` so long; the
    practice system ``as_of`` a turn, and how long it took to bring it under load (s)."""

    experiment: str
    file: str
    days: float
    every: timedelta
    seed: int
    as_of: Callable[[Turn], PracticeConfig]
    ready_s: Callable[[Turn], float]

    @property
    def path(self) -> Path:
        return Path(settings.ROOT) / "examples" / self.file


RELEASES = Turns(
    "Two planners",
    "turns.json.xz",
    9,
    timedelta(seconds=95),
    700,
    _release,
    lambda turn: 4.2 if turn.candidate.endswith("3.4") else 2.1,
)
GROWN = Turns(
    "More and more ledgers",
    "scaling.json.xz",
    6,
    timedelta(seconds=250),
    800,
    _grown,
    lambda turn: 0.3 if turn.candidate.startswith("1") else 7.4,
)
ALL = (RELEASES, GROWN)


def build(experiments: Sequence[Experiment], say: Callable[[str], object] = lambda text: None) -> int:
    """Play the turns against the practice twin and write them; the files' size (bytes)."""
    return sum(_build(one, experiments, say) for one in ALL)


def _build(told: Turns, experiments: Sequence[Experiment], say: Callable[[str], object]) -> int:
    experiment = _own(told, experiments)
    series = _series(experiment)
    packed = []
    for turn in series.turns.all():
        say(f"Turn {turn.number}: {turn.candidate} …")
        begun = played.days_ago(told.days) + turn.number * told.every
        plan = rules.plan_of(turn, series.plan)
        run = played.play_as(experiment, plan, told.as_of(turn), begun, seed=told.seed + turn.number)
        run.refresh_from_db()
        packed.append(archive.pack(run))
    told.path.write_bytes(lzma.compress(json.dumps(packed, separators=(",", ":")).encode(), preset=9))
    return told.path.stat().st_size


def seed(experiments: Sequence[Experiment]) -> list[Series]:
    """Put the series among the others, as long ago as they were."""
    return [_seed(one, experiments) for one in ALL]


def _seed(told: Turns, experiments: Sequence[Experiment]) -> Series:
    experiment = _own(told, experiments)
    series = _series(experiment)
    every = json.loads(lzma.decompress(told.path.read_bytes()))
    first = played.days_ago(told.days)
    for turn, packed in zip(series.turns.all(), every, strict=True):
        run = archive.unpack(packed, experiment, first + turn.number * told.every)
        Run.objects.filter(pk=run.pk).update(turn=rules.label(turn, series.plan))
        Turn.objects.filter(pk=turn.pk).update(run=run, over=True, ready_after_s=told.ready_s(turn))
    rules.end(series, Series.State.FINISHED, rules.DONE)
    Series.objects.filter(pk=series.pk).update(
        begun_at=first, ended_at=min(timezone.now(), first + (series.turns.count() + 1) * told.every)
    )
    series.refresh_from_db(fields=["state"])
    findings.note(series)
    return series


def _own(told: Turns, experiments: Sequence[Experiment]) -> Experiment:
    return next(one for one in experiments if one.name == told.experiment)


def _series(experiment: Experiment) -> Series:
    """Its turns in an order that is always the same."""
    plan = experiment.current.plan
    series = Series.objects.create(
        experiment=experiment, revision=experiment.current, plan_document=document.to_document(plan), seeded=True
    )
    Turn.objects.bulk_create(rules.turns_of(series, series.candidates, Random("the season")))
    return series
