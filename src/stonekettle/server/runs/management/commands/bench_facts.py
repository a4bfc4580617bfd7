"""What is read from facts alone: two runs of an hour with 50 steps compared, and the history of 200 runs opened.

Works in a throw-away database: ``./kettle bench facts`` gives it one.
"""

from __future__ import annotations

import statistics
import time
from datetime import timedelta
from pathlib import Path
from typing import Any

import yaml
from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandParser
from django.test import Client
from django.utils import timezone

from stonekettle.core import analysis, facts
from stonekettle.core.distribution import Law
from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.core.orders import as_planned
from stonekettle.meters.samples import Readings
from stonekettle.practice.config import Component, PracticeConfig, Route, Visit
from stonekettle.practice.twin import TwinJourney, TwinStep, simulate
from stonekettle.report import result
from stonekettle.server.access import people
from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.experiments import rules
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.figures import figure, tell
from stonekettle.server.runs import facts as kept
from stonekettle.server.runs.models import Run

JOURNEYS, STEPS = 10, 5
LEVELS, LEVEL_S = 60, 60
RUNS, SHORT_LEVELS = 200, 8
WITHIN_S = 1.0
ROUNDS = 5


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--json", type=Path)
        parser.add_argument("--quick", action="store_true", help="a tenth of the hour and of the runs")

    def handle(self, *args: Any, **options: Any) -> None:
        call_command("migrate", verbosity=0)
        part = 10 if options["quick"] else 1
        user = people.create("bench", None, Role.PLANNER)
        client = Client(SERVER_NAME="localhost")
        client.force_login(user)
        self.stdout.write("Playing two runs of an hour …")
        hour = _experiment(Actor.of(user), "Hour", LEVELS // part)
        first, second = (_played(hour, seed, LEVELS // part) for seed in (1, 2))
        counted = first.facts.count()
        self.stdout.write(f"{counted} facts each. Making {RUNS // part} short runs …")
        short = _experiment(Actor.of(user), "Short", SHORT_LEVELS)
        one = _played(short, 3, SHORT_LEVELS)
        told = kept.of(one)
        for number in range(1, RUNS // part):
            run = _run(short, one.result)
            kept.keep(run, told)
            Run.objects.filter(pk=run.pk).update(queued_at=timezone.now() - timedelta(days=number))
        looking = _timed(client, "/api/me")
        comparing = _timed(client, f"/api/runs/{second.pk}/against/{first.pk}")
        opening = _timed(client, f"/api/experiments/{short.pk}/history")
        figures = [
            figure("an answer that says next to nothing", f"{looking * 1000:.1f} ms"),
            figure(
                f"comparing two runs of {LEVELS // part} levels and {JOURNEYS * STEPS} steps",
                f"{comparing:.2f} s",
                f"under {WITHIN_S:g} s",
                comparing < WITHIN_S,
            ),
            figure(
                f"the history of {RUNS // part} runs of {JOURNEYS * STEPS} steps",
                f"{opening:.2f} s",
                f"under {WITHIN_S:g} s",
                opening < WITHIN_S,
            ),
            figure("the two beside that answer", f"{comparing / looking:.0f}, {opening / looking:.0f}"),
        ]
        tell(self.stdout, figures, options["json"])


def _experiment(actor: Actor, name: str, levels: int) -> Experiment:
    journeys = [
        {
            "name": f"journey {j}",
            "steps": [{"name": f"GET /{j}/{s}", "request": f"GET /{j}/{s}", "think": "2 s"} for s in range(STEPS)],
        }
        for j in range(JOURNEYS)
    ]
    plan = {
        "name": name,
        "system": {"name": name, "base_url": "http://127.0.0.1:9", "components": [{"name": "front"}, {"name": "back"}]},
        "journeys": journeys,
        "load": [{"climb": {"from": 10, "to": 10 + 2 * (levels - 1), "by": 2, "every": f"{LEVEL_S} s"}}],
        "objectives": [{"step": "GET /0/0", "p95": "1 s"}],
    }
    return rules.create(actor, yaml.safe_dump(plan))


def _played(experiment: Experiment, seed: int, levels: int) -> Run:
    """A run of a twin of 50 routes, with its findings and facts."""
    names = [[f"GET /{j}/{s}" for s in range(STEPS)] for j in range(JOURNEYS)]
    routes = tuple(
        Route("GET", name.removeprefix("GET "), (Visit("front", 2), Visit("back", 20))) for own in names for name in own
    )
    config = PracticeConfig((Component("front"), Component("back")), routes)
    think = Law("exponential", 2.0)
    journeys = [
        TwinJourney(f"journey {j}", 1.0, tuple(TwinStep(name, think) for name in own)) for j, own in enumerate(names)
    ]
    profile = LoadProfile((Segment.climb(10, 10 + 2 * (levels - 1), 2, LEVEL_S),))
    measured = simulate(config, journeys, profile, seed=seed)
    found = analysis.analyse(measured, as_planned(profile), (), 0.05)
    plan = experiment.current.plan
    told = result.build(plan, measured, found, Readings(), state="finished", cause="", trial_requests=0)
    run = _run(experiment, told.model_dump(mode="json"))
    kept.keep(run, facts.gather(measured, found))
    return run


def _run(experiment: Experiment, told: Any) -> Run:
    revision = experiment.current
    return Run.objects.create(
        revision=revision, plan_document=revision.document, state="finished", begun_at=1.0, result=told
    )


def _timed(client: Client, path: str) -> float:
    """The median time of an answer (s)."""
    taken = []
    for _ in range(ROUNDS):
        began = time.perf_counter()
        answer = client.get(path)
        taken.append(time.perf_counter() - began)
        assert answer.status_code == 200, answer.content
    return statistics.median(taken)
