"""Runs: what is asked of them, what happens to them, and who works at them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from django.conf import settings
from django.db import models

from stonekettle.core.orders import Ordered
from stonekettle.engine import orderbook
from stonekettle.engine.lifecycle import ENDED, RunState
from stonekettle.engine.script import layout_of
from stonekettle.engine.seconds import Layout
from stonekettle.engine.signals import Verb
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.server.experiments import outline
from stonekettle.server.experiments.models import Experiment, Revision
from stonekettle.server.sealed import SealedJSONField
from stonekettle.server.systems.models import System

TARGET_LENGTH = 300
STATES = [(state.value, state.value) for state in RunState]


class RunQuerySet(models.QuerySet["Run"]):
    def in_progress(self) -> RunQuerySet:
        return self.exclude(state__in=[state.value for state in ENDED])

    def there(self) -> RunQuerySet:
        """Those that nobody has deleted."""
        return self.filter(deleted_at=None)

    def goes_on(self, run_id: int) -> None:
        """Something happened to a run that its page should hear of."""
        self.filter(pk=run_id).update(story=models.F("story") + 1)

    def of_experiment(self, experiment_id: int) -> RunQuerySet:
        return self.filter(revision__experiment_id=experiment_id)

    def standing(self) -> RunQuerySet:
        """Those that are comparable over time: rehearsals are not."""
        return self.there().filter(models.Q(simulated=False) | models.Q(seeded=True))


class Run(models.Model):
    """One execution of an experiment's revision.

    ``plan`` is the plan as it ran, addresses resolved; ``target`` says what it loads, ``allowance`` where its
    load may go (:class:`engine.allowance.Allowance`; None before it was decided). ``begins_at`` is when its load
    shall begin, where a time was set, ``again`` how many runs of the same follow once it has finished, ``turn`` whose
    turn it is where candidates take turns; ``begun_at``
    the start of load in seconds since the epoch: second 0 of everything measured. ``conductor_seen_at`` is the
    leading worker's sign of life. ``result`` is the document of the findings, None before analysis; where people
    have set seconds aside, ``whole_result`` is that of all of them. ``simulated``
    ones were played in virtual time, not measured. A deleted one is gone a day later. One that is ``kept`` stays
    however long its system keeps runs; of others requests and seconds may be gone. ``seeded`` ones were played by
    the practice twin before they came with the product. ``against`` is what the
    comparison with the baseline said when it ended, ``remark`` what people note of it; one that is ``left_out`` of the
    history is so for the reason given.
    ``meter_reports`` tells how every metrics address has done. ``sequence`` rises with everything written of its
    seconds; ``meter_columns`` names the values of its :class:`MeterSecond` rows. ``course`` is where its load stands
    (:meth:`engine.course.Course.standing`), from its beginning on, ``living`` what is known of it so far,
    ``stands`` how its objectives and stop rules do by the last seconds (:class:`noticing.Standing`);
    ``story`` rises with whatever happens to it beside its measurements; traces of it are held whose chance is below
    ``traced_below``.
    """

    revision = models.ForeignKey(Revision, models.CASCADE, related_name="runs")
    system = models.ForeignKey(System, models.SET_NULL, null=True, related_name="runs")
    state = models.CharField(max_length=12, choices=STATES, default=RunState.QUEUED.value)
    cause = models.TextField(default="")
    plan_document = SealedJSONField()
    target = models.CharField(max_length=TARGET_LENGTH, default="", db_index=True)
    allowance: models.JSONField[Any, Any] = models.JSONField(null=True)
    trial_requests = models.PositiveIntegerField(default=0)
    requested_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True)
    queued_at = models.DateTimeField(auto_now_add=True)
    begins_at = models.DateTimeField(null=True)
    again = models.PositiveSmallIntegerField(default=0)
    turn = models.CharField(max_length=200, default="")
    begun_at = models.FloatField(null=True)
    ended_at = models.DateTimeField(null=True)
    stop_requested_by = models.CharField(max_length=150, default="")
    conductor_seen_at = models.DateTimeField(null=True)
    verdict = models.TextField(default="")
    simulated = models.BooleanField(default=False)
    seeded = models.BooleanField(default=False)
    against: models.JSONField[Any, Any] = models.JSONField(null=True)
    remark = models.TextField(default="")
    left_out = models.TextField(default="")
    deleted_at = models.DateTimeField(null=True)
    deleted_by = models.CharField(max_length=150, default="")
    kept = models.BooleanField(default=False)
    traced_below = models.FloatField(default=1.0)
    requests_gone_at = models.DateTimeField(null=True)
    seconds_gone_at = models.DateTimeField(null=True)
    result: models.JSONField[Any, Any] = models.JSONField(null=True)
    whole_result: models.JSONField[Any, Any] = models.JSONField(null=True)
    analysis_version = models.PositiveIntegerField(null=True)
    meter_reports: models.JSONField[Any, Any] = models.JSONField(default=list)
    sequence = models.PositiveBigIntegerField(default=0)
    meter_columns: models.JSONField[Any, Any] = models.JSONField(default=dict)
    course: models.JSONField[Any, Any] = models.JSONField(null=True)
    living: models.JSONField[Any, Any] = models.JSONField(null=True)
    stands: models.JSONField[Any, Any] = models.JSONField(null=True)
    story = models.PositiveIntegerField(default=0)

    objects = RunQuerySet.as_manager()

    class Meta:
        ordering = ("-pk",)

    def __str__(self) -> str:
        return f"run {self.pk} of {self.revision}"

    @property
    def rehearsal(self) -> bool:
        return self.simulated and not self.seeded

    @property
    def run_state(self) -> RunState:
        return RunState(self.state)

    @property
    def plan(self) -> Plan:
        """The plan; once load has begun it does not change any more, and is read once."""
        if self.begun_at is None:
            return document.stored(self.plan_document)
        return _frozen_plan(self.pk, self.begun_at)

    @property
    def layout(self) -> Layout:
        """Where the figures of its seconds stand in their rows; read once, as the plan."""
        return layout_of(self.plan) if self.begun_at is None else _frozen_layout(self.pk, self.begun_at)

    @property
    def goals(self) -> Sequence[Goal]:
        """Its response time objectives, read once as the plan."""
        return _goals(self.plan) if self.begun_at is None else _frozen_goals(self.pk, self.begun_at)

    @property
    def ordered(self) -> Ordered:
        """The load that was ordered so far; of a run from before orders were kept, what was planned."""
        told = RunOrder.objects.filter(run=self).values_list("order", flat=True)
        orders = tuple(orderbook.from_plain(order) for order in told)
        return Ordered(orders, self.plan.planned.arrivals) if orders else self.plan.planned

    def seconds_told(self, name: str) -> int:
        """In how many seconds responses told the time spent under this name."""
        return self.seconds.filter(every=1, told__timings__has_key=name).count()


@lru_cache(maxsize=32)
def _frozen_plan(run_id: int, begun_at: float) -> Plan:
    return document.stored(Run.objects.only("plan_document").get(pk=run_id).plan_document)


@dataclass(frozen=True)
class Goal:
    """So many percent of what the selection holds within ``limit_s``."""

    selection: str
    percent: float
    limit_s: float


def _goals(plan: Plan) -> Sequence[Goal]:
    return [
        Goal(of, goal.percent, goal.limit)
        for goal, of in zip(document.core_objectives(plan), outline.goal_selections(plan), strict=True)
        if goal.kind == "response"
    ]


@lru_cache(maxsize=32)
def _frozen_goals(run_id: int, begun_at: float) -> Sequence[Goal]:
    return _goals(_frozen_plan(run_id, begun_at))


@lru_cache(maxsize=32)
def _frozen_layout(run_id: int, begun_at: float) -> Layout:
    return layout_of(_frozen_plan(run_id, begun_at))


class Transition(models.Model):
    """A run became ``state`` at a moment, for a cause."""

    run = models.ForeignKey(Run, models.CASCADE, related_name="transitions")
    state = models.CharField(max_length=12, choices=STATES)
    cause = models.TextField()
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("pk",)

    def __str__(self) -> str:
        return f"run {self.run_id} {self.state}"


class RunOrder(models.Model):
    """An order to all generators of a run, with who wanted it and why."""

    run = models.ForeignKey(Run, models.CASCADE, related_name="orders")
    number = models.PositiveIntegerField()
    order: models.JSONField[Any, Any] = models.JSONField()
    who = models.CharField(max_length=150)
    why = models.TextField(default="")
    given_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = (models.UniqueConstraint(fields=["run", "number"], name="one_order_per_number"),)
        ordering = ("number",)

    def __str__(self) -> str:
        return f"order {self.number} of run {self.run_id}"


class RunWish(models.Model):
    """What somebody asked of a run under way; ``accepted`` is None until its lead has answered."""

    run = models.ForeignKey(Run, models.CASCADE, related_name="wishes")
    verb = models.CharField(max_length=10, choices=[(verb.value, verb.value) for verb in Verb])
    who = models.CharField(max_length=150)
    why = models.TextField(default="")
    group = models.CharField(max_length=80, default="")
    region = models.CharField(max_length=80, default="")
    amount = models.FloatField(null=True)
    over_s = models.FloatField(default=0.0)
    asked_at = models.DateTimeField(auto_now_add=True)
    accepted = models.BooleanField(null=True)
    answer = models.TextField(default="")

    class Meta:
        ordering = ("pk",)

    def __str__(self) -> str:
        return f"{self.verb} run {self.run_id}"

    @property
    def told(self) -> str:
        """What is asked, in words."""
        of = f" {self.group}" if self.group else f" from {self.region}" if self.region else ""
        to = f" to {self.amount:g}" if self.amount is not None else ""
        over = f" over {self.over_s:g} s" if self.over_s else ""
        return f"{self.verb}{of}{to}{over}"


class Baseline(models.Model):
    """The run that an experiment's others are compared with, from ``since`` on; ``until`` is None while it is. Measured
    and seeded runs have one each."""

    experiment = models.ForeignKey(Experiment, models.CASCADE, related_name="baselines")
    run = models.ForeignKey(Run, models.CASCADE, related_name="baselines")
    since = models.DateTimeField()
    until = models.DateTimeField(null=True)
    who = models.CharField(max_length=150)

    class Meta:
        ordering = ("-since", "-pk")

    def __str__(self) -> str:
        return f"run {self.run_id} since {self.since}"


class Schedule(models.Model):
    """When an experiment shall run by itself, as the one who asked for it: ``next_at`` is None once it will no more;
    ``every`` says how often, at the time of day of ``first_at`` by the clock of ``zone``."""

    experiment = models.ForeignKey(Experiment, models.CASCADE, related_name="schedules")
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True)
    first_at = models.DateTimeField()
    next_at = models.DateTimeField(null=True, db_index=True)
    zone = models.CharField(max_length=64)
    every = models.CharField(max_length=10, default="")

    class Meta:
        ordering = ("next_at", "pk")

    def __str__(self) -> str:
        return f"{self.experiment} at {self.next_at}"


class ScheduledStart(models.Model):
    """What became of a time at which a run was to begin: the ``run``, or why there is none as ``told``."""

    schedule = models.ForeignKey(Schedule, models.CASCADE, related_name="starts")
    due_at = models.DateTimeField()
    run = models.ForeignKey(Run, models.SET_NULL, null=True, related_name="+")
    told = models.TextField(default="")

    class Meta:
        ordering = ("-due_at", "-pk")

    def __str__(self) -> str:
        return f"{self.due_at}: {self.told or self.run}"


class RunNote(models.Model):
    """Something that happened in a run's load, ``at_s`` seconds after its start."""

    run = models.ForeignKey(Run, models.CASCADE, related_name="notes")
    at_s = models.FloatField()
    who = models.CharField(max_length=150)
    text = models.TextField()
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("pk",)

    def __str__(self) -> str:
        return f"{self.text} (run {self.run_id})"


