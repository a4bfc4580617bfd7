"""Runs over HTTP."""

from __future__ import annotations

import json
from datetime import datetime
from typing import Any, cast

from django.http import FileResponse, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from ninja import Field, File, Form, Query, Router, Schema, Status
from ninja.files import UploadedFile

from stonekettle.core.headroom import PeakIn
from stonekettle.engine.lifecycle import ENDED
from stonekettle.engine.strategies import PLAN, SEARCH
from stonekettle.report import result as results
from stonekettle.report.notes import headroom
from stonekettle.report.notes.note import Note
from stonekettle.server.access.roles import actor_of
from stonekettle.server.experiments import outline
from stonekettle.server.experiments import rules as experiments
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.jobs import rules as jobs
from stonekettle.server.jobs.answers import JobStarted, started
from stonekettle.server.problems import Conflict
from stonekettle.server.requests import json_part, written
from stonekettle.server.runs import (
    baselines,
    comparisons,
    data,
    exports,
    facts,
    forecasts,
    living,
    loads,
    markers,
    noticing,
    readiness,
    repeating,
    retention,
    room,
    rules,
    setting_aside,
    uploads,
)
from stonekettle.server.runs.found import findings_of
from stonekettle.server.runs.models import MetricsFile, Run, SetAside
from stonekettle.server.runs.watching_api import download
from stonekettle.server.runs.work import MetricsFileLine, line_of

router = Router(tags=["runs"])
PAGE = 50


class RunLine(Schema):
    """A run in a list; ``load`` is the planned one in few corners. Of a series ``turn`` says whose turn it was."""

    id: int
    experiment_id: int
    experiment: str
    revision: int
    state: str
    cause: str
    verdict: str
    load: list[outline.Corner]
    simulated: bool
    seeded: bool
    turn: str
    series_id: int | None
    against: baselines.Judged | None
    remark: str
    queued_at: datetime
    ended_at: datetime | None
    ended: bool


class RunPage(Schema):
    runs: list[RunLine]
    more: bool


class TransitionLine(Schema):
    state: str
    cause: str
    at: datetime


class MeterReport(Schema):
    """How one metrics address did in the run; ``clock_offset_s`` is its clock's lead over ours."""

    component: str
    instance: str
    answered: int
    missed: int
    last_fault: str
    clock_offset_s: float | None


class NoteLine(Schema):
    """Something that happened in the run's load, ``at_s`` seconds after its start."""

    at_s: float
    who: str
    text: str


class GeneratorLine(Schema):
    """A generator of the run; ``clock_offset_s`` is its clock's lead over the database's."""

    name: str
    region: str
    label: str
    state: str
    reason: str
    clock_offset_s: float


class RunDetail(RunLine):
    """A run with everything but its measurements. The load of ``steered`` ones was changed by people; ``mode`` says
    whether it follows its profile, is held or paused. A deleted one can be had back for a while. ``room`` is told once
    it has ended. ``baseline`` is the run that its experiment's are compared with now, since ``baseline_since``: itself,
    maybe. ``headroom`` is the room above the ``peak`` that is expected of the experiment."""

    begins_at: datetime | None
    again: int
    begun_at: float | None
    elapsed_s: int
    stop_requested_by: str
    steered: bool
    outline: outline.PlanOutline
    people: list[loads.People]
    mode: str
    transitions: list[TransitionLine]
    notes: list[NoteLine]
    markers: list[markers.MarkerLine]
    living: living.LivingFindings | None
    noticed: list[noticing.NoticeLine]
    generators: list[GeneratorLine]
    result: results.Result | None
    set_aside: list[setting_aside.SetAsideLine]
    peak: float | None
    peak_in: PeakIn
    headroom: Note | None
    system_id: int | None
    room: room.Room | None
    kept: bool
    left_out: str
    baseline: int | None
    baseline_since: datetime | None
    goes: retention.Dates
    deleted_at: datetime | None
    deleted_by: str
    undo_until: datetime | None
    meters: list[MeterReport]
    files: list[MetricsFileLine]


class RunFilter(Schema):
    experiment: int | None = None
    before: int | None = None


class Started(Schema):
    id: int


@router.get("/experiments/{experiment_id}/readiness", response=readiness.Readiness)
def get_readiness(request: HttpRequest, experiment_id: int) -> readiness.Readiness:
    """What stands in the way of a run, for whoever asks."""
    return readiness.of(actor_of(request), get_object_or_404(Experiment, pk=experiment_id))


class Often(Schema):
    """How many times the experiment is run, one after the other."""

    times: int = Field(1, ge=1, le=repeating.MOST)


