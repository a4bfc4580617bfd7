"""The conductor with a fleet and a journal made for the test: order of events, and every ending."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence

import pytest

from stonekettle.cli.run import PracticeProcess
from stonekettle.engine.conductor import Ending, FleetStatus, conduct
from stonekettle.engine.lifecycle import RunState, check_move
from stonekettle.engine.local import practice_directory
from stonekettle.meters.samples import Batch, Source
from stonekettle.meters.scraper import EndpointReport
from stonekettle.plan.models import Plan


class MadeFleet:
    """Makes no load; its status is a script over the time since it began."""

    def __init__(self, status: Callable[[float], FleetStatus] | None = None, duration_s: float = 2.0) -> None:
        self.duration_s = duration_s
        self.began: float | None = None
        self.drained_at: float | None = None
        self.prepared = self.closed = False
        self._status = status or self._normal

    def prepare(self, plan: Plan) -> None:
        self.prepared = True

    def begin(self, at: float) -> None:
        self.began = at

    def drain(self) -> None:
        self.drained_at = time.time()

    def status(self) -> FleetStatus:
        return self._status(time.time() - self.began if self.began else 0.0)

    def close(self) -> None:
        self.closed = True

    def _normal(self, elapsed: float) -> FleetStatus:
        ended = elapsed > self.duration_s + 0.2 or self.drained_at is not None
        return FleetStatus(ready=True, finished=bool(self.began) and ended)


class MadeJournal:
    """Remembers everything; refuses illegal moves as the real ones do."""

    def __init__(self, stop_after_s: float | None = None) -> None:
        self.state = RunState.QUEUED
        self.moves: list[tuple[RunState, str]] = []
        self.batches: list[Batch] = []
        self.sources: dict[int, Source] = {}
        self.reports: Sequence[EndpointReport] = ()
        self.trial_requests = 0
        self.begun_at: float | None = None
        self._stop_after_s = stop_after_s

    def move(self, state: RunState, cause: str) -> None:
        check_move(self.state, state)
        self.state = state
        self.moves.append((state, cause))

    def prepared(self, plan: Plan, trial_requests: int) -> None:
        assert "practice://" not in plan.system.base_url
        self.trial_requests = trial_requests

    def begun(self, at: float) -> None:
        self.begun_at = at

    def samples(self, batch: Batch) -> None:
        self.batches.append(batch)
        self.sources.update(batch.new)

    def metered(self, reports: Sequence[EndpointReport]) -> None:
        self.reports = reports

    def stop_wanted(self) -> str | None:
        if self._stop_after_s is None or self.begun_at is None:
            return None
        return "anna" if time.time() - self.begun_at > self._stop_after_s else None

    @property
    def states(self) -> list[str]:
        return [state.value for state, _ in self.moves]


@pytest.fixture(scope="module")
def control() -> Iterator[str]:
    with PracticeProcess() as system:
        yield system.control_url


@pytest.fixture
def lead(control: str, make_plan: Callable[..., Plan]) -> Callable[..., Ending]:
    def run(fleet: MadeFleet, journal: MadeJournal, **changes: object) -> Ending:
        parts: dict[str, object] = {"base": "practice://gateway", "metrics": "practice://ledger/metrics"}
        plan = make_plan(**{**parts, **changes})
        return conduct(plan, fleet, journal, lambda: practice_directory(control))

    return run


Lead = Callable[..., Ending]


def test_a_run_goes_through_its_states_and_meters_every_second(lead: Lead) -> None:
    fleet, journal = MadeFleet(), MadeJournal()
    ending = lead(fleet, journal)
    assert ending == Ending(RunState.FINISHED, "The load profile ran to its end.", True)
    assert journal.states == ["preparing", "running", "draining", "analysing"]
    assert journal.trial_requests == 1
    assert fleet.closed
    assert {batch.scrape for batch in journal.batches} >= {0, 1, 2}
    assert {source.component for source in journal.sources.values()} == {"shop"}
    assert {source.metric for source in journal.sources.values()} >= {"quillport_cpu_seconds", "quillport_queries"}
    (report,) = journal.reports
    assert report.answered >= 3
    assert report.missed == 0


def test_a_planner_can_stop_it(lead: Lead) -> None:
    fleet, journal = MadeFleet(duration_s=60), MadeJournal(stop_after_s=0.5)
    ending = lead(fleet, journal, hold="60 s")
    assert (ending.state, ending.cause) == (RunState.STOPPED, "Stopped by anna.")
    assert fleet.drained_at is not None
    assert journal.states[-2:] == ["draining", "analysing"]


def test_a_lost_generator_fails_it_with_its_data(lead: Lead) -> None:
    def status(elapsed: float) -> FleetStatus:
        return FleetStatus(True, False, "it ended with code -9" if elapsed > 0.5 else None)

    journal = MadeJournal()
    ending = lead(MadeFleet(status), journal)
    assert ending.state == RunState.FAILED
    assert ending.has_data
    assert "A generator was lost at" in ending.cause
    assert "code -9" in ending.cause
    assert journal.states[-1] == "analysing"


def test_a_generator_that_cannot_start_fails_it_before_load(lead: Lead) -> None:
    journal = MadeJournal()
    ending = lead(MadeFleet(lambda _: FleetStatus(False, False, "no room")), journal)
    assert (ending.state, ending.has_data) == (RunState.FAILED, False)
    assert "could not start: no room" in ending.cause
    assert journal.states == ["preparing"]


def test_generators_that_end_too_early_fail_it(lead: Lead) -> None:
    ending = lead(MadeFleet(lambda elapsed: FleetStatus(True, elapsed > 0.3)), MadeJournal(), hold="60 s")
    assert ending.state == RunState.FAILED
    assert "ended before the load profile did" in ending.cause


@pytest.mark.parametrize(
    ("changes", "part"),
    [
        ({"base": "http://127.0.0.1:9"}, "nothing answers at http://127.0.0.1:9"),
        ({"base": "http://10.0.0.9"}, "not an allowed target"),
        ({"metrics": "http://127.0.0.1:9/metrics"}, "meter of shop"),
        ({"metrics": "practice://cellar/metrics"}, "not in the practice system"),
    ],
)
def test_what_stands_in_the_way_is_told_before_any_load(lead: Lead, changes: dict[str, object], part: str) -> None:
    fleet, journal = MadeFleet(), MadeJournal()
    ending = lead(fleet, journal, **changes)
    assert ending.state == RunState.FAILED
    assert part in ending.cause
    assert not fleet.prepared
    assert not ending.has_data


def test_without_a_practice_system_there_is_no_directory() -> None:
    assert practice_directory(None) == {}
    assert practice_directory("http://127.0.0.1:9") == {}
