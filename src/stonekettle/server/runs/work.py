"""What takes long about runs: metrics files, which are read, aligned, and make the findings anew."""

from __future__ import annotations

from typing import Literal

from ninja import Schema

from stonekettle.core.alignment import CLEAR
from stonekettle.server.acts import tell
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.jobs.work import Work
from stonekettle.server.runs import exports, longer, played, setting_aside, uploads
from stonekettle.server.runs.models import MetricsFile, Run, SetAside


class ColumnLine(Schema):
    """A column of a file: what it can be used as, whether it only grows, its first values."""

    name: str
    role: Literal["time", "number", "text"]
    grows: bool
    shown: list[str]


class FileLook(Schema):
    """What a metrics file holds, and by how much its clock seems to be ahead (null: not to be told).
    A ``match`` under ``clear_from`` is too weak to be believed."""

    columns: list[ColumnLine]
    time_column: str | None
    offset_s: float | None
    match: float | None
    clear_from: float


class MetricsFileFound(Schema):
    kind: Literal["metrics file"] = "metrics file"
    found: FileLook


class MetricsFileLine(Schema):
    id: int
    name: str
    component: str
    metrics: list[str]
    offset_s: float


class MetricsFileAdded(Schema):
    kind: Literal["metrics file added"] = "metrics file added"
    file: MetricsFileLine


class MetricsFileRemoved(Schema):
    kind: Literal["metrics file removed"] = "metrics file removed"


class FindingsMade(Schema):
    """The findings of a run were made anew."""

    kind: Literal["findings made"] = "findings made"


class Rehearsal(Schema):
    """A run that was played in virtual time."""

    kind: Literal["rehearsal"] = "rehearsal"
    run: int


class LongerTold(Schema):
    """What a rehearsal would find with longer levels."""

    kind: Literal["longer levels"] = "longer levels"
    text: str


class ExportMade(Schema):
    """A file of a run that can be downloaded now, ``size`` bytes long."""

    kind: Literal["export made"] = "export made"
    what: exports.What
    size: int


def look(work: Work) -> MetricsFileFound:
    """Look into a metrics file before adding it to a run. Nothing is kept."""
    run = Run.objects.get(pk=work.given["run"])
    work.tell("Reading the file and comparing its clock")
    name, time_column = work.given["file_name"] or "file", work.given["time_column"] or None
    columns, chosen, found = uploads.look(run, name, work.content, time_column, work.given["zone"])
    return MetricsFileFound(
        found=FileLook(
            columns=[ColumnLine(name=c.name, role=c.role, grows=c.grows, shown=list(c.shown)) for c in columns],
            time_column=chosen,
            offset_s=found.offset_s if found else None,
            match=found.correlation if found else None,
            clear_from=CLEAR,
        )
    )


def add(work: Work) -> MetricsFileAdded:
    """Add a component's metrics from a file; the run is analysed anew."""
    run = Run.objects.get(pk=work.given["run"])
    work.tell("Reading the file and analysing the run anew")
    use, name = uploads.FileUse.model_validate(work.given["use"]), work.given["file_name"] or "file"
    return MetricsFileAdded(file=line_of(uploads.add(work.actor, run, name, work.content, use)))


def remove(work: Work) -> MetricsFileRemoved:
    """Take a metrics file out of a run again."""
    work.tell("Analysing the run without it")
    uploads.remove(work.actor, MetricsFile.objects.get(pk=work.given["file"]))
    return MetricsFileRemoved()


def leave_out(work: Work) -> FindingsMade:
    """Leave seconds of a run out of its findings."""
    work.tell("Analysing the run without these seconds")
    stretch = setting_aside.Aside.model_validate(work.given["stretch"])
    setting_aside.leave_out(work.actor, Run.objects.get(pk=work.given["run"]), stretch)
    return FindingsMade()


def count_again(work: Work) -> FindingsMade:
    """Let seconds that were left out count again."""
    work.tell("Analysing the run with these seconds")
    setting_aside.count_again(work.actor, SetAside.objects.get(pk=work.given["set_aside"]))
    return FindingsMade()


def export(work: Work) -> ExportMade:
    """Make a file of a run's measurements."""
    run, what = Run.objects.get(pk=work.given["run"]), work.given["what"]
    size = exports.make(run, what, work.tell).stat().st_size
    tell(work.actor, "exported", "run", run.pk, run.revision.experiment.name, note=what)
    return ExportMade(what=what, size=size)


def line_of(file: MetricsFile) -> MetricsFileLine:
    metrics = [metric for metric, *_ in file.sources]
    return MetricsFileLine(
        id=file.pk, name=file.name, component=file.component, metrics=metrics, offset_s=file.offset_s
    )


def lengthen(work: Work) -> LongerTold:
    """Play a rehearsal once more with everything longer. Nothing is kept."""
    run = Run.objects.get(pk=work.given["run"])
    return LongerTold(text=longer.ask(work.actor, run, work.tell))


def rehearse(work: Work) -> Rehearsal:
    """Play an experiment in virtual time, and find what a run would."""
    experiment = Experiment.objects.get(pk=work.given["experiment"])
    return Rehearsal(run=played.rehearse(work.actor, experiment, work.tell).pk)
