"""What a run measured, as its page looks at it while it goes on and later: the plate, its steps, its people."""

from __future__ import annotations

from django.db.models import Count, Q
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from ninja import Query, Router, Schema

from stonekettle.engine.lifecycle import ENDED
from stonekettle.server.access.api import HaltState, halt_state
from stonekettle.server.access.roles import actor_of
from stonekettle.server.acts import tell
from stonekettle.server.requests import written
from stonekettle.server.runs import (
    asking,
    curves,
    data,
    distributions,
    failures,
    metering,
    moving,
    noticing,
    people,
    singles,
    step_page,
    steps,
)
from stonekettle.server.runs import plate as plates
from stonekettle.server.runs.models import Run

router = Router(tags=["runs"])
LOOKED_AT = ("state", "story", "sequence", "begun_at", "seeded", "meter_columns", "stands", "system__pins")
"""What a look at the plate reads of a run."""


class RunNow(Schema):
    """A run under way; ``notices`` are so many conditions that hold now."""

    id: int
    experiment: str
    state: str
    notices: int


class Now(Schema):
    """What every page shows: the runs under way, the newest first, and whether all load is halted."""

    runs: list[RunNow]
    halt: HaltState


@router.get("/now", response=Now)
def get_now(request: HttpRequest) -> HttpResponse:
    """What every page shows, asked for again and again."""
    open_ones = Count("notices", filter=Q(notices__until_s=None))
    rows = Run.objects.there().in_progress().annotate(open_ones=open_ones)
    told = rows.values_list("pk", "revision__experiment__name", "state", "open_ones")
    runs = [RunNow(id=pk, experiment=name, state=state, notices=notices) for pk, name, state, notices in told]
    return written(Now(runs=runs, halt=halt_state(actor_of(request))))


class LivePlate(plates.Plate):
    """A plate with the state the run was in when it was read. ``story`` changes with what is told of the run: what a
    page has of that is old then. ``standing`` is how objectives and stop rules do by the last seconds."""

    state: str
    elapsed_s: int
    story: int
    standing: list[noticing.StandingLine]


@router.get("/runs/{run_id}/plate", response=LivePlate)
def get_plate(request: HttpRequest, run_id: int, window: Query[plates.Window]) -> HttpResponse:
    """What was measured, as columns over time: what was written since the page looked last, or everything."""
    looked_at = Run.objects.select_related("system").only(*LOOKED_AT).annotate(stored=data.SECONDS_STORED)
    run = get_object_or_404(looked_at, pk=run_id)
    if run.run_state in ENDED:
        metering.add_pins(run)
    stored = data.seconds_stored(run)
    read = plates.read(run, window, stored)
    standing = noticing.standing(run, stored)
    found = LivePlate.model_construct(
        **vars(read), state=run.state, elapsed_s=stored, story=run.story, standing=standing
    )
    return written(found)


@router.get("/runs/{run_id}/steps", response=steps.StepTable)
def get_steps(request: HttpRequest, run_id: int, window: Query[plates.Stretch]) -> HttpResponse:
    """What each journey and step did in a stretch of the run, while it is under way too."""
    return written(_steps(run_id, window)[1])


@router.get("/runs/{run_id}/curves", response=curves.FittedCurves)
def get_curves(request: HttpRequest, run_id: int) -> HttpResponse:
    """What the laws say of throughput and response over the loads that a run measured."""
    return written(curves.of(get_object_or_404(Run.objects.defer("plan_document"), pk=run_id)))


@router.get("/runs/{run_id}/steps/{step}", response=step_page.StepPage)
def get_step(request: HttpRequest, run_id: int, step: str) -> HttpResponse:
    """One step of a run against load: what it took at each level, with what, and where it fails its objective."""
    run = get_object_or_404(Run.objects.defer("plan_document"), pk=run_id)
    return written(step_page.of(run, step, data.seconds_stored(run)))


@router.get("/runs/{run_id}/steps.csv")
def download_steps_csv(request: HttpRequest, run_id: int, window: Query[plates.Stretch]) -> HttpResponse:
    """The same as a table of values separated by commas."""
    run, table = _steps(run_id, window)
    return download(request, run, steps.as_csv(table), "text/csv", "steps.csv")


@router.get("/runs/{run_id}/steps.xlsx")
def download_steps_xlsx(request: HttpRequest, run_id: int, window: Query[plates.Stretch]) -> HttpResponse:
    """The same as a workbook."""
    run, table = _steps(run_id, window)
    title = f"{run.revision.experiment.name}, run {run.pk}"
    return download(request, run, steps.as_xlsx(table, title), steps.XLSX, "steps.xlsx")


