"""Markers over HTTP, for people and for programs that know what happened, as those that deploy."""

from __future__ import annotations

from datetime import datetime

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Field, Router, Schema, Status

from stonekettle.server.access.roles import actor_of
from stonekettle.server.runs import markers
from stonekettle.server.runs.models import Run, RunMarker
from stonekettle.server.systems.models import System

router = Router(tags=["runs"])
LONGEST = 300


class MarkerIn(Schema):
    """What happened, and at which second of the run's load; without one it is now, of a run under way."""

    text: str = Field(max_length=LONGEST)
    at_s: float | None = Field(None, ge=0, allow_inf_nan=False)


class HappenedIn(Schema):
    """What happened to a system, and when; without a time it is now."""

    text: str = Field(max_length=LONGEST)
    at: datetime | None = None


@router.post("/runs/{run_id}/markers", response={201: markers.MarkerLine})
def put_marker(request: HttpRequest, run_id: int, body: MarkerIn) -> Status[markers.MarkerLine]:
    """Say that something happened in a run, while it is under way or later."""
    run = get_object_or_404(Run, pk=run_id)
    return Status(201, markers.line_of(markers.put(actor_of(request), run, body.text, body.at_s)))


@router.put("/runs/{run_id}/markers/{marker_id}", response=markers.MarkerLine)
def change_marker(request: HttpRequest, run_id: int, marker_id: int, body: MarkerIn) -> markers.MarkerLine:
    """Say it in other words, or of another moment."""
    marker = get_object_or_404(RunMarker, pk=marker_id, run_id=run_id)
    return markers.line_of(markers.change(actor_of(request), marker, body.text, body.at_s))


@router.delete("/runs/{run_id}/markers/{marker_id}", response={204: None})
def take_marker_away(request: HttpRequest, run_id: int, marker_id: int) -> Status[None]:
    """Take a marker out of a run."""
    markers.take_away(actor_of(request), get_object_or_404(RunMarker, pk=marker_id, run_id=run_id))
    return Status(204, None)


@router.post("/systems/{system_id}/markers", response={201: list[markers.MarkerLine]})
def mark_system(request: HttpRequest, system_id: int, body: HappenedIn) -> Status[list[markers.MarkerLine]]:
    """Say that something happened to a system, as a deployment does: in every run that loads it at the time. None where
    none does."""
    system = get_object_or_404(System, pk=system_id)
    at = None if body.at is None else body.at.timestamp()
    found = markers.put_on_system(actor_of(request), system, body.text, at)
    return Status(201, [markers.line_of(marker) for marker in found])
