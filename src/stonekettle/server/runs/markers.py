"""Markers: what people and other programs say happened at a moment of a run."""

from __future__ import annotations

import time
from datetime import datetime

from ninja import Schema

from stonekettle.engine.lifecycle import RunState
from stonekettle.server.access.roles import Role
from stonekettle.server.acts import Account, act
from stonekettle.server.problems import Conflict
from stonekettle.server.runs.models import Run, RunMarker
from stonekettle.server.systems.models import System

MOST = 500
UNDER_LOAD = (RunState.RUNNING.value, RunState.DRAINING.value)


class MarkerLine(Schema):
    """Something that somebody says happened, ``at_s`` seconds after the start of the load."""

    id: int
    run_id: int
    at_s: float
    who: str
    text: str
    at: datetime


def lines_of(run: Run) -> list[MarkerLine]:
    return [line_of(marker) for marker in run.markers.all()]


def line_of(marker: RunMarker) -> MarkerLine:
    return MarkerLine.model_validate(
        {name: getattr(marker, name) for name in ("id", "run_id", "at_s", "who", "text", "at")}
    )


@act("marked", Role.PLANNER)
def put(account: Account, run: Run, text: str, at_s: float | None = None) -> RunMarker:
    """Say that something happened in a run: at a moment of it, or now. Raises :class:`Conflict` where that was not in
    it, or there are too many."""
    text, at_s = _checked(run, text, at_s)
    if run.markers.count() >= MOST:
        raise Conflict(f"Run {run.pk} has {MOST} markers, which is as many as it can have. Take some away first.")
    account.about("run", run.pk, run.revision.experiment.name, note=f"{text} at {at_s:.0f} s")
    return _put(account, run, text, at_s)


def _put(account: Account, run: Run, text: str, at_s: float) -> RunMarker:
    Run.objects.goes_on(run.pk)
    return RunMarker.objects.create(run=run, at_s=at_s, text=text, who=account.actor.name)


@act("changed a marker", Role.PLANNER)
def change(account: Account, marker: RunMarker, text: str, at_s: float | None = None) -> RunMarker:
    """Say it in other words, or of another moment."""
    before = {"text": marker.text, "at_s": marker.at_s}
    marker.text, marker.at_s = _checked(marker.run, text, marker.at_s if at_s is None else at_s)
    marker.save(update_fields=["text", "at_s"])
    Run.objects.goes_on(marker.run_id)
    account.about("run", marker.run_id, marker.run.revision.experiment.name, note=marker.text)
    account.changed(before, {"text": marker.text, "at_s": marker.at_s})
    return marker


@act("took away a marker", Role.PLANNER)
def take_away(account: Account, marker: RunMarker) -> None:
    account.about("run", marker.run_id, marker.run.revision.experiment.name, note=marker.text)
    Run.objects.goes_on(marker.run_id)
    marker.delete()


@act("marked", Role.PLANNER)
def put_on_system(account: Account, system: System, text: str, at: float | None = None) -> list[RunMarker]:
    """Say that something happened to a system: in every run that loads it at the time (seconds since the epoch), or
    now. None where none does."""
    moment = time.time() if at is None else at
    found = []
    for run in Run.objects.there().filter(system=system, begun_at__lte=moment, simulated=False).order_by("-pk")[:50]:
        if run.state in UNDER_LOAD or (run.ended_at is not None and moment <= run.ended_at.timestamp()):
            text, at_s = _checked(run, text, moment - (run.begun_at or 0.0))
            if run.markers.count() < MOST:
                found.append(_put(account, run, text, at_s))
    told = f"in {', '.join(f'run {marker.run_id}' for marker in found)}" if found else "no run was under way"
    account.about("system", system.pk, system.name, note=f"{text}; {told}")
    return found


def _checked(run: Run, text: str, at_s: float | None) -> tuple[str, float]:
    text = " ".join(text.split())
    if not text:
        raise Conflict("A marker needs some words: what happened?")
    if run.begun_at is None:
        raise Conflict(f"Run {run.pk} makes no load yet ({run.state}): there is no moment of it to mark.")
    if at_s is None:
        if run.state not in UNDER_LOAD:
            raise Conflict(f"Run {run.pk} is over. Say at which second of it this happened.")
        at_s = time.time() - run.begun_at
    until = (run.ended_at.timestamp() if run.ended_at else time.time()) - run.begun_at
    if run.simulated:
        until = run.ordered.duration_s
    if not 0 <= at_s <= until + 1:
        raise Conflict(f"Run {run.pk} lasted from 0 to {until:.0f} s, and {at_s:.0f} s is not in it.")
    return text, round(at_s, 3)
