"""When experiments run by themselves, over HTTP."""

from __future__ import annotations

from datetime import datetime
from typing import cast

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Field, Router, Schema, Status
from pydantic import NaiveDatetime

from stonekettle.server.access.roles import actor_of
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.runs import schedules
from stonekettle.server.runs.models import Schedule

router = Router(tags=["runs"])
SHOWN = 100
SHOWN_STARTS = 5


class ScheduleBody(Schema):
    """A time ``at`` of day and date without a zone, by the clock of ``zone``; ``every`` says how often again."""

    at: NaiveDatetime
    zone: str = Field(max_length=64)
    every: schedules.Every = ""


class StartLine(Schema):
    """What became of a time: its run, or why there is none."""

    due_at: datetime
    run_id: int | None
    told: str


class ScheduleLine(Schema):
    """When an experiment shall run by itself; ``next_at`` is None once it will no more."""

    id: int
    experiment_id: int
    experiment: str
    next_at: datetime | None
    zone: str
    every: schedules.Every
    by: str
    starts: list[StartLine]


@router.get("/experiments/{experiment_id}/schedules", response=list[ScheduleLine])
def list_schedules(request: HttpRequest, experiment_id: int) -> list[ScheduleLine]:
    """When the experiment shall run by itself, and what became of the times that have passed, newest first."""
    experiment = get_object_or_404(Experiment, pk=experiment_id)
    found = experiment.schedules.select_related("experiment", "created_by").order_by("pk")
    return [_schedule_line(schedule) for schedule in found]


@router.get("/schedules", response=list[ScheduleLine])
def list_coming(request: HttpRequest) -> list[ScheduleLine]:
    """What is to run by itself, of all experiments, the next first."""
    coming = Schedule.objects.filter(next_at__isnull=False, experiment__archived_at=None)
    return [
        _schedule_line(one) for one in coming.select_related("experiment", "created_by").order_by("next_at")[:SHOWN]
    ]


@router.post("/experiments/{experiment_id}/schedules", response={201: ScheduleLine})
def add_schedule(request: HttpRequest, experiment_id: int, body: ScheduleBody) -> Status[ScheduleLine]:
    """Let the experiment run at a time."""
    experiment = get_object_or_404(Experiment, pk=experiment_id)
    made = schedules.schedule(actor_of(request), experiment, body.at, body.zone, body.every)
    return Status(201, _schedule_line(made))


@router.delete("/schedules/{schedule_id}", response=ScheduleLine)
def remove_schedule(request: HttpRequest, schedule_id: int) -> ScheduleLine:
    """Take a time off the schedule; what it has done stays told."""
    found = get_object_or_404(Schedule, pk=schedule_id)
    schedules.unschedule(actor_of(request), found)
    return _schedule_line(Schedule.objects.get(pk=schedule_id))


def _schedule_line(schedule: Schedule) -> ScheduleLine:
    by = schedule.created_by
    return ScheduleLine(
        id=schedule.pk,
        experiment_id=schedule.experiment_id,
        experiment=schedule.experiment.name,
        next_at=schedule.next_at,
        zone=schedule.zone,
        every=cast(schedules.Every, schedule.every),
        by=by.get_username() if by else "",
        starts=[
            StartLine(due_at=start.due_at, run_id=start.run_id, told=start.told)
            for start in schedule.starts.all()[:SHOWN_STARTS]
        ],
    )
