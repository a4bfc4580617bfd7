"""Runs that begin at a time: once, or again and again by the clock of a place.

A run is started a little ahead, so that generators, meters and trials are ready when its load shall begin. Whatever
keeps it from starting is told where it was asked for; a time at which nothing was running here is told as missed, and
never made up for.
"""

from __future__ import annotations

import logging
from datetime import datetime, timedelta
from typing import Literal
from zoneinfo import ZoneInfo, available_timezones

from django.db import transaction
from django.utils import timezone

from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.acts import Account, act
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.problems import Conflict, expected, fault
from stonekettle.server.runs import rules
from stonekettle.server.runs.models import Schedule, ScheduledStart

log = logging.getLogger(__name__)
AHEAD = timedelta(seconds=60)
"""So long before its load a run is started, to get ready."""
GRACE = timedelta(minutes=2)
"""A start that is later is none."""
FURTHEST = timedelta(days=366)
MOST_SCHEDULES = 20
"""For one experiment."""
FRIDAY = 4
Every = Literal["", "day", "weekday", "week"]
WORDS: dict[str, str] = {"": "once", "day": "each day", "weekday": "each weekday", "week": "each week"}


@act("scheduled", Role.PLANNER)
def schedule(account: Account, experiment: Experiment, at: datetime, zone: str, every: Every) -> Schedule:
    """Let the experiment run at ``at``, a time of day without a zone, by the clock of ``zone``."""
    if zone not in available_timezones():
        raise Conflict(f"{zone!r} is no time zone known here. Give one such as 'Europe/Lisbon' or 'UTC'.")
    begins = _moment(at, zone)
    now = timezone.now()
    if not now < begins <= now + FURTHEST:
        raise Conflict(f"{at:%Y-%m-%d %H:%M} in {zone} is not within the coming year. Give a later time.")
    if experiment.archived_at is not None:
        raise Conflict(f"{experiment.name} is archived. Bring it back before you schedule it.")
    if experiment.schedules.filter(next_at__isnull=False).count() >= MOST_SCHEDULES:
        raise Conflict(f"{experiment.name} has {MOST_SCHEDULES} schedules, which is as many as may be. Take one off.")
    account.about("experiment", experiment.pk, experiment.name, note=f"{at:%Y-%m-%d %H:%M} {zone}, {WORDS[every]}")
    return Schedule.objects.create(
        experiment=experiment, created_by=account.actor.user, first_at=begins, next_at=begins, zone=zone, every=every
    )


@act("took off the schedule", Role.PLANNER)
def unschedule(account: Account, schedule: Schedule) -> None:
    """It begins no more runs; what it has done stays told."""
    if schedule.next_at is not None:
        experiment = schedule.experiment
        account.about("experiment", experiment.pk, experiment.name, note=f"{schedule.next_at:%Y-%m-%d %H:%M} UTC")
    Schedule.objects.filter(pk=schedule.pk).update(next_at=None)


def keep() -> None:
    """Start what is due, and tell what was missed. Called every few seconds."""
    for pk in Schedule.objects.filter(next_at__lte=timezone.now() + AHEAD).values_list("pk", flat=True):
        try:
            _keep(pk)
        except Exception as error:
            fault(f"schedule {pk}", error)


def _keep(pk: int) -> None:
    with transaction.atomic():
        found = Schedule.objects.select_for_update().get(pk=pk)
        due, now = found.next_at, timezone.now()
        if due is None or due > now + AHEAD:
            return
        found.next_at = _after(found, due, now)
        found.save(update_fields=["next_at"])
        start = ScheduledStart.objects.create(schedule=found, due_at=due)
    if now > due + GRACE:
        start.told = "Missed: Stone Kettle did not run at that time."
    else:
        try:
            start.run = rules.start(Actor.of(found.created_by), found.experiment, begins_at=due)
        except Exception as error:
            known = expected(error)
            start.told = f"Could not start: {(known or fault(f'schedule {pk}', error))['detail']}"
    log.info("schedule %s, due %s: %s", pk, due, start.told or f"run {start.run_id}")
    start.save(update_fields=["run", "told"])


def _after(schedule: Schedule, due: datetime, now: datetime) -> datetime | None:
    """When it is due next, by the clock of its place; None where it was for once."""
    if not schedule.every:
        return None
    first, local = (t.astimezone(ZoneInfo(schedule.zone)).replace(tzinfo=None) for t in (schedule.first_at, due))
    # The clock of the first time: a day on which it does not exist moves that day's start alone.
    local = datetime.combine(local.date(), first.time())
    found = due
    while found <= max(due, now - GRACE):
        local += timedelta(days=7 if schedule.every == "week" else 1)
        if schedule.every == "weekday" and local.weekday() > FRIDAY:
            continue
        found = _moment(local, schedule.zone)
    return found


def _moment(at: datetime, zone: str) -> datetime:
    """A clock time of a place; one that its clocks leave out is the same time after they were put forward."""
    return at.replace(tzinfo=ZoneInfo(zone)).astimezone(ZoneInfo("UTC"))
