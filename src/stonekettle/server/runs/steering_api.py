"""Steering runs over HTTP."""

from __future__ import annotations

from datetime import datetime

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Field, Router, Schema, Status

from stonekettle.engine.signals import Verb
from stonekettle.plan.segments import MAX_USERS
from stonekettle.server.access.roles import actor_of
from stonekettle.server.experiments.outline import ProfileOutline
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import loads, steering
from stonekettle.server.runs.models import Run, RunWish

router = Router(tags=["runs"])


class WishIn(Schema):
    """What is asked of a run's load, of a ``group`` or a ``region`` if not of all. ``amount`` goes with raise and
    lower: users, or arrivals per second of a group that arrives; reached in a straight line over ``over_s`` seconds.
    With extend ``over_s`` is how much longer the level lasts. ``seen`` is the ``last`` of the prospect looked at."""

    verb: Verb
    group: str = Field("", max_length=80)
    region: str = Field("", max_length=80)
    amount: float | None = Field(None, ge=0, le=MAX_USERS, allow_inf_nan=False)
    over_s: float = Field(0.0, ge=0, le=24 * 3600, allow_inf_nan=False)
    why: str = Field("", max_length=500)
    seen: int | None = None


class WishLine(WishIn):
    """A wish with its answer; ``accepted`` is null until the run's lead has heard it."""

    id: int
    who: str
    asked_at: datetime
    accepted: bool | None
    answer: str


class Prospect(Schema):
    """What would come of a wish now: the load to the end as ``profile``, and what would be told of it as ``said``; or
    why it cannot be met, as ``refused``. ``last`` is the last wish this rests on."""

    said: str
    refused: str
    profile: ProfileOutline | None
    last: int


@router.post("/runs/{run_id}/wishes", response={202: WishLine})
def wish(request: HttpRequest, run_id: int, body: WishIn) -> Status[WishLine]:
    """Raise, lower, hold, pause, resume, skip, extend, let go, stop or cut off a run's load. The answer follows within
    a second."""
    run = get_object_or_404(Run, pk=run_id)
    asked = steering.wish(actor_of(request), run, **body.model_dump())
    return Status(202, _line(asked))


@router.get("/runs/{run_id}/wishes", response=list[WishLine])
def list_wishes(request: HttpRequest, run_id: int) -> list[WishLine]:
    """What was asked of a run's load, in order, with what became of it."""
    return [_line(wish) for wish in get_object_or_404(Run, pk=run_id).wishes.all()]


@router.post("/runs/{run_id}/prospect", response=Prospect)
def prospect(request: HttpRequest, run_id: int, body: WishIn) -> Prospect:
    """What would come of a wish if it were made now. Nothing is done."""
    run = get_object_or_404(Run, pk=run_id)
    last = run.wishes.exclude(accepted=False).last()
    asked = RunWish(run=run, who=actor_of(request).name, **body.model_dump(exclude={"seen"}))
    seen = steering.foreseen(run, asked)
    if seen is None:
        raise Conflict(f"Run {run.pk} makes no load yet ({run.state}).")
    drawn = None if seen.refused else loads.drawn_of(run, seen)
    return Prospect(said=seen.said, refused=seen.refused, profile=drawn, last=last.pk if last else 0)


def _line(wish: RunWish) -> WishLine:
    fields = ("id", "verb", "group", "region", "amount", "over_s", "why", "who", "asked_at", "accepted", "answer")
    return WishLine.model_validate({name: getattr(wish, name) for name in fields})
