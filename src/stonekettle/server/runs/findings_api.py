"""What stands behind a run's findings, over HTTP: how each was computed, all suspects, the checks of its levels, and
whether there is room for more users."""

from __future__ import annotations

from typing import cast

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Query, Router

from stonekettle.core.headroom import PeakIn
from stonekettle.report import explain, health
from stonekettle.report import result as results
from stonekettle.report.explain import Explained
from stonekettle.report.health import Health
from stonekettle.report.suspects import Suspects
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import costs, more_users, suspecting
from stonekettle.server.runs.found import findings_of
from stonekettle.server.runs.models import Run
from stonekettle.server.runs.more_users import RoomForMoreUsers

router = Router(tags=["runs"])


@router.get("/runs/{run_id}/how/{kind}", response=Explained)
def explain_note(request: HttpRequest, run_id: int, kind: str) -> Explained:
    """How the conclusion of a kind was computed: its formula with the run's own numbers, the data and the source."""
    run = get_object_or_404(Run.objects.select_related("revision__experiment"), pk=run_id)
    peak = run.revision.experiment.peak
    analysis = findings_of(run)
    expected = (peak, cast(PeakIn, run.revision.experiment.peak_in)) if peak is not None else None
    told = explain.explain(kind, analysis, run.plan, expected) if analysis is not None else None
    if told is None:
        raise Conflict(f"Run {run.pk} has no conclusion called {kind!r} that was computed by today's analysis.")
    return told


@router.get("/runs/{run_id}/suspects", response=Suspects)
def get_suspects(request: HttpRequest, run_id: int) -> Suspects:
    """All that could have set the limit, with what speaks for and against each."""
    run = get_object_or_404(Run, pk=run_id)
    told = suspecting.of(run)
    if told is None:
        raise Conflict(f"Run {run.pk} has no findings that today's analysis made, so nothing can be held against them.")
    return told


@router.get("/runs/{run_id}/health", response=Health)
def get_health(request: HttpRequest, run_id: int) -> Health:
    """Whether each level of a run can be relied on: the laws, the load, blur, gaps and metrics, one by one; and what
    is known of the whole run."""
    run = get_object_or_404(Run, pk=run_id)
    analysis = findings_of(run)
    if analysis is None:
        raise Conflict(f"Run {run.pk} has no findings that today's analysis made, so there are no levels to check.")
    result = results.stored(run.result or {})
    return health.told(analysis, run.plan, run.ordered.levels(), result.proofs, result.totals.duration_s)


@router.get("/runs/{run_id}/cost", response=costs.RunCost)
def get_cost(request: HttpRequest, run_id: int) -> costs.RunCost:
    """What an ended run cost by the prices of its system's instances, and what a step and a user cost at the limit."""
    return costs.of(get_object_or_404(Run, pk=run_id))


@router.get("/runs/{run_id}/more-users", response=RoomForMoreUsers)
def get_room_for_more_users(request: HttpRequest, run_id: int, asked: Query[more_users.Asked]) -> RoomForMoreUsers:
    """Where an index of how it feels to be a user crosses a limit, or for how many more there is room."""
    return more_users.of(get_object_or_404(Run, pk=run_id), asked)
