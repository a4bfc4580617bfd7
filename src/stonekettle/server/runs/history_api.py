"""Runs over time, over HTTP: baselines, histories, and what people note of runs."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from ninja import Field, Query, Router, Schema, Status

from stonekettle.server.access.roles import actor_of
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.requests import written
from stonekettle.server.runs import baselines, histories, remarks
from stonekettle.server.runs.models import Run
from stonekettle.server.systems.models import System

router = Router(tags=["runs"])


class HistoryQuery(Schema):
    """At which load response times, errors and cost are read; without one, the highest at which objectives hold."""

    load: float | None = Field(None, gt=0, allow_inf_nan=False)


class RemarkBody(Schema):
    remark: str = Field(max_length=remarks.LONGEST)


class LeftOutBody(Schema):
    """Why a run is left out of its experiment's history; empty: it is not."""

    why: str = Field(max_length=remarks.LONGEST)


@router.get("/experiments/{experiment_id}/history", response=histories.HistoryAnswer)
def get_history(request: HttpRequest, experiment_id: int, at: Query[HistoryQuery]) -> HttpResponse:
    """The experiment's key figures run by run, and since when what is different."""
    return written(histories.of(get_object_or_404(Experiment, pk=experiment_id), at.load))


@router.get("/systems/{system_id}/history", response=list[histories.HistoryAnswer])
def get_system_history(request: HttpRequest, system_id: int) -> list[histories.HistoryAnswer]:
    """The histories of all experiments on a system that have been run."""
    system = get_object_or_404(System, pk=system_id)
    found = [histories.of(one) for one in system.experiments.filter(archived_at=None).order_by("pk")]
    return [one for one in found if one.runs]


@router.get("/experiments/{experiment_id}/baselines", response=list[baselines.BaselineLine])
def list_baselines(request: HttpRequest, experiment_id: int) -> list[baselines.BaselineLine]:
    """What the experiment's runs were compared with, the newest first."""
    return baselines.of(get_object_or_404(Experiment, pk=experiment_id).pk)


@router.post("/runs/{run_id}/baseline", response={204: None})
def take_baseline(request: HttpRequest, run_id: int) -> Status[None]:
    """Compare the experiment's runs with this one from now on."""
    baselines.take(actor_of(request), get_object_or_404(Run, pk=run_id))
    return Status(204, None)


@router.delete("/runs/{run_id}/baseline", response={204: None})
def drop_baseline(request: HttpRequest, run_id: int) -> Status[None]:
    """Compare with this run no more."""
    baselines.drop(actor_of(request), get_object_or_404(Run, pk=run_id))
    return Status(204, None)


@router.put("/runs/{run_id}/remark", response={204: None})
def put_remark(request: HttpRequest, run_id: int, body: RemarkBody) -> Status[None]:
    """Note something of a run."""
    remarks.note(actor_of(request), get_object_or_404(Run, pk=run_id), body.remark)
    return Status(204, None)


@router.put("/runs/{run_id}/left-out", response={204: None})
def leave_out(request: HttpRequest, run_id: int, body: LeftOutBody) -> Status[None]:
    """Leave a run out of its experiment's history, with the reason, or take it in again."""
    remarks.leave_out(actor_of(request), get_object_or_404(Run, pk=run_id), body.why)
    return Status(204, None)
