"""Candidates that take turns, over HTTP."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from ninja import Router, Schema, Status

from stonekettle.server.access.roles import actor_of
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.requests import written
from stonekettle.server.series import findings, rules, scaled
from stonekettle.server.series.models import Series, Turn

router = Router(tags=["series"])
SHOWN = 20
SWITCH_S = 25.0
"""So long a turn takes beside its load, before that is known."""
LOOK_S = 2.0
"""Until the next one is begun."""


class SeriesStarted(Schema):
    id: int


class DoneLine(Schema):
    """What was done for a turn: ``at_s`` seconds after it began, for how long, and what came of it."""

    what: str
    at_s: float
    took_s: float
    outcome: str


class TurnLine(Schema):
    """A candidate's turn; ``run`` is null before it has begun."""

    number: int
    block: int
    candidate: str
    value: str
    run: int | None
    state: str | None
    cause: str
    ready_after_s: float | None
    done: list[DoneLine]
    over: bool


class SeriesLine(Schema):
    """A series in a list."""

    id: int
    state: str
    cause: str
    seeded: bool
    begun_at: datetime
    ended_at: datetime | None
    turns: int
    over: int


class SeriesDetail(SeriesLine):
    """A series with its turns. ``left_s`` is about how long the rest will take, null once it has ended. What is
    ``scaled`` is told in words; "" where candidates take turns."""

    experiment_id: int
    experiment: str
    revision: int
    system_id: int | None
    system: str
    blocks: int
    factor: str
    scaled: str
    matters: float
    stopping: bool
    left_s: float | None
    lines: list[TurnLine]


@router.post("/experiments/{experiment_id}/series", response={201: SeriesStarted})
def start_series(request: HttpRequest, experiment_id: int) -> Status[SeriesStarted]:
    """Let the experiment's candidates take turns, each turn a run."""
    experiment = get_object_or_404(Experiment, pk=experiment_id)
    return Status(201, SeriesStarted(id=rules.start(actor_of(request), experiment).pk))


@router.get("/experiments/{experiment_id}/series", response=list[SeriesLine])
def list_series(request: HttpRequest, experiment_id: int) -> list[SeriesLine]:
    """How often the experiment's candidates took turns, newest first."""
    experiment = get_object_or_404(Experiment, pk=experiment_id)
    return [
        SeriesLine(**_line(one, list(one.turns.all()))) for one in experiment.series.prefetch_related("turns")[:SHOWN]
    ]


@router.get("/series/{series_id}", response=SeriesDetail)
def get_series(request: HttpRequest, series_id: int) -> SeriesDetail:
    """A series and how far it is."""
    series = get_object_or_404(Series.objects.select_related("experiment__system", "revision"), pk=series_id)
    turns = list(series.turns.select_related("run"))
    candidates = series.candidates
    return SeriesDetail(
        **_line(series, turns),
        experiment_id=series.experiment_id,
        experiment=series.experiment.name,
        revision=series.revision.number,
        system_id=series.experiment.system_id,
        system=series.plan.system.name,
        blocks=candidates.blocks,
        factor=candidates.factor.name if candidates.factor is not None else "",
        scaled=series.plan.scaling.summary if series.plan.scaling is not None else "",
        matters=candidates.matters,
        stopping=bool(series.stop_requested_by),
        left_s=_left_s(series, turns) if series.state == Series.State.GOING else None,
        lines=[_turn(turn) for turn in turns],
    )


@router.get("/series/{series_id}/findings", response=findings.SeriesFindings)
def get_findings(request: HttpRequest, series_id: int) -> HttpResponse:
    """What the turns that are over tell: each candidate against the first, block by block."""
    return written(findings.of(get_object_or_404(Series.objects.select_related("experiment"), pk=series_id)))


@router.get("/series/{series_id}/scaling", response=scaled.ScalingFindings)
def get_scaling(request: HttpRequest, series_id: int) -> HttpResponse:
    """What the turns that are over tell where something is scaled: a point for each value, and what others bring."""
    return written(scaled.of(get_object_or_404(Series.objects.select_related("experiment"), pk=series_id)))


@router.post("/series/{series_id}/stop", response={202: SeriesStarted})
def stop_series(request: HttpRequest, series_id: int) -> Status[SeriesStarted]:
    """Begin no further turn; the one under way ends gracefully."""
    rules.stop(actor_of(request), get_object_or_404(Series.objects.select_related("experiment"), pk=series_id))
    return Status(202, SeriesStarted(id=series_id))


def _line(series: Series, turns: Sequence[Turn]) -> dict[str, Any]:
    return {
        "id": series.pk,
        "state": series.state,
        "cause": series.cause,
        "seeded": series.seeded,
        "begun_at": series.begun_at,
        "ended_at": series.ended_at,
        "turns": len(turns),
        "over": sum(turn.over for turn in turns),
    }


def _left_s(series: Series, turns: Sequence[Turn]) -> float:
    """By how long the turns took that are over, or would by the plan."""
    over = [turn.run for turn in turns if turn.over and turn.run is not None and turn.run.ended_at is not None]
    each = series.plan.planned.duration_s + SWITCH_S
    if over:
        took = [(run.ended_at - run.queued_at).total_seconds() for run in over if run.ended_at is not None]
        each = sum(took) / len(took) + LOOK_S
    return each * sum(not turn.over for turn in turns)


def _turn(turn: Turn) -> TurnLine:
    run = turn.run
    return TurnLine(
        number=turn.number,
        block=turn.block,
        candidate=turn.candidate,
        value=turn.value,
        run=run.pk if run is not None else None,
        state=run.state if run is not None else None,
        cause=run.cause if run is not None else "",
        ready_after_s=turn.ready_after_s,
        done=[DoneLine.model_validate(one) for one in turn.done],
        over=turn.over,
    )