@router.post("/experiments/{experiment_id}/runs", response={201: Started})
def start_run(request: HttpRequest, experiment_id: int, often: Query[Often]) -> Status[Started]:
    """Queue a run of the experiment's newest revision, and let others follow it."""
    experiment = get_object_or_404(Experiment, pk=experiment_id)
    return Status(201, Started(id=rules.start(actor_of(request), experiment, again=often.times - 1).pk))


@router.get("/experiments/{experiment_id}/forecast", response=forecasts.ForecastAnswer)
def forecast(request: HttpRequest, experiment_id: int) -> forecasts.ForecastAnswer:
    """What the load would see by what is known of the system, and what the last run of it saw."""
    return forecasts.of(get_object_or_404(Experiment, pk=experiment_id))


@router.post("/experiments/{experiment_id}/rehearsals", response={202: JobStarted})
def rehearse_experiment(request: HttpRequest, experiment_id: int) -> Status[JobStarted]:
    """Play the experiment in virtual time against a twin of its system: nothing is sent, nothing measured."""
    experiment = get_object_or_404(Experiment, pk=experiment_id)
    return started(jobs.start(actor_of(request), "rehearsal", {"experiment": experiment.pk}))


@router.post("/runs/{run_id}/longer", response={202: JobStarted})
def lengthen_rehearsal(request: HttpRequest, run_id: int) -> Status[JobStarted]:
    """Play a rehearsal once more with everything twice as long, to see what that would bring. Nothing is kept."""
    run = get_object_or_404(Run, pk=run_id)
    return started(jobs.start(actor_of(request), "longer levels", {"run": run.pk}))


@router.get("/runs", response=RunPage)
def list_runs(request: HttpRequest, only: Query[RunFilter]) -> RunPage:
    """Runs, the newest first, a page at a time (``before`` is the last id of the page before)."""
    runs = Run.objects.there().select_related("revision__experiment", "turn_taken")
    runs = runs.defer("result", "whole_result", "plan_document")
    if only.experiment is not None:
        runs = runs.of_experiment(only.experiment)
    if only.before is not None:
        runs = runs.filter(pk__lt=only.before)
    found = list(runs[: PAGE + 1])
    loads = experiments.sketches({run.revision_id for run in found})
    lines = [RunLine(**_line(run), load=loads[run.revision_id]) for run in found[:PAGE]]
    return RunPage(runs=lines, more=len(found) > PAGE)


@router.get("/runs/{run_id}", response=RunDetail)
def get_run(request: HttpRequest, run_id: int) -> RunDetail:
    """A run with its history and findings."""
    run = get_object_or_404(Run.objects.select_related("revision__experiment", "system"), pk=run_id)
    base = None if run.rehearsal or run.turn else baselines.in_force(run.revision.experiment_id, seeded=run.seeded)
    return RunDetail(
        **_line(run),
        load=outline.sketch(run.plan),
        begins_at=run.begins_at,
        again=run.again,
        begun_at=run.begun_at,
        elapsed_s=data.seconds_stored(run),
        stop_requested_by=run.stop_requested_by,
        mode=(run.course or {}).get("mode", ""),
        steered=run.orders.exclude(who__in=(PLAN, SEARCH)).exists(),
        outline=outline.of(run.plan, loads.of(run)),
        people=loads.people_of(run.plan),
        transitions=[TransitionLine(state=t.state, cause=t.cause, at=t.at) for t in run.transitions.all()],
        notes=[NoteLine(at_s=n.at_s, who=n.who, text=n.text) for n in run.notes.all()],
        markers=markers.lines_of(run),
        noticed=noticing.lines_of(run),
        living=living.LivingFindings.model_validate(run.living) if run.living else None,
        generators=[
            GeneratorLine(
                name=g.name,
                region=g.region,
                label=g.label,
                state=g.state,
                reason=g.reason,
                clock_offset_s=g.clock_offset_s,
            )
            for g in run.generators.defer("lease").order_by("slot")
        ],
        result=results.stored(run.result) if run.result else None,
        set_aside=setting_aside.of(run),
        peak=run.revision.experiment.peak,
        peak_in=cast(PeakIn, run.revision.experiment.peak_in),
        headroom=_headroom(run),
        system_id=run.system_id,
        room=room.of(run) if run.run_state in ENDED else None,
        kept=run.kept,
        left_out=run.left_out,
        baseline=base.run_id if base else None,
        baseline_since=base.since if base else None,
        goes=retention.dates(run),
        deleted_at=run.deleted_at,
        deleted_by=run.deleted_by,
        undo_until=run.deleted_at + rules.UNDO_FOR if run.deleted_at else None,
        meters=[MeterReport.model_validate(report) for report in run.meter_reports],
        files=[line_of(file) for file in run.metrics_files.defer("chunk")],
    )


def _headroom(run: Run) -> Note | None:
    """The room above the expected peak, where one is expected and there are findings of today's analysis."""
    peak = run.revision.experiment.peak
    analysis = findings_of(run) if peak is not None else None
    if peak is None or analysis is None:
        return None
    return headroom.note(analysis, peak, cast(PeakIn, run.revision.experiment.peak_in))


