"""The season of the demo: runs of ten months, played by the practice twin and kept in a file, so that whoever opens the
product for the first time has a story to read.

In it a release makes the trip search slower and the next one mends it, the ledger gets a bigger instance type, a backup
disturbs a week, one run is stopped by its rule, and one was blurred by its generators. :func:`build` plays it anew.
"""

from __future__ import annotations

import json
import lzma
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import timedelta
from pathlib import Path
from typing import Any

from django.conf import settings
from django.utils import timezone

from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.practice import config
from stonekettle.practice.config import PracticeConfig
from stonekettle.server.access.roles import Actor
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.runs import archive, baselines, played
from stonekettle.server.runs.models import Baseline, Run

WEEKLY, FESTIVAL = "Weekly check", "Harbour festival"
SLOWER = 1.15
"""So many times as much work is a trip search with the release that made it slower."""
BIGGER_CPUS = 6
BIGGER = {"name": "harbour-6d", "vcpus": BIGGER_CPUS, "memory": "8 GB", "price_per_hour": 0.29}


BACKUP = "the ledger's backup ran through it"


@dataclass(frozen=True)
class Chapter:
    """A run, ``days`` ago: with which release of `planner`, what else was so, and what people noted of it."""

    days: int
    experiment: str = WEEKLY
    planner: str = "3.1"
    bigger: bool = False
    backup: bool = False
    stop_when: Sequence[Mapping[str, Any]] = ()
    overdue: float = 0.0
    remark: str = ""
    left_out: str = ""
    baseline: bool = False


_SLOW: dict[str, Any] = {"planner": "3.2"}
_MENDED: dict[str, Any] = {"planner": "3.3"}
_BIG: dict[str, Any] = {"planner": "3.3", "bigger": True}
CHAPTERS = (
    Chapter(301, remark="The first check of the season.", baseline=True),
    Chapter(296, FESTIVAL, remark="Where the season begins.", baseline=True),
    Chapter(284),
    Chapter(268),
    Chapter(251),
    Chapter(246, FESTIVAL),
    Chapter(234),
    Chapter(217),
    Chapter(200),
    Chapter(183, **_SLOW, remark="planner 3.2 is out, with the new timetable format."),
    Chapter(178, FESTIVAL, **_SLOW),
    Chapter(167, **_SLOW),
    Chapter(150, **_SLOW),
    Chapter(
        146,
        FESTIVAL,
        **_SLOW,
        stop_when=[{"step": "Buy ticket", "response": "800 ms", "for": "15 s"}],
        remark="With a stop rule, as the ticket office was at work.",
    ),
    Chapter(133, **_SLOW),
    Chapter(117, **_SLOW, backup=True, remark="A night of backups.", left_out=BACKUP),
    Chapter(115, **_SLOW, backup=True, remark="Again; it runs at night from now on.", left_out=BACKUP),
    Chapter(99, **_MENDED, remark="planner 3.3: the timetable is parsed once, not at each search.", baseline=True),
    Chapter(
        95,
        FESTIVAL,
        **_MENDED,
        overdue=0.25,
        remark="The generators shared their machine with a build.",
        left_out="its generators were short of processor time",
    ),
    Chapter(82, **_MENDED),
    Chapter(68, **_BIG, remark="ledger runs on harbour-6d now."),
    Chapter(63, FESTIVAL, **_BIG),
    Chapter(52, **_BIG),
    Chapter(37, **_BIG),
    Chapter(31, FESTIVAL, **_BIG),
    Chapter(22, **_BIG),
)


def path() -> Path:
    return Path(settings.ROOT) / "examples" / "season.json.xz"


def build(experiments: Sequence[Experiment], say: Callable[[str], object] = lambda text: None) -> int:
    """Play the season against the practice twin and write it; the file's size (bytes)."""
    by_name = {one.name: one for one in experiments}
    packed = []
    for number, chapter in enumerate(CHAPTERS, start=1):
        say(f"{number} of {len(CHAPTERS)}: {chapter.experiment}, {chapter.days} days ago …")
        experiment = by_name[chapter.experiment]
        run = played.play_as(
            experiment,
            _plan(experiment.current.plan, chapter),
            _system(chapter),
            played.days_ago(chapter.days),
            seed=500 + number,
            overdue=chapter.overdue,
        )
        run.refresh_from_db()
        packed.append(archive.pack(run))
    path().write_bytes(lzma.compress(json.dumps(packed, separators=(",", ":")).encode(), preset=9))
    return path().stat().st_size


def seed(actor: Actor, experiments: Sequence[Experiment]) -> int:
    """Put the season's runs among the others, as long ago as they were, each compared with the baseline of its time;
    how many there are."""
    by_name = {one.name: one for one in experiments}
    told = json.loads(lzma.decompress(path().read_bytes()))
    now = timezone.now()
    for chapter, packed in zip(CHAPTERS, told, strict=True):
        begun = now - timedelta(days=chapter.days)
        run = archive.unpack(packed, by_name[chapter.experiment], begun)
        run.remark, run.left_out = chapter.remark, chapter.left_out
        run.save(update_fields=["remark", "left_out"])
        baselines.judge(run)
        if chapter.baseline:
            _take(actor, run, begun)
    return len(told)


def _take(actor: Actor, run: Run, begun: Any) -> None:
    made = baselines.take(actor, run)
    Baseline.objects.filter(pk=made.pk).update(since=begun)
    Baseline.objects.filter(experiment=made.experiment, until__gt=begun).update(until=begun)


def _plan(plan: Plan, chapter: Chapter) -> Plan:
    """The plan with the system as it was described then."""
    told = document.to_document(plan)
    for component in told["system"]["components"]:
        if component["name"] == "planner":
            component["version"] = chapter.planner
        if component["name"] == "ledger" and chapter.bigger:
            component["instance_type"] = BIGGER
    if chapter.stop_when:
        told["stop_when"] = list(chapter.stop_when)
    return document.from_document(told)


def _system(chapter: Chapter) -> PracticeConfig:
    """The practice system as it was then."""
    made = config.quillport()
    if chapter.planner == "3.2":
        made = replace(made, routes=tuple(_slower(route) for route in made.routes))
    if chapter.bigger:
        made = made.with_component("ledger", cpus=BIGGER_CPUS)
    if chapter.backup:
        made = made.with_component("ledger", job_every_s=20.0, job_s=6.0, job_cpus=1)
    return made


def _slower(route: config.Route) -> config.Route:
    visits = tuple(replace(v, cpu_ms=v.cpu_ms * SLOWER) if v.component == "planner" else v for v in route.visits)
    return replace(route, visits=visits)
