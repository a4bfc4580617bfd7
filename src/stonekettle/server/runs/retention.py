"""How long what is kept of runs: each system says so for requests, seconds and whole runs; a run may be kept always."""

from __future__ import annotations

from datetime import datetime, timedelta

from django.db import transaction
from django.utils import timezone
from ninja import Field, Schema

from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.acts import Account, act
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import exports, rules, search
from stonekettle.server.runs.models import (
    GeneratorSecond,
    KeptRequest,
    MeterScrape,
    MeterSecond,
    MeterSeries,
    MetricsFile,
    RecordBundle,
    Run,
    RunQuerySet,
    RunSecond,
    Trace,
)
from stonekettle.server.systems.models import System

MOST_DAYS = 3650


class Keeping(Schema):
    """For how many days after its end a run's requests, its seconds and metrics, and the run with its findings are
    kept; null is always."""

    requests_days: int | None = Field(None, ge=1, le=MOST_DAYS)
    seconds_days: int | None = Field(None, ge=1, le=MOST_DAYS)
    runs_days: int | None = Field(None, ge=1, le=MOST_DAYS)

    @property
    def told(self) -> tuple[int | None, int | None, int | None]:
        return self.requests_days, self.seconds_days, self.runs_days


class Going(Schema):
    """Of how many runs the requests, the seconds, and everything is to go within the hour."""

    requests: int
    seconds: int
    runs: int


class Dates(Schema):
    """When a run's requests, its seconds and the run itself go, or went; null: they stay."""

    requests: datetime | None
    seconds: datetime | None
    run: datetime | None


def of(system: System) -> Keeping:
    return Keeping(
        requests_days=system.keep_requests_days, seconds_days=system.keep_seconds_days, runs_days=system.keep_runs_days
    )


@act("changed how long runs are kept of", Role.ADMINISTRATOR)
def change(account: Account, system: System, keeping: Keeping) -> None:
    """Keep the runs of a system so long from now on; what is older goes within the hour."""
    requests, seconds, runs = (MOST_DAYS + 1 if days is None else days for days in keeping.told)
    if requests > seconds:
        raise Conflict("Requests cannot outlast the seconds they are of: keep them for a shorter time first.")
    if seconds > runs:
        raise Conflict("Seconds cannot outlast the run they are of: keep them for a shorter time first.")
    account.about("system", system.pk, system.name)
    account.changed(of(system).model_dump(), keeping.model_dump())
    system.keep_requests_days, system.keep_seconds_days, system.keep_runs_days = keeping.told
    system.save(update_fields=["keep_requests_days", "keep_seconds_days", "keep_runs_days"])


def going(system: System) -> Going:
    """What is to go of a system's runs now."""
    return Going(
        requests=_past(system, system.keep_requests_days).filter(requests_gone_at=None).count(),
        seconds=_past(system, system.keep_seconds_days).filter(seconds_gone_at=None).count(),
        runs=_past(system, system.keep_runs_days).count(),
    )


def dates(run: Run) -> Dates:
    """When what of a run goes, or went."""
    keeping = None if run.kept or run.system is None or run.ended_at is None else of(run.system)

    def after(days: int | None) -> datetime | None:
        return None if days is None or run.ended_at is None else run.ended_at + timedelta(days=days)

    requests, seconds, whole = map(after, keeping.told if keeping else (None, None, None))
    return Dates(requests=run.requests_gone_at or requests, seconds=run.seconds_gone_at or seconds, run=whole)


def sweep() -> None:
    """Let go of what is past its time. Whole runs can be had back for a day, as those that people delete."""
    for system in System.objects.exclude(keep_requests_days=None, keep_seconds_days=None, keep_runs_days=None):
        for run in _past(system, system.keep_runs_days):
            rules.delete(Actor.itself(rules.PAST_ITS_TIME), run)
        for run in _past(system, system.keep_requests_days).filter(requests_gone_at=None):
            _drop_requests(run)
        for run in _past(system, system.keep_seconds_days).filter(seconds_gone_at=None):
            _drop_seconds(run)


def _past(system: System, days: int | None) -> RunQuerySet:
    """Its ended runs that are past so many days and shall not be kept."""
    if days is None:
        return Run.objects.none()
    return Run.objects.there().filter(system=system, kept=False, ended_at__lt=timezone.now() - timedelta(days=days))


@transaction.atomic
def _drop_requests(run: Run) -> None:
    RecordBundle.objects.filter(run=run).delete()
    KeptRequest.objects.filter(run=run).delete()
    Trace.objects.filter(run=run).delete()
    GeneratorSecond.objects.filter(generator__run=run, bundled=True).delete()
    search.forget(run)
    exports.forget(run)
    Run.objects.filter(pk=run.pk).update(requests_gone_at=timezone.now())


@transaction.atomic
def _drop_seconds(run: Run) -> None:
    for model in (RunSecond, MeterSecond, MeterScrape, MeterSeries, MetricsFile):
        model._default_manager.filter(run=run).delete()
    Run.objects.filter(pk=run.pk).update(seconds_gone_at=timezone.now())