def _steps(run_id: int, window: plates.Stretch) -> tuple[Run, steps.StepTable]:
    run = get_object_or_404(Run.objects.defer("result", "plan_document"), pk=run_id)
    return run, steps.of(run, window, data.seconds_stored(run))


@router.get("/runs/{run_id}/distribution", response=distributions.Distribution)
def get_distribution(request: HttpRequest, run_id: int, asked: Query[distributions.Asked]) -> HttpResponse:
    """How long requests of a step, a journey or all took in a stretch, and beside it in another one."""
    run = get_object_or_404(Run.objects.defer("result", "plan_document"), pk=run_id)
    return written(distributions.of(run, asked, data.seconds_stored(run)))


@router.get("/runs/{run_id}/moving", response=moving.Beside)
def get_moving(request: HttpRequest, run_id: int, asked: Query[moving.Asked]) -> HttpResponse:
    """What moves with a row of the run in a stretch: every metric beside it, ranked by how it goes with it."""
    run = get_object_or_404(Run.objects.select_related("system").defer("result"), pk=run_id)
    return written(moving.beside(run, asked, data.seconds_stored(run)))


@router.get("/runs/{run_id}/errors", response=failures.Errors)
def get_errors(request: HttpRequest, run_id: int, window: Query[plates.Stretch]) -> HttpResponse:
    """What failed in a stretch of the run: by kind, step and time, with some of the requests as they were."""
    run = get_object_or_404(Run.objects.defer("result", "plan_document"), pk=run_id)
    return written(failures.of(run, window, data.seconds_stored(run)))


@router.get("/runs/{run_id}/lives", response=people.Lives)
def get_lives(request: HttpRequest, run_id: int, piece: Query[people.Piece]) -> HttpResponse:
    """What each of the run's users did in a stretch of at most two minutes, bin by bin."""
    run = get_object_or_404(Run.objects.defer("result", "plan_document"), pk=run_id)
    return written(people.lives(run, piece, data.seconds_stored(run)))


@router.get("/runs/{run_id}/lives/{user}", response=list[people.RequestLine])
def get_life(request: HttpRequest, run_id: int, user: int, piece: Query[people.Piece]) -> list[people.RequestLine]:
    """The requests of one user in a stretch."""
    run = get_object_or_404(Run.objects.defer("result", "plan_document"), pk=run_id)
    return people.requests_of(run, user, piece, data.seconds_stored(run))


@router.get("/runs/{run_id}/requests", response=singles.RequestsFound)
def get_requests(request: HttpRequest, run_id: int, asked: Query[singles.Asked]) -> HttpResponse:
    """Single requests of a run: which, in what order, and what they are together."""
    run = get_object_or_404(Run.objects.defer("plan_document"), pk=run_id)
    return written(singles.of(run, asked, data.seconds_stored(run)))


@router.get("/runs/{run_id}/visits/{user}/{visit}", response=singles.WholeVisit)
def get_visit(request: HttpRequest, run_id: int, user: int, visit: int) -> HttpResponse:
    """Everything that one visit of a user sent, with what is kept of it in full."""
    found = singles.visit_of(get_object_or_404(Run.objects.defer("result", "plan_document"), pk=run_id), user, visit)
    if found is None:
        raise Http404(f"Nothing of visit {visit} of user {user} is recorded in run {run_id}.")
    return written(found)


@router.get("/runs/{run_id}/sql", response=asking.SqlTables)
def get_sql(request: HttpRequest, run_id: int) -> HttpResponse:
    """What of a run can be asked in SQL."""
    get_object_or_404(Run.objects.only("pk"), pk=run_id)
    return written(asking.told())


@router.post("/runs/{run_id}/sql", response=asking.SqlAnswer)
def ask_sql(request: HttpRequest, run_id: int, body: asking.Statement) -> HttpResponse:
    """Ask a run in SQL: one statement that reads, answered with its first rows."""
    run = get_object_or_404(Run.objects.defer("plan_document"), pk=run_id)
    return HttpResponse(asking.answer(run, body.statement), content_type="application/json")


@router.post("/runs/{run_id}/sql.csv")
def download_sql(request: HttpRequest, run_id: int, body: asking.Statement) -> HttpResponse:
    """The same, all rows as a table of values separated by commas."""
    run = get_object_or_404(Run.objects.select_related("revision__experiment").defer("plan_document"), pk=run_id)
    return download(request, run, asking.as_csv(run, body.statement), "text/csv", "answer.csv")


def download(request: HttpRequest, run: Run, text: str | bytes, content_type: str, name: str) -> HttpResponse:
    """A file of a run made on the spot; the history tells of it."""
    tell(actor_of(request), "exported", "run", run.pk, run.revision.experiment.name, note=name)
    headers = {"Content-Disposition": f'attachment; filename="run-{run.pk}-{name}"'}
    return HttpResponse(text, content_type=content_type, headers=headers)
