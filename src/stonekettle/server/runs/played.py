"""Rehearsals: runs of an experiment played in virtual time against a twin of its system.

They go through the same lead as measured ones and the same writers (orders, seconds, records, samples, findings), and
are marked as simulated wherever they appear.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from datetime import datetime, timedelta

import numpy as np
from django.db import transaction
from django.utils import timezone

from stonekettle.core.analysis import Analysis
from stonekettle.core.run_data import ResourceSeries
from stonekettle.core.types import FloatArray
from stonekettle.engine import orderbook, records, rehearsal
from stonekettle.engine.lifecycle import RunState
from stonekettle.engine.rehearsal import Rehearsed
from stonekettle.engine.rollup import Second, fold, pack_histograms
from stonekettle.engine.script import NO_CELL, cell_numbers
from stonekettle.meters.samples import Catalogue, Source
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.practice.config import PracticeConfig
from stonekettle.practice.simulated import FAILED, REFUSED
from stonekettle.practice.twin import TOO_LATE
from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.acts import Account, act
from stonekettle.server.experiments import rules as experiments
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.feeds.models import FeedFile
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import analysing, data, plays
from stonekettle.server.runs.models import Generator, GeneratorSecond, Run, RunNote, RunOrder, Transition
from stonekettle.server.runs.rules import target_of
from stonekettle.server.runs.twins import TwinSystem, twin_for

GENERATOR = "twin"
CPU = 0.05
"""As busy as a generator of the twin's size would be."""
RUN_QUEUE = 6.0
"""So many others wait for the processors of one that is too busy."""
MOST_STEPS = 2_000_000
"""So many steps are played at most: about as many as a minute takes."""
PLAYS, MOST_STEPS_AGAIN = 3, 60_000
"""So often one is played whose steps are not more than this; one of more tells enough by itself, and takes longer. So
does a search, which is read at each look."""
_METRICS = {
    "cpu": ("cpu_seconds", "counter", "cpu_cores"),
    "disk": ("disk_busy_seconds", "counter", "disk_devices"),
    "memory": ("memory_used_bytes", "gauge", "memory_limit_bytes"),
    "connections": ("pool_connections_in_use", "gauge", "pool_connections_limit"),
}
"""How meters tell a resource: its use, and how much there is of it."""
_WAITING = "pool_connections_waiting"
_ENDS = {0: (0, 200), REFUSED: (1, 503), FAILED: (1, 500), TOO_LATE: (records.ERRORS.index("time limit"), 0)}
"""How a generator would have recorded each end of a request: its kind of error, and its status."""
LEAST_STEP_S = 0.01
"""A step takes at least so long where nobody thinks."""
Tell = Callable[[str, int, int], None]


def _silent(text: str, done: int, total: int) -> None:
    pass


def play(experiment: Experiment, begun: datetime, seed: int) -> Run:
    """A finished rehearsal of the revision in force that began at ``begun``."""
    plan = experiment.current.plan
    return play_as(experiment, plan, twin_for(plan, experiment).config, begun, seed=seed)


def play_as(
    experiment: Experiment,
    plan: Plan,
    config: PracticeConfig,
    begun: datetime,
    *,
    seed: int,
    overdue: float = 0.0,
) -> Run:
    """A finished rehearsal of a plan against the practice system as ``config`` has it, with this share of the users
    waiting for generators that are too busy to look at their answers."""
    system = replace(twin_for(plan, experiment), config=config)
    played = rehearsal.rehearse(plan, system.config, system.journeys, seed=seed)
    return _kept(experiment, plan, system, played, begun, None, overdue)


def rehearse(actor: Actor, experiment: Experiment, tell: Tell = _silent) -> Run:
    """Play the experiment's revision in force now. Raises :class:`Conflict` where it cannot be, and
    :class:`PlanError` where its plan is not sound any more."""
    actor.check(Role.PLANNER)
    if experiment.archived_at is not None:
        raise Conflict(f"{experiment.name} is archived. Bring it back before you rehearse it.")
    plan = document.with_files(experiments.current_plan(experiment), FeedFile.text_of)
    times = PLAYS if check_length(plan) <= MOST_STEPS_AGAIN and plan.search is None else 1
    system = twin_for(plan, experiment)
    before = Run.objects.filter(revision__experiment=experiment, simulated=True).count()
    # Each has its own chance, and can be had again.
    seeds = range(before * PLAYS + 1, before * PLAYS + 1 + times)
    played, found = zip(*_plays(plan, system, seeds, tell), strict=True)
    tell("Reading what it would find", 1, 1)
    return _rehearsed(actor, experiment, plan, system, played[plays.middle(found)], plays.words(found))


