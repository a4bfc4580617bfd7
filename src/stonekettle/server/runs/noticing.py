"""Notices of a run under way: conditions on its last seconds, kept as they begin and end."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from ninja import Schema

from stonekettle.core import histogram
from stonekettle.core.histogram import EDGES_US
from stonekettle.core.notices import Condition, Notice
from stonekettle.core.types import FloatArray
from stonekettle.engine.lifecycle import RunState
from stonekettle.engine.rollup import LOW, unpack_histograms
from stonekettle.engine.strategies import PLAN
from stonekettle.plan import document
from stonekettle.plan.differences import stop_text
from stonekettle.plan.models import Plan, StopRule
from stonekettle.report.notes.comfort import objective_text
from stonekettle.report.notices import row, text
from stonekettle.server.runs import metering
from stonekettle.server.runs.beside import Beside
from stonekettle.server.runs.models import MeterSecond, Run, RunNotice, RunSecond
from stonekettle.server.runs.unusual import Unusual

OBJECTIVE_S, LOAD_S = 30, 10
MISSING, BLURRED, NEAR = 0.02, 0.05, 0.8
"""What is worth a look: a share of the load missing, of the users late, of a stop rule's limit."""
LATE_S = 2
"""So many of the newest seconds may not be complete yet."""
OLD_S = 15
"""What was heard before so many seconds is not *the last seconds* any more."""
WORSE_S = 5
"""What goes on and is only worse is told anew so often: each telling lets every page that watches read the run."""
MOST = 200


class NoticeLine(Schema):
    """Something that deserves a look: from ``at_s`` on, to ``until_s`` (None: it still holds, or was a moment), to be
    seen in this ``row`` of the plate."""

    kind: str
    text: str
    at_s: float
    until_s: float | None
    row: str


def lines_of(run: Run) -> list[NoticeLine]:
    """All notices of a run, the newest first: conditions, what its plan did, and what its meters showed."""
    found = [
        NoticeLine(kind=one.kind, text=one.text, at_s=one.at_s, until_s=one.until_s, row=one.row)
        for one in run.notices.all()
    ]
    found += [
        NoticeLine(kind="plan", text=note.text, at_s=note.at_s, until_s=None, row="load")
        for note in run.notes.filter(who=PLAN)
    ]
    shown = MeterSecond.objects.filter(run=run, every=1).exclude(events=[]).values_list("events", flat=True)
    found += [
        NoticeLine(
            kind=event["kind"],
            text=metering.event_text(event),
            at_s=event["second"],
            until_s=event["until"],
            row=f"resource:{event['component']}",
        )
        for events in shown
        for event in events
    ]
    return sorted(found, key=lambda one: -one.at_s)[:MOST]


class StandingLine(Schema):
    """How an objective or a stop rule stands by the last seconds: the share that misses it against the ``limit`` of
    that, or how much of its limit a rule has reached, against 1. ``value`` is None where too little is known."""

    kind: str
    text: str
    value: float | None
    limit: float


class Standing(Schema):
    """How they all stood once the second ``at_s`` had been heard."""

    at_s: int
    lines: list[StandingLine]


def standing(run: Run, seconds: int) -> list[StandingLine]:
    """How objectives and stop rules stand now, of a run under load that has told so many seconds. Nothing, where
    what was heard last is too old to say so."""
    if run.run_state is not RunState.RUNNING or run.stands is None:
        return []
    found = Standing.model_validate(run.stands)
    return found.lines if seconds - found.at_s <= OLD_S else []


@dataclass
class _Second:
    """One second as conditions ask for it."""

    second: int
    figures: FloatArray
    times: FloatArray


