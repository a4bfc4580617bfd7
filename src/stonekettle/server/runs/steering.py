"""Steering a run: what is asked of its load, and what would come of it."""

from __future__ import annotations

import time
from typing import Any

from stonekettle.engine.foreseeing import Foreseen, foresee
from stonekettle.engine.lead import AHEAD_S
from stonekettle.engine.lifecycle import RunState
from stonekettle.engine.signals import Verb, Wish
from stonekettle.plan.parts import PRACTICE
from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.acts import Account, act
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import rules
from stonekettle.server.runs.models import Run, RunWish
from stonekettle.server.systems import runners

HEARD_S = 0.3
"""A wish is on its way to the lead for about so long."""
AT_ONCE = frozenset({Verb.STOP, Verb.CUT_OFF, Verb.LET_GO, Verb.PAUSE})
"""What takes load away is done whatever others did meanwhile."""


def wish(actor: Actor, run: Run, verb: Verb, **asked: Any) -> RunWish:
    """Ask something of a run's load; its lead answers within a second."""
    if verb is Verb.STOP:
        return rules.request_stop(actor, run, asked.get("why", ""))
    return steer(actor, run, verb, **asked)


@act("steered", Role.PLANNER)
def steer(
    account: Account,
    run: Run,
    verb: Verb,
    *,
    why: str = "",
    group: str = "",
    region: str = "",
    amount: float | None = None,
    over_s: float = 0,
    seen: int | None = None,
) -> RunWish:
    """Ask something of the load of a run that makes some. ``seen`` is the last wish that whoever asks knew of: where
    others have steered since, what was looked at is not what would come of it."""
    where = f"{PRACTICE}://gateway" if run.target == PRACTICE else run.target
    runners.check(account.actor, [("target", where)])
    ending = verb is Verb.CUT_OFF and run.run_state == RunState.DRAINING
    if run.run_state != RunState.RUNNING and not ending:
        raise Conflict(f"Run {run.pk} makes no load now ({run.state}).")
    if (amount is None) == verb.amounts:
        raise Conflict("Give an amount to raise or lower to, and none for anything else.")
    since = RunWish.objects.filter(run=run, pk__gt=seen).exclude(accepted=False).last() if seen is not None else None
    if since is not None and verb not in AT_ONCE:
        raise Conflict(
            f"{since.who} steered meanwhile: {since.told}. Look at what would come of yours now, then ask again."
        )
    if verb is Verb.CUT_OFF:
        Run.objects.filter(pk=run.pk, stop_requested_by="").update(stop_requested_by=account.actor.name)
    asked = RunWish(
        run=run,
        verb=verb.value,
        who=account.actor.name,
        why=why,
        group=group,
        region=region,
        amount=amount,
        over_s=over_s,
    )
    account.about("run", run.pk, run.revision.experiment.name, note=f"{asked.told}. {why}".strip())
    asked.save()
    return asked


def as_heard(asked: RunWish) -> Wish:
    """A wish as the lead hears it."""
    return Wish(
        Verb(asked.verb),
        asked.who,
        asked.why,
        asked.group or None,
        asked.amount,
        asked.over_s,
        asked.region or None,
        key=asked.pk or 0,
    )


def foreseen(run: Run, asked: RunWish | None = None) -> Foreseen | None:
    """The load a run under way will make from here on, if the wish is met; None where it makes none yet."""
    if run.course is None or run.begun_at is None:
        return None
    at_s = time.time() - run.begun_at + AHEAD_S + HEARD_S
    return foresee(run.plan, run.ordered, run.course, at_s, None if asked is None else as_heard(asked))
