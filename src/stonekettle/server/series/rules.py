"""What may happen to a series of turns."""

from __future__ import annotations

import random
from collections.abc import Iterator

from django.utils import timezone

from stonekettle.engine.lifecycle import ENDED
from stonekettle.plan import document
from stonekettle.plan.candidates import Candidates
from stonekettle.plan.models import Plan
from stonekettle.plan.secrecy import hidden
from stonekettle.server.access import halting
from stonekettle.server.access.roles import Role
from stonekettle.server.acts import Account, act
from stonekettle.server.experiments import rules as experiments
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import rules as runs
from stonekettle.server.series.models import Series, Turn
from stonekettle.server.systems import runners
from stonekettle.server.targets import allowances

DONE = "Everything had its turn, as often as was planned."


@act("started candidates of", Role.PLANNER)
def start(account: Account, experiment: Experiment) -> Series:
    """Let the candidates of the revision in force take turns, block by block, in an order drawn at random in each."""
    halting.check()
    if experiment.archived_at is not None:
        raise Conflict(f"{experiment.name} is archived. Bring it back before you run it.")
    plan = experiments.current_plan(experiment)
    candidates = plan.turns
    if candidates is None:
        mend = "Describe candidates, or what is scaled; or start a run of it."
        raise Conflict(f"Nothing takes turns in {experiment.name}. {mend}")
    runners.check(account.actor, plan.addresses)
    allowances.check_start(plan)
    standing = Series.objects.filter(state=Series.State.GOING, experiment=experiment).first()
    if standing is not None:
        raise Conflict(f"The candidates of {experiment.name} are taking turns already. Wait for the end, or stop them.")
    runs.check_free(plan)
    series = Series.objects.create(
        experiment=experiment,
        revision=experiment.current,
        plan_document=document.to_document(plan),
        requested_by=account.actor.user,
    )
    Turn.objects.bulk_create(turns_of(series, candidates, random.SystemRandom()))
    account.about("experiment", experiment.pk, experiment.name, note=f"{candidates.turns} turns")
    return series


def turns_of(series: Series, candidates: Candidates, chance: random.Random) -> Iterator[Turn]:
    """All of them in order: each block whole, in an order of its own."""
    for number, (block, candidate, value) in enumerate(candidates.order(chance), start=1):
        named = value.name if value is not None else ""
        yield Turn(series=series, number=number, block=block, candidate=candidate.name, value=named)


@act("stopped candidates of", Role.PLANNER)
def stop(account: Account, series: Series) -> None:
    """No further turn begins; the one under way ends gracefully."""
    if series.state != Series.State.GOING:
        raise Conflict(f"The candidates of {series.experiment.name} take no turns any more ({series.state}).")
    account.about("experiment", series.experiment_id, series.experiment.name)
    Series.objects.filter(pk=series.pk, stop_requested_by="").update(stop_requested_by=account.actor.name)
    turn = series.current
    if turn is not None and turn.run is not None and turn.run.run_state not in ENDED:
        runs.request_stop(account.actor, turn.run, "its series was stopped")


def end(series: Series, state: Series.State, cause: str) -> None:
    """No further turns."""
    Series.objects.filter(pk=series.pk).update(
        state=state, cause=hidden(cause), ended_at=timezone.now(), busy=False, waits_since=None
    )


def label(turn: Turn, plan: Plan) -> str:
    """What the turn's run is called beside its experiment."""
    assert plan.turns is not None  # a series' plan
    return f"{turn.words}, {'block' if plan.scaling is None else 'round'} {turn.block} of {plan.turns.blocks}"


def plan_of(turn: Turn, plan: Plan) -> Plan:
    """What the turn's run is led by."""
    assert plan.turns is not None  # a series' plan
    return plan.turn(*turn.parts(plan.turns))