def _plays(plan: Plan, system: TwinSystem, seeds: Sequence[int], tell: Tell) -> Iterator[tuple[Rehearsed, Analysis]]:
    """What came of each play, and what is found in it."""
    length = round(plan.planned.duration_s)
    for place, seed in enumerate(seeds):

        def passed(second: float, before: int = place * length) -> None:
            tell("Playing it in virtual time", before + min(length, round(second)), len(seeds) * length)

        passed(0)
        played = rehearsal.rehearse(plan, system.config, system.journeys, seed=seed, tell=passed)
        yield played, plays.read(plan, played)


@act("rehearsed", Role.PLANNER)
def _rehearsed(
    account: Account, experiment: Experiment, plan: Plan, system: TwinSystem, played: Rehearsed, beside: str
) -> Run:
    run = _kept(experiment, plan, system, played, timezone.now(), account.actor, beside=beside)
    account.about("run", run.pk, experiment.name, note=f"against {system.words}")
    return run


def check_length(plan: Plan) -> float:
    """About how many steps are played. Raises :class:`Conflict` where that would take long."""
    steps = 0.0
    for group in plan.people:
        count, think_s = plan.round_of(group)
        if group.arrives:
            steps += group.profile.area * count * (group.journeys_each or 1)
        elif count:
            steps += group.profile.area * count / max(think_s, LEAST_STEP_S * count)
    if steps > MOST_STEPS:
        raise Conflict(
            f"It would take some {steps:.2g} steps to play, and at most {MOST_STEPS:g} are. Rehearse a copy of it with "
            "shorter levels: what limits it is the same."
        )
    return steps


@transaction.atomic
def _kept(
    experiment: Experiment,
    plan: Plan,
    system: TwinSystem,
    played: Rehearsed,
    begun: datetime,
    actor: Actor | None,
    overdue: float = 0.0,
    beside: str = "",
) -> Run:
    """The rehearsal as a run, with its findings; ``beside`` tells of other plays of it."""
    run = Run(
        revision=experiment.current,
        system=experiment.system,
        plan_document=document.to_document(plan),
        simulated=True,
        requested_by=actor.user if actor else None,
        target=target_of(plan),
        begun_at=begun.timestamp(),
        state=played.end.state.value,
        cause=played.end.cause,
        ended_at=begun + timedelta(seconds=played.twin.seconds),
    )
    run.save()
    Run.objects.filter(pk=run.pk).update(queued_at=begun)
    _tell_story(run, begun, system, played, beside)
    _store_seconds(run, plan, played, overdue)
    _store_samples(run, system, played)
    analysing.analyse(run, state=run.state, cause=run.cause)
    return run


def _tell_story(run: Run, begun: datetime, system: TwinSystem, played: Rehearsed, beside: str) -> None:
    moves = [(at_s, move.state, move.cause) for at_s, move in played.moves]
    moves[0] = (0.0, RunState.RUNNING, f"Played in virtual time against {system.words}. {beside}".rstrip())
    for at_s, state, cause in (*moves, (moves[-1][0], played.end.state, played.end.cause)):
        made = Transition.objects.create(run=run, state=state.value, cause=cause)
        Transition.objects.filter(pk=made.pk).update(at=begun + timedelta(seconds=at_s))
    RunOrder.objects.bulk_create(
        RunOrder(run=run, number=give.order.number, order=orderbook.to_plain(give.order), who=give.who, why=give.why)
        for give in played.given
    )
    RunNote.objects.bulk_create(RunNote(run=run, at_s=note.at_s, who=note.who, text=note.text) for note in played.notes)


