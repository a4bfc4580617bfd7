"""Changes of a system under a run over HTTP."""

from __future__ import annotations

from typing import Annotated

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Field, Router, Schema, Status

from stonekettle.server.access.roles import actor_of
from stonekettle.server.changes import effects, rules, storm_findings
from stonekettle.server.changes.models import SystemChange
from stonekettle.server.runs.models import Run

router = Router(tags=["runs"])


class AskChange(Schema):
    """A change by its name in the system's description, with what it asks for."""

    name: str = Field(max_length=80)
    values: dict[str, Annotated[str, Field(max_length=80)]] = Field(default_factory=dict, max_length=20)


class ChangeAsked(Schema):
    id: int


@router.get("/runs/{run_id}/changes", response=effects.Changes)
def list_changes(request: HttpRequest, run_id: int) -> effects.Changes:
    """The changes of its system that were asked for under a run, what came of each, and those that can be asked for."""
    return effects.of(get_object_or_404(Run, pk=run_id))


@router.get("/runs/{run_id}/changes/{change_id}", response=storm_findings.StormFindings)
def get_storm(
    request: HttpRequest, run_id: int, change_id: int, against: int | None = None
) -> storm_findings.StormFindings:
    """How soon those were ready that a change started, who came late, and what was busy meanwhile; ``against`` another
    storm of the same change."""
    change = get_object_or_404(SystemChange.objects.select_related("run"), pk=change_id, run_id=run_id)
    return storm_findings.of(change, against)


@router.post("/runs/{run_id}/changes", response={202: ChangeAsked})
def ask_change(request: HttpRequest, run_id: int, body: AskChange) -> Status[ChangeAsked]:
    """Ask for a change of the system that a run loads."""
    run = get_object_or_404(Run, pk=run_id)
    return Status(202, ChangeAsked(id=rules.ask(actor_of(request), run, body.name, body.values).pk))