class Conditions:
    """The conditions of a plan, each with how a second bears on it."""

    def __init__(self, run: Run) -> None:
        self._run, self._layout = run, run.layout
        self._selections = {one.id: number for number, one in enumerate(self._layout.selections)}
        plan = run.plan
        self._goals = self._objectives(plan)
        self._order = Condition("order", "", MISSING, LOAD_S)
        self._blur = Condition("blur", "", BLURRED, LOAD_S)
        self._rules = [
            (rule, Condition("stop rule", stop_text(rule), NEAR, max(1, round(rule.during)))) for rule in plan.stop_when
        ]

    @property
    def all(self) -> list[Condition]:
        return [*(one for *_, one in self._goals), self._order, self._blur, *(one for _, one in self._rules)]

    @property
    def standing(self) -> list[StandingLine]:
        """How objectives and stop rules stand."""
        return [
            StandingLine(
                kind=one.kind,
                text=one.subject if one.kind != "errors" else f"errors of {one.subject}",
                value=one.value,
                limit=1.0 if one.kind == "stop rule" else one.limit,
            )
            for one in (*(one for *_, one in self._goals), *(one for _, one in self._rules))
        ]

    def hear(self, second: int, packed: bytes, histograms: bytes) -> None:
        """Another second; what its resources did is asked of :meth:`hear_resources`."""
        told = unpack_histograms(histograms)
        cells = [cell for cell in told if cell < LOW]
        times = histogram.decode_rows([told[cell] for cell in cells], cells, len(self._layout.cells))
        one = _Second(second, self._layout.table([packed])[0], times)
        for number, limit_s, condition in self._goals:
            condition.hear(second, *self._missed(one, number, limit_s))
        self._hear_load(one)
        for rule, condition in self._rules:
            if rule.resource is None:
                condition.hear(second, *self._near(one, rule))

    def hear_resources(self, busy: dict[str, FloatArray], second: int) -> None:
        """How busy resources have been lately, up to this second, where stop rules ask."""
        for rule, condition in self._rules:
            series = busy.get(rule.resource or "")
            known = series[np.isfinite(series)] if series is not None else None
            if known is not None and known.size and rule.utilisation:
                condition.hear(second, float(known[-1]), rule.utilisation)

    @property
    def resources(self) -> list[str]:
        return [rule.resource for rule, _ in self._rules if rule.resource is not None]

    def _objectives(self, plan: Plan) -> list[tuple[int, float | None, Condition]]:
        """Those on percentiles and errors: the selection's number, the time limit (None: errors), the condition."""
        ids = self._layout.step_ids
        found: list[tuple[int, float | None, Condition]] = []
        for goal in document.core_objectives(plan):
            journey, step = plan.steps[goal.steps[0]] if goal.steps else (None, None)
            of = ids.get((journey.name, step.name), "all") if journey and step else "all"
            subject = objective_text(goal, plan)
            if goal.kind == "response":
                allowed = 1 - goal.percent / 100
                condition = Condition("objective", subject, allowed, OBJECTIVE_S, counted=True)
                found.append((self._selections[of], goal.limit, condition))
            elif goal.kind == "errors":
                name = step.name if step else "all steps"
                condition = Condition("errors", name, goal.limit, OBJECTIVE_S, counted=True)
                found.append((self._selections[of], None, condition))
        return found

    def _missed(self, one: _Second, selection: int, limit_s: float | None) -> tuple[float, float]:
        done = float(one.figures[self._layout.requests(selection, "completed")])
        failed = float(one.figures[self._layout.requests(selection, "errors")])
        if limit_s is None:
            return failed, done
        counts = one.times[list(self._layout.selections[selection].cells)].sum(axis=0)
        slow = float(counts[EDGES_US[:-1] >= limit_s * 1e6].sum())
        return slow, float(counts.sum())

    def _hear_load(self, one: _Second) -> None:
        load = {name: float(one.figures[self._layout.load(name)]) for name in ("ordered", "users", "overdue", "blind")}
        short = load["ordered"] - load["users"]
        # One user more or less is rounding.
        self._order.hear(one.second, short if short > 1 else 0.0, load["ordered"])
        self._blur.hear(one.second, load["overdue"] + load["blind"], load["users"])

    def _near(self, one: _Second, rule: StopRule) -> tuple[float, float]:
        """A second's part in what a rule watches, as a share of its limit."""
        if rule.blur is not None:
            users = float(one.figures[self._layout.load("users")])
            late = sum(float(one.figures[self._layout.load(name)]) for name in ("overdue", "blind"))
            return late / rule.blur if rule.blur else 0.0, users
        numbers = [
            number for key, number in self._selections.items() if rule.step and self._named(key) == rule.step
        ] or [0]

        def total(name: str) -> float:
            return sum(float(one.figures[self._layout.requests(number, name)]) for number in numbers)

        done, failed = total("completed"), total("errors")
        if rule.errors is not None:
            return failed / rule.errors if rule.errors else 0.0, done
        return total("response_sum_s") / (rule.response or 1.0), done - failed

    def _named(self, key: str) -> str:
        return self._layout.selections[self._selections[key]].name if key.startswith("step:") else ""


class Noticing(Beside):
    """Hears each second once it is complete, and keeps what conditions begin and end."""

    every_s = 1.0
    share = 0.05
    about = "the notices"

    def __init__(self, run_id: int) -> None:
        super().__init__(run_id)
        self._conditions: Conditions | None = None
        self._unusual: Unusual | None = None
        self._to = -1
        self._kept: dict[tuple[str, str, int], tuple[Notice, int]] = {}
        """Each notice as it was kept last, and the second heard then."""

    def look(self) -> None:
        run = Run.objects.get(pk=self.run_id)
        if run.begun_at is None:
            return
        self._conditions = self._conditions or Conditions(run)
        rows = RunSecond.objects.filter(run=run, every=1, second__gt=self._to).order_by("second")
        heard = list(rows.values_list("second", "figures", "histograms"))[:-LATE_S]
        for second, figures, histograms in heard:
            self._conditions.hear(second, bytes(figures), bytes(histograms))
            self._to = second
        if heard and self._conditions.resources:
            busy = metering.lately(run.pk, self._conditions.resources, LOAD_S)
            for second, _, _ in heard:
                self._conditions.hear_resources(busy, second)
        self._unusual = self._unusual or Unusual(run.layout)
        self._unusual.look(run)
        self._keep(WORSE_S)
        if heard:
            stands = Standing(at_s=self._to, lines=self._conditions.standing)
            Run.objects.filter(pk=self.run_id).update(stands=stands.model_dump(mode="json"))

    def end(self) -> None:
        self._keep(0)

    @property
    def _notices(self) -> list[Notice]:
        found = (
            [notice for condition in self._conditions.all for notice in condition.notices] if self._conditions else []
        )
        return [*found, *(self._unusual.notices if self._unusual else ())]

    def _keep(self, worse_s: int) -> None:
        """Keep what is new since it was kept; what is only worse, once so many seconds have passed."""
        for one in self._notices:
            key = (one.kind, one.subject, one.since_s)
            kept, at = self._kept.get(key, (None, 0))
            if kept == one or (
                kept and replace(kept, value=one.value, limit=one.limit) == one and self._to - at < worse_s
            ):
                continue
            self._kept[key] = one, self._to
            told = {
                "until_s": one.until_s,
                "text": text(one.kind, one.subject, one.value, one.limit, one.where),
                "row": row(one.kind, one.subject),
            }
            RunNotice.objects.update_or_create(
                run_id=self.run_id, kind=one.kind, subject=one.subject, at_s=one.since_s, defaults=told
            )
            Run.objects.goes_on(self.run_id)
