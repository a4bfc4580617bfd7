"""Conducts one run from its plan to the end of load, on one clock: a thin driver around the lead.

The lead decides (:mod:`lead`); a :class:`Control` reaches the generators and keeps what happens. The command line and
the server bring their own of it, tests one in virtual time.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

from stonekettle.engine import targets
from stonekettle.engine.allowance import Allowance
from stonekettle.engine.driver import room_for
from stonekettle.engine.errors import EngineError, Halted, MeterSilent
from stonekettle.engine.lead import Lead
from stonekettle.engine.lifecycle import RunState
from stonekettle.engine.script import Script, compile_plan, most_users
from stonekettle.engine.searching import searcher_of
from stonekettle.engine.signals import Action, Begin, End, Heard, Move
from stonekettle.engine.stopping import strategies_of
from stonekettle.engine.trial import try_all
from stonekettle.meters.counts import Count, Counts
from stonekettle.meters.endpoint import MeterError
from stonekettle.meters.samples import Batch
from stonekettle.meters.scraper import Discover, EndpointReport, Scraper, first_fault
from stonekettle.plan import document, system_document
from stonekettle.plan.models import Plan
from stonekettle.plan.problems import PlanError

LOOK_S = 0.05
REPORT_S = 5.0

Directory = Callable[[], Mapping[str, Sequence[str]]]


class Control(Protocol):
    """The way to a run's generators and to where its story is kept."""

    def regions(self, plan: Plan) -> Mapping[str, int]:
        """How many generators each region of the plan shall have; the plan's "" is this machine's own."""

    def check_halt(self) -> None:
        """Asked before anything is sent. Raises :class:`Halted` where nothing may be."""

    def allowance(self, plan: Plan) -> Allowance:
        """Where the plan, its addresses resolved, may go: what has to be proven is proven anew. Raises
        :class:`TargetError` where it may not."""

    def prepared(self, plan: Plan, allowance: Allowance, trial_requests: int) -> None:
        """The plan as it will run, addresses resolved: look for its generators, without load."""

    def heard(self) -> Sequence[Heard]:
        """What generators told and people wished since the last call. Called often."""

    def do(self, action: Action) -> None:
        """Do what the lead decided."""

    def samples(self, batch: Batch) -> None:
        """Keep what one round of scrapes read."""

    def metered(self, reports: Sequence[EndpointReport]) -> None:
        """How every metrics address has done so far; told every few seconds, and once load has ended."""

    def close(self) -> None:
        """No generator makes load any more, whatever it does."""


@dataclass(frozen=True)
class Clock:
    """Time, and a way to let it pass."""

    now: Callable[[], float] = time.monotonic
    sleep: Callable[[float], None] = time.sleep


def conduct(plan: Plan, control: Control, directory: Directory, clock: Clock = Clock(), *, wait_s: float = 0.0) -> End:
    """Prepare, run and drain; load does not begin before ``wait_s`` seconds have passed. Every failure becomes an
    :class:`End`, never an exception."""
    meters: _Meters | None = None
    not_before = clock.now() + wait_s
    try:
        taken = "A worker took the run." if wait_s <= 0 else "A worker took the run; its load waits for its time."
        control.do(Move(RunState.PREPARING, taken))
        control.check_halt()
        described = plan.system
        plan = document.resolved(plan, directory())
        allowance = control.allowance(plan)
        _check_targets(plan, allowance)
        meters = _Meters(plan, control, lambda: system_document.resolved(described, directory()), allowance)
        script = compile_plan(plan)
        trial = try_all(script, plan.system.base_url, lambda *_: control.check_halt(), allowance)
        control.prepared(plan, allowance, trial.requests)
        meters.count()
        return _drive(_lead_of(plan, script, control, not_before), control, meters, clock)
    except Halted as error:
        return End(RunState.STOPPED, str(error), False)
    except (EngineError, PlanError) as error:
        return End(RunState.FAILED, str(error), meters is not None and meters.started)
    finally:
        control.close()
        if meters is not None:
            meters.close()


def _drive(lead: Lead, control: Control, meters: _Meters, clock: Clock) -> End:
    """Let the lead step until there is no load any more."""
    while True:
        now = clock.now()
        for action in lead.step(now, control.heard()):
            if isinstance(action, End):
                if action.has_data:
                    meters.last(clock.now())
                return action
            if isinstance(action, Begin):
                meters.start(now + action.in_s)
            control.do(action)
        meters.look(clock.now())
        clock.sleep(LOOK_S)


def _lead_of(plan: Plan, script: Script, control: Control, not_before: float) -> Lead:
    return Lead(
        plan.planned,
        script.groups,
        wanted=dict(control.regions(plan)),
        feeds={feed.name: len(feed) for feed in plan.feeds if feed.is_used_up},
        room=room_for(most_users(plan)),
        when_lost=plan.generators.when_lost,
        strategies=strategies_of(plan),
        guide=searcher_of(plan),
        not_before=not_before,
    )


def _check_targets(plan: Plan, allowance: Allowance) -> None:
    for error in targets.check_allowed(plan.addresses, allowance):
        raise error
    targets.check_reachable("system.base_url", plan.system.base_url, allowance)


class _Meters:
    """The run's meters: scraped each second from its beginning on, and the counts of work done, asked before load and
    after it. Raises :class:`MeterSilent` where one does not report to begin with."""

    def __init__(self, plan: Plan, control: Control, discover: Discover, allowance: Allowance) -> None:
        self._control = control
        self._scraper = Scraper(plan.system, allowance.refusal, discover)
        if fault := first_fault(self._scraper.check()):
            self._scraper.close()
            raise MeterSilent(f"{fault}.")
        self._counts = Counts(plan.journeys, plan.system.base_url, allowance.refusal)
        self._before: Sequence[Count] = ()
        self._zero: float | None = None
        # The scrape at k s after the start closes second k - 1; the one at 0 gives counters a base.
        self._next = 0
        self._told = 0.0

    @property
    def started(self) -> bool:
        return self._zero is not None

    def count(self) -> None:
        try:
            self._before = self._counts.read()
        except MeterError as error:
            raise MeterSilent(f"{error}.") from error

    def start(self, zero: float) -> None:
        """Time 0 of the run is at ``zero`` (monotonic seconds)."""
        self._zero = zero
        self._scraper.start(zero)

    def look(self, now: float) -> None:
        """Ask for what is due, keep what has come."""
        if self._zero is None:
            return
        elapsed = now - self._zero
        while elapsed >= self._next:
            self._scraper.request(self._next)
            self._next = max(self._next + 1, int(elapsed))
        for batch in self._scraper.ready():
            self._control.samples(batch)
        if elapsed >= self._told + REPORT_S:
            self._told = elapsed
            self._control.metered(self._scraper.report())

    def last(self, now: float) -> None:
        """Once more when nobody is left: what the server counted until then belongs to the run."""
        if self._zero is None:
            return
        self._scraper.request(self._next)
        for batch in self._scraper.ready(wait=True):
            self._control.samples(batch)
        try:
            counts = (*self._before, *self._counts.read())
        except MeterError:
            return  # what was done cannot be told
        if counts:
            self._control.samples(self._scraper.counted(self._next + 1, counts))

    def close(self) -> None:
        if self._zero is not None:
            self._control.metered(self._scraper.report())
        self._scraper.close()
        self._counts.close()