@router.delete("/runs/{run_id}", response={204: None})
def delete_run(request: HttpRequest, run_id: int) -> Status[None]:
    """Take an ended run out of every list. For a day it can be had back."""
    rules.delete(actor_of(request), get_object_or_404(Run, pk=run_id))
    return Status(204, None)


@router.post("/runs/{run_id}/restore", response={204: None})
def restore_run(request: HttpRequest, run_id: int) -> Status[None]:
    """Have a deleted run back."""
    rules.restore(actor_of(request), get_object_or_404(Run, pk=run_id))
    return Status(204, None)


class KeepBody(Schema):
    kept: bool


@router.post("/runs/{run_id}/keep", response={204: None})
def keep_run(request: HttpRequest, run_id: int, body: KeepBody) -> Status[None]:
    """Keep a run always, however long its system keeps runs, or no longer than others."""
    rules.keep(actor_of(request), get_object_or_404(Run, pk=run_id), kept=body.kept)
    return Status(204, None)


@router.post("/runs/{run_id}/stop", response={202: Started})
def stop_run(request: HttpRequest, run_id: int) -> Status[Started]:
    """Ask the run to end; its users finish the step they are in."""
    rules.request_stop(actor_of(request), get_object_or_404(Run, pk=run_id))
    return Status(202, Started(id=run_id))


@router.get("/runs/{run_id}/whole", response=results.Result)
def get_whole_findings(request: HttpRequest, run_id: int) -> results.Result:
    """The findings of the whole run, where people have left a stretch out of those in force."""
    run = _ended(run_id)
    if run.whole_result is None:
        raise Conflict(f"Nothing is left out of the findings of run {run.pk}: they are of the whole run.")
    return results.stored(run.whole_result)


@router.post("/runs/{run_id}/set-aside", response={202: JobStarted})
def leave_out(request: HttpRequest, run_id: int, body: setting_aside.Aside) -> Status[JobStarted]:
    """Leave seconds out of the findings, with a reason. They are made anew; those of the whole run are kept."""
    run = _ended(run_id)
    rules.check_analysable(run)
    setting_aside.check(run, body)
    return started(jobs.start(actor_of(request), "leave out", {"run": run_id, "stretch": body.model_dump()}))


@router.delete("/runs/{run_id}/set-aside/{set_aside_id}", response={202: JobStarted})
def count_again(request: HttpRequest, run_id: int, set_aside_id: int) -> Status[JobStarted]:
    """Let seconds that were left out count again; the findings are made anew."""
    one = get_object_or_404(SetAside, pk=set_aside_id, run=_ended(run_id))
    rules.check_analysable(one.run)
    return started(jobs.start(actor_of(request), "count again", {"set_aside": one.pk}))


@router.get("/runs/{run_id}/result.json")
def download_result(request: HttpRequest, run_id: int) -> HttpResponse:
    run = _ended(run_id)
    if run.result is None:
        raise Conflict(f"Run {run.pk} recorded nothing, so it has no result.")
    marked = [line.model_dump(mode="json") for line in markers.lines_of(run)]
    told = {**run.result, "seeded": run.seeded, "against": run.against, "markers": marked}
    return download(request, run, json.dumps(told, indent=2), "application/json", "result.json")


class Pooled(Schema):
    """Further runs on the side of the run, and of the other one."""

    run: list[int] = Field([], max_length=comparisons.MOST_A_SIDE)
    other: list[int] = Field([], max_length=comparisons.MOST_A_SIDE)


@router.get("/runs/{run_id}/against/{other_id}", response=comparisons.ComparisonAnswer)
def compare_runs(request: HttpRequest, run_id: int, other_id: int, pooled: Query[Pooled]) -> HttpResponse:
    """The run compared with another one: figure by figure, and in a sentence. Runs may be pooled with either: then the
    spread between the runs of a side is what a difference is judged by."""
    runs = Run.objects.there().select_related("revision__experiment")
    firsts, seconds = (
        [get_object_or_404(runs, pk=key) for key in (one, *others)]
        for one, others in ((other_id, pooled.other), (run_id, pooled.run))
    )
    return written(comparisons.of(firsts, seconds))


@router.get("/runs/{run_id}/facts.csv")
def download_facts(request: HttpRequest, run_id: int) -> HttpResponse:
    """Every figure of the findings with its error and block statistics, one a line."""
    run = _ended(run_id)
    return download(request, run, facts.as_csv(run), "text/csv", "facts.csv")


class ExportIn(Schema):
    """Which file of the run is wanted."""

    what: exports.What


