"""Changes of a system under a run over HTTP."""

from __future__ import annotations

from typing import Annotated

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Field, Router, Schema, Status

from stonekettle.server.access.roles import actor_of
from stonekettle.server.changes import effects, rules
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


@router.post("/runs/{run_id}/changes", response={202: ChangeAsked})
def ask_change(request: HttpRequest, run_id: int, body: AskChange) -> Status[ChangeAsked]:
    """Ask for a change of the system that a run loads."""
    run = get_object_or_404(Run, pk=run_id)
    return Status(202, ChangeAsked(id=rules.ask(actor_of(request), run, body.name, body.values).pk))
