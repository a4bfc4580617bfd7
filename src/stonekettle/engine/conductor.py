"""Leads one run from its plan to the end of load, on one clock.

It does no storage of its own: a :class:`Journal` keeps what happens, a :class:`Fleet` makes the
load. The command line and the server bring their own of each.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

from stonekettle.engine import targets
from stonekettle.engine.errors import EngineError, GeneratorLost, MeterSilent
from stonekettle.engine.generator import DRAIN_LIMIT_S
from stonekettle.engine.lifecycle import RunState
from stonekettle.engine.script import compile_plan
from stonekettle.engine.trial import try_all
from stonekettle.meters.counts import Count, Counts
from stonekettle.meters.endpoint import MeterError
from stonekettle.meters.samples import Batch
from stonekettle.meters.scraper import EndpointReport, Scraper, first_fault
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.plan.problems import PlanError

READY_LIMIT_S = 30.0
LEAD_S = 0.6
"""Time between the order to begin and the beginning, for every generator to hear it."""
LOOK_S = 0.05
SILENCE_AFTER_DRAIN_S = DRAIN_LIMIT_S + 15.0

Directory = Callable[[], Mapping[str, Sequence[str]]]


@dataclass(frozen=True)
class FleetStatus:
    """``lost`` says why a generator is gone though it should be making load."""

    ready: bool
    finished: bool
    lost: str | None = None


class Fleet(Protocol):
    """The generators of a run."""

    def prepare(self, plan: Plan) -> None:
        """Start them, without load."""

    def begin(self, at: float) -> None:
        """Begin the load profile at ``at`` (seconds since the epoch)."""

    def drain(self) -> None:
        """Let users finish their step, then end."""

    def status(self) -> FleetStatus: ...

    def close(self) -> None:
        """End them all, whatever they do."""


class Journal(Protocol):
    """Keeps what happens in a run."""

    def move(self, state: RunState, cause: str) -> None: ...

    def prepared(self, plan: Plan, trial_requests: int) -> None:
        """The plan as it will run, addresses resolved."""

    def begun(self, at: float) -> None: ...

    def samples(self, batch: Batch) -> None:
        """What one round of scrapes read."""

    def metered(self, reports: Sequence[EndpointReport]) -> None:
        """How every metrics address did, once load has ended."""

    def stop_wanted(self) -> str | None:
        """Who wants the run stopped, or None. Called often; also the conductor's sign of life."""


@dataclass(frozen=True)
class Ending:
    """How a run ends once analysed: its last state, and why."""

    state: RunState
    cause: str
    has_data: bool


def conduct(plan: Plan, fleet: Fleet, journal: Journal, directory: Directory) -> Ending:
    """Prepare, run and drain. Every failure becomes an :class:`Ending`, never an exception."""
    scraper: Scraper | None = None
    counts: Counts | None = None
    begun = False
    try:
        journal.move(RunState.PREPARING, "A worker took the run.")
        plan = document.resolved(plan, directory())
        _check_targets(plan)
        scraper = Scraper(plan.system, targets.is_allowed)
        if fault := first_fault(scraper.check()):
            raise MeterSilent(f"{fault}.")
        counts = Counts(plan.journeys, plan.system.base_url, targets.is_allowed)
        trial = try_all(compile_plan(plan), plan.system.base_url)
        journal.prepared(plan, trial.requests)
        fleet.prepare(plan)
        stopper = _wait_until_ready(fleet, journal)
        if stopper:
            return Ending(RunState.STOPPED, f"Stopped by {stopper} before load began.", False)
        before = _counts_before(counts)
        start = time.time() + LEAD_S
        fleet.begin(start)
        journal.begun(start)
        journal.move(RunState.RUNNING, "Meters report, every journey passed its trial.")
        begun = True
        ending = _run(plan, fleet, journal, scraper, _Work(counts, before), start)
    except (EngineError, PlanError) as error:
        ending = Ending(RunState.FAILED, str(error), begun)
    finally:
        fleet.close()
        if scraper is not None:
            if begun:
                journal.metered(scraper.report())
            scraper.close()
        if counts is not None:
            counts.close()
    return ending


@dataclass(frozen=True)
class _Work:
    """What addresses count as work done: asked before load, and again after it."""

    counts: Counts
    before: Sequence[Count]

    def both(self) -> Sequence[Count]:
        """Before and after; nothing where what was done cannot be told."""
        try:
            return (*self.before, *self.counts.read())
        except MeterError:
            return ()


def _counts_before(counts: Counts) -> Sequence[Count]:
    try:
        return counts.read()
    except MeterError as error:
        raise MeterSilent(f"{error}.") from error


def _check_targets(plan: Plan) -> None:
    for error in targets.check_allowed(plan.addresses):
        raise error
    targets.check_reachable("system.base_url", plan.system.base_url)


def _wait_until_ready(fleet: Fleet, journal: Journal) -> str | None:
    """Wait for all generators; who stopped the run meanwhile, if anybody."""
    limit = time.monotonic() + READY_LIMIT_S
    while True:
        status = fleet.status()
        if status.lost:
            raise GeneratorLost(f"A generator could not start: {status.lost}.")
        if status.ready:
            return None
        if stopper := journal.stop_wanted():
            return stopper
        if time.monotonic() > limit:
            raise GeneratorLost(f"No generator was ready within {READY_LIMIT_S:.0f} s.")
        time.sleep(LOOK_S)


def _run(plan: Plan, fleet: Fleet, journal: Journal, scraper: Scraper, work: _Work, start: float) -> Ending:
    """From the beginning of load until the last user has finished."""
    clock_zero = time.monotonic() + start - time.time()
    scraper.start(clock_zero)
    duration = plan.profile.duration_s
    ending: Ending | None = None
    drained_at = 0.0
    # The scrape at k s after the start closes second k - 1; the one at 0 gives counters a base.
    scrape = 0
    while True:
        elapsed = time.monotonic() - clock_zero
        while elapsed >= scrape:
            scraper.request(scrape)
            scrape = max(scrape + 1, int(elapsed))
        for batch in scraper.ready():
            journal.samples(batch)
        status = fleet.status()
        if status.lost:
            cause = f"A generator was lost at {elapsed:.0f} s: {status.lost}."
            journal.move(RunState.ANALYSING, cause)
            return Ending(RunState.FAILED, cause, True)
        if ending is None:
            if stopper := journal.stop_wanted():
                ending = Ending(RunState.STOPPED, f"Stopped by {stopper}.", True)
                fleet.drain()
            elif elapsed >= duration:
                ending = Ending(RunState.FINISHED, "The load profile ran to its end.", True)
            if ending is not None:
                drained_at = elapsed
                journal.move(RunState.DRAINING, ending.cause)
        else:
            journal.stop_wanted()
            if not status.finished and elapsed - drained_at > SILENCE_AFTER_DRAIN_S:
                raise GeneratorLost("A generator did not end after draining.")
        if status.finished:
            if ending is None:
                raise GeneratorLost("The generators ended before the load profile did.")
            break
        time.sleep(LOOK_S)
    # Once more when nobody is left: what the server counted until then belongs to the run.
    scraper.request(scrape)
    for batch in scraper.ready(wait=True):
        journal.samples(batch)
    if counts := work.both():
        journal.samples(scraper.counted(scrape + 1, counts))
    journal.move(RunState.ANALYSING, "All users have finished.")
    return ending