class RunMarker(models.Model):
    """Something that somebody says happened, ``at_s`` seconds after the start of a run's load."""

    run = models.ForeignKey(Run, models.CASCADE, related_name="markers")
    at_s = models.FloatField()
    who = models.CharField(max_length=150)
    text = models.TextField()
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("at_s", "pk")

    def __str__(self) -> str:
        return f"{self.text} (run {self.run_id})"


class RunNotice(models.Model):
    """A condition that held in a run from ``at_s`` on, to ``until_s`` (None: it still does)."""

    run = models.ForeignKey(Run, models.CASCADE, related_name="notices")
    kind = models.CharField(max_length=20)
    subject = models.TextField()
    at_s = models.FloatField()
    until_s = models.FloatField(null=True)
    text = models.TextField()
    row = models.TextField()

    class Meta:
        ordering = ("-at_s", "-pk")

    def __str__(self) -> str:
        return f"{self.text} (run {self.run_id})"


class Generator(models.Model):
    """A generator of a run and its sign of life, by the database's clock. ``label`` tells where it runs; ``lease`` is
    what it has been given, ``acknowledged`` the newest order it has."""

    class State(models.TextChoices):
        STARTING = "starting"
        READY = "ready"
        FINISHED = "finished"
        LOST = "lost"

    run = models.ForeignKey(Run, models.CASCADE, related_name="generators")
    name = models.CharField(max_length=40)
    region = models.CharField(max_length=40)
    state = models.CharField(max_length=10, choices=State.choices, default=State.STARTING)
    reason = models.TextField(default="")
    slot = models.PositiveIntegerField(default=0)
    label = models.CharField(max_length=80, default="")
    lease: models.JSONField[Any, Any] = models.JSONField(null=True)
    acknowledged = models.PositiveIntegerField(default=0)
    process_id = models.PositiveIntegerField(null=True)
    clock_offset_s = models.FloatField(default=0.0)
    seen_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = (models.UniqueConstraint(fields=["run", "name"], name="one_generator_per_name"),)

    def __str__(self) -> str:
        return f"{self.name} of run {self.run_id}"


class SetAside(models.Model):
    """Seconds of a run that somebody left out of its findings, from ``from_s`` to before ``until_s``."""

    run = models.ForeignKey(Run, models.CASCADE, related_name="set_aside")
    from_s = models.PositiveIntegerField()
    until_s = models.PositiveIntegerField()
    why = models.CharField(max_length=300)
    who = models.CharField(max_length=150)
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("from_s", "pk")

    def __str__(self) -> str:
        return f"{self.from_s} to {self.until_s} s of run {self.run_id}"
