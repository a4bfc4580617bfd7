"""What the workers do."""

from __future__ import annotations

import logging
from contextlib import ExitStack, nullcontext

from django.conf import settings
from django.utils import timezone
from procrastinate.contrib.django import app

from stonekettle.engine.conductor import conduct
from stonekettle.engine.lifecycle import ENDED, RunState
from stonekettle.engine.local import practice_directory
from stonekettle.engine.signals import End
from stonekettle.engine.stopping import Asked
from stonekettle.plan import document
from stonekettle.server.changes.timeline import Timeline
from stonekettle.server.feeds.models import FeedFile
from stonekettle.server.problems import fault
from stonekettle.server.runs import analysing, data, exports, repeating, retention, rules, schedules, search
from stonekettle.server.runs.conducting import DatabaseControl, Line, Looking
from stonekettle.server.runs.generating import Courier
from stonekettle.server.runs.keeping import DatabaseAway, patiently
from stonekettle.server.runs.living import Watching
from stonekettle.server.runs.merging import Merging, merge
from stonekettle.server.runs.models import Generator, Run
from stonekettle.server.runs.noticing import Noticing
from stonekettle.server.systems import pushes
from stonekettle.server.targets import rules as targets
from stonekettle.server.targets.guarding import Guarding

log = logging.getLogger(__name__)


@app.task(queue="conductor")
def conduct_run(run_id: int) -> None:
    """Lead a run from preparing to its end."""
    run = patiently(lambda: Run.objects.get(pk=run_id))
    if run.run_state != RunState.QUEUED:
        return  # stopped while it waited
    with Line(run_id, Asked.by(run.plan)) as line:
        try:
            looking = Looking(run_id, line) if run.plan.search is not None else nullcontext()
            beside = Merging(run_id), Guarding(run_id), Watching(run_id), Noticing(run_id), Timeline(run_id)
            with ExitStack() as stack:
                for one in (*beside, looking):
                    stack.enter_context(one)
                ending = conduct(
                    document.with_files(run.plan, FeedFile.text_of),
                    DatabaseControl(line),
                    lambda: practice_directory(settings.PRACTICE_CONTROL),
                    wait_s=(run.begins_at - timezone.now()).total_seconds() if run.begins_at else 0.0,
                )
            line.flush()
        except DatabaseAway as error:
            ending = End(RunState.FAILED, str(error), True)
        except Exception as error:
            ending = End(RunState.FAILED, fault(f"run {run_id}", error)["detail"], True)
        patiently(lambda: _end(run_id, ending))


@app.task(queue="region-local")
def generate(generator_id: int) -> None:
    """Own one generator process of a run, from now to its end: also where the run is under way already."""
    generator = patiently(lambda: Generator.objects.select_related("run").get(pk=generator_id))
    if generator.state != Generator.State.STARTING or generator.run.run_state in ENDED:
        return  # found too late
    courier = Courier(generator)
    courier.carry()
    if courier.saved_late:
        analyse_anew.defer(run_id=generator.run_id)


@app.task(queue="conductor")
def analyse_anew(run_id: int) -> None:
    """Seconds came in after the run had ended: its findings are made from all there are."""
    run = patiently(lambda: Run.objects.get(pk=run_id))
    if run.run_state in ENDED:
        merge(run_id)
        analysing.analyse(run, state=run.state, cause=run.cause)


@app.periodic(cron="* * * * * */10")
@app.task(queue="conductor", queueing_lock="fail_abandoned")
def fail_abandoned(timestamp: int) -> None:
    """Runs whose worker was killed end as failed, with the findings of what was recorded."""
    for run in rules.abandoned():
        merge(run.pk)
        at = data.seconds_stored(run)
        lost = "The worker that led the run was lost"
        if run.stop_requested_by == rules.OURSELVES:
            lost = "Stone Kettle was stopped while it ran, and it did not end in time"
        cause = f"{lost}; data reach to second {at}."
        log.warning("run %s: %s", run.pk, cause)
        _end(run.pk, End(RunState.FAILED, cause, at > 0))


@app.periodic(cron="* * * * * */5")
@app.task(queue="conductor", queueing_lock="keep_schedules")
def keep_schedules(timestamp: int) -> None:
    """Runs that are due begin to get ready."""
    schedules.keep()


@app.periodic(cron="11 * * * *")
@app.task(queue="conductor", queueing_lock="make_room")
def make_room(timestamp: int) -> None:
    """What systems keep no longer goes, and runs deleted over a day ago are gone for good, with what was made of them
    on disk. Each hour, since a laptop sleeps at night."""
    retention.sweep()
    for run in Run.objects.filter(deleted_at__lt=timezone.now() - rules.UNDO_FOR):
        search.forget(run)
        exports.forget(run)
        run.delete()


@app.periodic(cron="3 * * * *")
@app.task(queue="desk", queueing_lock="prove_again")
def prove_again(timestamp: int) -> None:
    """Targets are proven once more each day, and each hour those whose day has passed without."""
    targets.confirm_all()


@app.periodic(cron="41 * * * *")
@app.task(queue="desk", queueing_lock="forget_old_exports")
def forget_old_exports(timestamp: int) -> None:
    exports.forget_old()


@app.periodic(cron="17 * * * *")
@app.task(queue="conductor", queueing_lock="forget_old_pushes")
def forget_old_pushes(timestamp: int) -> None:
    """Pushed metrics are kept for two weeks; those of a run are read from them again and again."""
    pushes.forget_old()


def _end(run_id: int, ending: End) -> None:
    """Analyse what there is, then give the run its last state."""
    run = Run.objects.get(pk=run_id)
    if run.run_state in ENDED:
        return  # by another meanwhile, who thought its conductor lost or found it alive
    merge(run_id)
    if ending.has_data and data.seconds_stored(run):
        analysing.analyse(run, state=ending.state, cause=ending.cause)
    rules.move(run_id, ending.state, ending.cause)
    repeating.follow(run_id)
