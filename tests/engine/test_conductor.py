"""The conductor with a control made for the test: order of events, and every ending."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping, Sequence

import pytest

from stonekettle.cli.run import PracticeProcess
from stonekettle.engine import lead as lead_module
from stonekettle.engine import signals
from stonekettle.engine.allowance import LOOPBACK, Allowance
from stonekettle.engine.conductor import conduct
from stonekettle.engine.errors import Halted
from stonekettle.engine.lifecycle import RunState, check_move
from stonekettle.engine.local import practice_directory
from stonekettle.engine.signals import Action, End, Heard, Verb, Wish
from stonekettle.meters.samples import Batch, Source
from stonekettle.meters.scraper import EndpointReport
from stonekettle.plan.models import Plan


class MadeControl:
    """Makes no load: its only generator is ready at once, and ends when it is ordered to. ``script`` tells what is
    heard beside that, by seconds since load began. Refuses illegal moves as the real ones do."""

    def __init__(self, script: Mapping[float, Heard] | None = None, first: Sequence[Heard] | None = None) -> None:
        self.state = RunState.QUEUED
        self.moves: list[tuple[RunState, str]] = []
        self.actions: list[Action] = []
        self.batches: list[Batch] = []
        self.sources: dict[int, Source] = {}
        self.reports: Sequence[EndpointReport] = ()
        self.trial_requests = 0
        self.is_prepared = self.closed = self.halted = False
        self._begun: float | None = None
        self._ends_at = float("inf")
        self._first = list(first if first is not None else [signals.Ready("local-1")])
        self._script = dict(script or {})

    def check_halt(self) -> None:
        if self.halted:
            raise Halted("All load was halted by anna.")

    def regions(self, plan: Plan) -> Mapping[str, int]:
        return {"": 1}

    def allowance(self, plan: Plan) -> Allowance:
        return LOOPBACK

    def prepared(self, plan: Plan, allowance: Allowance, trial_requests: int) -> None:
        assert "practice://" not in plan.system.base_url
        self.is_prepared, self.trial_requests = True, trial_requests

    def heard(self) -> Sequence[Heard]:
        if self._begun is None:
            found, self._first = self._first, []
            return found
        elapsed = time.monotonic() - self._begun
        if elapsed > self._ends_at + 0.1:
            self._ends_at = float("inf")
            return [signals.Finished("local-1")]
        return [self._script.pop(at) for at in list(self._script) if elapsed > at]

    def do(self, action: Action) -> None:
        self.actions.append(action)
        if isinstance(action, signals.Begin):
            self._begun = time.monotonic() + action.in_s
        elif isinstance(action, signals.Give) and action.order.last:
            self._ends_at = action.order.at_s
        elif isinstance(action, signals.Move):
            check_move(self.state, action.state)
            self.state = action.state
            self.moves.append((action.state, action.cause))

    def samples(self, batch: Batch) -> None:
        self.batches.append(batch)
        self.sources.update(batch.new)

    def metered(self, reports: Sequence[EndpointReport]) -> None:
        self.reports = reports

    def close(self) -> None:
        self.closed = True

    @property
    def states(self) -> list[str]:
        return [state.value for state, _ in self.moves]


@pytest.fixture(scope="module")
def control() -> Iterator[str]:
    with PracticeProcess() as system:
        yield system.control_url


@pytest.fixture
def lead(control: str, make_plan: Callable[..., Plan]) -> Callable[..., End]:
    def run(made: MadeControl, **changes: object) -> End:
        parts: dict[str, object] = {"base": "practice://gateway", "metrics": "practice://ledger/metrics"}
        plan = make_plan(**{**parts, **changes})
        return conduct(plan, made, lambda: practice_directory(control))

    return run


Lead = Callable[..., End]


def test_a_run_goes_through_its_states_and_meters_every_second(lead: Lead) -> None:
    made = MadeControl()
    ending = lead(made)
    assert ending == End(RunState.FINISHED, "The load profile ran to its end.", True)
    assert made.states == ["preparing", "running", "draining", "analysing"]
    assert made.trial_requests == 1
    assert made.closed
    assert {batch.scrape for batch in made.batches} >= {0, 1, 2}
    assert {source.component for source in made.sources.values()} == {"shop"}
    assert {source.metric for source in made.sources.values()} >= {"quillport_cpu_seconds", "quillport_queries"}
    (report,) = made.reports
    assert report.answered >= 3
    assert report.missed == 0


def test_a_planner_can_stop_it(lead: Lead) -> None:
    made = MadeControl({0.5: Wish(Verb.STOP, "anna", key=7)})
    ending = lead(made, hold="60 s")
    assert (ending.state, ending.cause) == (RunState.STOPPED, "Stopped by anna.")
    assert made.states[-2:] == ["draining", "analysing"]
    assert [a.key for a in made.actions if isinstance(a, signals.Answer) and a.accepted] == [7]


def test_a_lost_generator_fails_it_with_its_data_where_no_other_comes(
    lead: Lead, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(lead_module, "DESERTED_LIMIT_S", 0.4)
    made = MadeControl({0.5: signals.Lost("local-1", "it ended with code -9")})
    ending = lead(made)
    assert any(isinstance(action, signals.Replace) for action in made.actions)
    assert ending.cause.endswith("No other came within 0 s.")
    assert ending.state == RunState.FAILED
    assert ending.has_data
    assert "local-1 was lost at" in ending.cause
    assert "code -9" in ending.cause
    assert made.states[-1] == "analysing"


def test_a_generator_that_cannot_start_fails_it_before_load(lead: Lead) -> None:
    made = MadeControl(first=[signals.Lost("local-1", "no room")])
    ending = lead(made)
    assert (ending.state, ending.has_data) == (RunState.FAILED, False)
    assert "could not start: local-1: no room" in ending.cause
    assert made.states == ["preparing"]


def test_a_generator_that_ends_too_early_is_lost(lead: Lead, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(lead_module, "DESERTED_LIMIT_S", 0.4)
    ending = lead(MadeControl({0.3: signals.Finished("local-1")}), hold="60 s")
    assert ending.state == RunState.FAILED
    assert "it ended before the load did" in ending.cause


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
    made = MadeControl()
    ending = lead(made, **changes)
    assert ending.state == RunState.FAILED
    assert part in ending.cause
    assert not made.is_prepared
    assert not ending.has_data


def test_without_a_practice_system_there_is_no_directory() -> None:
    assert practice_directory(None) == {}
    assert practice_directory("http://127.0.0.1:9") == {}


def test_a_halt_keeps_everything_from_being_sent(lead: Lead) -> None:
    made = MadeControl()
    made.halted = True
    assert lead(made) == End(RunState.STOPPED, "All load was halted by anna.", False)
    assert not made.is_prepared
    assert made.closed