def _store_seconds(run: Run, plan: Plan, played: Rehearsed, overdue: float) -> None:
    generator = Generator.objects.create(
        run=run, name=GENERATOR, region="", label="rehearsal", state=Generator.State.FINISHED
    )
    twin, cells = played.twin, cell_numbers(plan)
    names = [group.name for group in plan.people]
    seconds = twin.seconds
    numbers = {group.number: names.index(name) for name, group in twin.groups.items()}
    present = np.zeros((seconds, len(names)))
    arrived, turned_away, journeys = (np.zeros_like(present, dtype=np.int64) for _ in range(3))
    for own, number in numbers.items():
        present[:, number] = twin.present([own])
    counted = ((arrived, twin.arrived), (turned_away, twin.turned_away), (journeys, twin.journeys_done))
    for into, moments in counted:
        for at_s, own in moments:
            into[min(int(at_s), seconds - 1), numbers[own]] += 1
    made = _records(played, numbers)
    start_s, end_s = made["start_us"] // 1_000_000, (made["start_us"] + made["total_us"]) // 1_000_000
    of_second = np.minimum(end_s, seconds - 1)
    order = np.argsort(of_second, kind="stable")
    made, of_second, start_s = made[order], of_second[order], start_s[order]
    edges = np.searchsorted(of_second, np.arange(seconds + 1))
    started = _started(made, start_s, cells, seconds)
    in_flight, start_gap_s = twin.in_flight(), twin.start_gaps_s()
    rows = []
    for second in range(seconds):
        ended = made[edges[second] : edges[second + 1]]
        told = Second(
            second=second,
            users=float(present[second].sum()),
            in_flight=float(in_flight[second]),
            overdue=overdue * float(present[second].sum()),
            start_gap_s=float(start_gap_s[second]),
            lag_p99_s=0.0,
            cpu=1.0 if overdue else CPU,
            run_queue=RUN_QUEUE if overdue else 0.0,
            stolen=0.0,
            switches=0.0,
            started=started[second].tolist(),
            present=present[second].tolist(),
            arrived=arrived[second].tolist(),
            turned_away=turned_away[second].tolist(),
            journeys=journeys[second].tolist(),
        )
        folded, histograms = fold(told, ended, cells)
        rows.append(
            GeneratorSecond(
                generator=generator,
                second=second,
                rollup=folded.as_dict(),
                histograms=pack_histograms(histograms),
                records=records.to_chunk(ended),
            )
        )
    GeneratorSecond.objects.bulk_create(rows, batch_size=500)


def _records(played: Rehearsed, numbers: dict[int, int]) -> np.ndarray[tuple[int], np.dtype[np.void]]:
    """Every request as a generator would have recorded it."""
    done = np.array(played.twin.done, dtype=np.float64).reshape(-1, 8)
    start, end, _, step, error, user, visit, group = done.T
    made = np.zeros(len(start), dtype=records.RECORD)
    made["start_us"] = made["scheduled_us"] = start * 1e6
    made["total_us"] = made["first_byte_us"] = (end - start) * 1e6
    made["user"], made["visit"], made["step"] = user, visit, step
    made["group"] = [numbers[int(own)] for own in group]
    ends = np.array([_ENDS[kind] for kind in sorted(_ENDS)])
    made["error"], made["status"] = ends[error.astype(np.int64)].T
    return made


def _started(
    made: np.ndarray[tuple[int], np.dtype[np.void]], start_s: FloatArray, cells: np.ndarray, seconds: int
) -> np.ndarray:
    """Steps begun in each second by cell, shape (seconds, cells)."""
    cell = cells[made["group"], made["step"]]
    found = np.zeros((seconds, int(cells.max()) + 1), dtype=np.int64)
    known = (cell != NO_CELL) & (start_s < seconds)
    np.add.at(found, (start_s[known].astype(np.int64), cell[known]), 1)
    return found


def _store_samples(run: Run, system: TwinSystem, played: Rehearsed) -> None:
    """What meters would have read at the edges of the seconds."""
    twin = played.twin
    resources = twin.system.resources(twin.now, twin.noise, twin.cpu_noise)
    columns = [column for resource in resources for column in _columns(resource, system.prefix)]
    catalogue = Catalogue()
    batches = [
        catalogue.batch(edge, [(source, float(edge), float(values[edge])) for source, values in columns])
        for edge in range(twin.seconds + 1)
    ]
    data.store(run.pk, batches)


def _columns(resource: ResourceSeries, prefix: str) -> Iterator[tuple[Source, FloatArray]]:
    """A resource as its metrics, each with a value at every edge: a counter's sum so far, a gauge's of the second
    before."""
    used, kind, limit = _METRICS[resource.name]

    def source(metric: str, what: str) -> Source:
        instance, name = f"{resource.component}:1", f"{prefix}_{metric}"
        return Source(resource.component, instance, name, (), "counter" if what == "counter" else "gauge")

    busy = resource.utilisation * resource.capacity
    at_edges = np.concatenate([[0.0], np.cumsum(busy) if kind == "counter" else busy])
    yield source(used, kind), at_edges
    yield source(limit, "gauge"), np.concatenate([resource.capacity[:1], resource.capacity])
    if resource.waiting is not None:
        yield source(_WAITING, "gauge"), np.concatenate([[0.0], resource.waiting])


def days_ago(days: float) -> datetime:
    return timezone.now() - timedelta(days=days)