@router.post("/runs/{run_id}/exports", response={202: JobStarted})
def make_export(request: HttpRequest, run_id: int, body: ExportIn) -> Status[JobStarted]:
    """Have a file of the run made; once the job is done it can be downloaded."""
    run = _ended(run_id)
    _check(run, body.what)
    return started(jobs.start(actor_of(request), "export", {"run": run.pk, "what": body.what}))


def _check(run: Run, what: exports.What) -> None:
    if what in ("seconds.csv", "metrics.parquet"):
        rules.check_seconds(run)
    elif what != "levels.parquet":
        rules.check_requests(run)


@router.get("/runs/{run_id}/seconds.csv")
def download_seconds(request: HttpRequest, run_id: int) -> FileResponse:
    """The run second by second, once it has been made."""
    return _made(_ended(run_id), "seconds.csv")


@router.get("/runs/{run_id}/requests.parquet")
def download_requests(request: HttpRequest, run_id: int) -> FileResponse:
    """Every request, once the file has been made."""
    return _made(_ended(run_id), "requests.parquet")


@router.get("/runs/{run_id}/kept.jsonl")
def download_kept(request: HttpRequest, run_id: int) -> FileResponse:
    """The requests kept whole, once the file has been made: failures, the slowest and some by chance, one a line."""
    return _made(_ended(run_id), "kept.jsonl")


@router.get("/runs/{run_id}/traces.jsonl")
def download_traces(request: HttpRequest, run_id: int) -> FileResponse:
    """What servers told of single requests, once the file has been made: a trace a line, as OTLP's JSON."""
    return _made(_ended(run_id), "traces.jsonl")


@router.get("/runs/{run_id}/levels.parquet")
def download_levels(request: HttpRequest, run_id: int) -> FileResponse:
    """The levels that the findings rest on, once the file has been made."""
    return _made(_ended(run_id), "levels.parquet")


@router.get("/runs/{run_id}/metrics.parquet")
def download_metrics(request: HttpRequest, run_id: int) -> FileResponse:
    """Every sample of every metric, once the file has been made."""
    return _made(_ended(run_id), "metrics.parquet")


def _made(run: Run, what: exports.What) -> FileResponse:
    _check(run, what)
    path = exports.path_of(run, what)
    if not path.exists():
        raise Conflict(f"{what} of run {run.pk} has not been made yet, or not since the run changed. Ask for it first.")
    return FileResponse(path.open("rb"), as_attachment=True, filename=f"run-{run.pk}-{what}")


@router.post("/runs/{run_id}/files/look", response={202: JobStarted})
def look_at_file(
    request: HttpRequest, run_id: int, file: File[UploadedFile], time_column: Form[str] = "", zone: Form[str] = "UTC"
) -> Status[JobStarted]:
    """Look into a metrics file before adding it to a run. Nothing is kept."""
    given = {"run": _ended(run_id).pk, "time_column": time_column, "zone": zone}
    return started(jobs.start(actor_of(request), "look at metrics file", given, file))


@router.post("/runs/{run_id}/files", response={202: JobStarted})
def add_file(request: HttpRequest, run_id: int, file: File[UploadedFile], use: Form[str]) -> Status[JobStarted]:
    """Add a component's metrics from a file; ``use`` is a FileUse as JSON. The run is analysed anew."""
    rules.check_analysable(_ended(run_id))
    given = {"run": run_id, "use": json_part(uploads.FileUse, use).model_dump()}
    return started(jobs.start(actor_of(request), "add metrics file", given, file))


@router.delete("/runs/{run_id}/files/{file_id}", response={202: JobStarted})
def remove_file(request: HttpRequest, run_id: int, file_id: int) -> Status[JobStarted]:
    """Take a metrics file out of a run again; it is analysed anew."""
    file = get_object_or_404(MetricsFile, pk=file_id, run=_ended(run_id))
    rules.check_analysable(file.run)
    return started(jobs.start(actor_of(request), "remove metrics file", {"file": file.pk}))


def _ended(run_id: int) -> Run:
    run = get_object_or_404(Run, pk=run_id)
    if run.run_state not in ENDED:
        raise Conflict(f"Run {run.pk} is still {run.state}; its files are complete when it has ended.")
    return run


def _line(run: Run) -> dict[str, Any]:
    return {
        "id": run.pk,
        "experiment_id": run.revision.experiment_id,
        "experiment": run.revision.experiment.name,
        "revision": run.revision.number,
        "state": run.state,
        "cause": run.cause,
        "verdict": run.verdict,
        "simulated": run.simulated,
        "seeded": run.seeded,
        "turn": run.turn,
        "series_id": getattr(getattr(run, "turn_taken", None), "series_id", None),
        "against": run.against,
        "remark": run.remark,
        "queued_at": run.queued_at,
        "ended_at": run.ended_at,
        "ended": run.run_state in ENDED,
    }
