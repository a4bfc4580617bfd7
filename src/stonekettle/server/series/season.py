"""The pair of candidates in the demo's season: two releases in turns, played by the practice twin and kept in a file.

:func:`build` plays it anew, :func:`seed` puts it among the other runs.
"""

from __future__ import annotations

import json
import lzma
from collections.abc import Callable, Sequence
from dataclasses import replace
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

EXPERIMENT = "Two planners"
DAYS = 9
TURN = timedelta(seconds=95)
"""From the beginning of a turn to that of the next one."""
READY_S = {"planner 3.3": 2.1, "planner 3.4": 4.2}
DRIFT, DRIFT_EVERY_S = 0.05, 1200.0
"""The machine under it was faster and slower by that share meanwhile."""
CAUSE = "Every candidate had its turn in every block."


def path() -> Path:
    return Path(settings.ROOT) / "examples" / "turns.json.xz"


def build(experiments: Sequence[Experiment], say: Callable[[str], object] = lambda text: None) -> int:
    """Play the turns against the practice twin and write them; the file's size (bytes)."""
    experiment = _own(experiments)
    series = _series(experiment)
    packed = []
    for turn in series.turns.all():
        say(f"Turn {turn.number}: {turn.candidate} …")
        begun = played.days_ago(DAYS) + turn.number * TURN
        plan = rules.plan_of(turn, series.plan)
        run = played.play_as(experiment, plan, _system(turn), begun, seed=700 + turn.number)
        run.refresh_from_db()
        packed.append(archive.pack(run))
    path().write_bytes(lzma.compress(json.dumps(packed, separators=(",", ":")).encode(), preset=9))
    return path().stat().st_size


def seed(experiments: Sequence[Experiment]) -> Series:
    """Put the series among the others, as long ago as it was."""
    experiment = _own(experiments)
    series = _series(experiment)
    told = json.loads(lzma.decompress(path().read_bytes()))
    first = played.days_ago(DAYS)
    for turn, packed in zip(series.turns.all(), told, strict=True):
        run = archive.unpack(packed, experiment, first + turn.number * TURN)
        Run.objects.filter(pk=run.pk).update(turn=rules.label(turn, series.candidates))
        Turn.objects.filter(pk=turn.pk).update(run=run, over=True, ready_after_s=READY_S[turn.candidate])
    rules.end(series, Series.State.FINISHED, CAUSE)
    Series.objects.filter(pk=series.pk).update(
        begun_at=first, ended_at=min(timezone.now(), first + (series.turns.count() + 1) * TURN)
    )
    series.refresh_from_db(fields=["state"])
    findings.note(series)
    return series


def _own(experiments: Sequence[Experiment]) -> Experiment:
    return next(one for one in experiments if one.name == EXPERIMENT)


def _series(experiment: Experiment) -> Series:
    """Its turns in an order that is always the same."""
    plan = experiment.current.plan
    series = Series.objects.create(
        experiment=experiment, revision=experiment.current, plan_document=document.to_document(plan), seeded=True
    )
    Turn.objects.bulk_create(rules.turns_of(series, series.candidates, Random("the season")))
    return series


def _system(turn: Turn) -> PracticeConfig:
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
    since_s = turn.number * TURN.total_seconds()
    return replace(made, routes=routes, drift=DRIFT, drift_every_s=DRIFT_EVERY_S, drift_from_s=since_s)
