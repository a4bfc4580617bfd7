"""The lead leads the twin: whole runs, steered, paused, with losses and late joins, analysed as they were driven."""

from __future__ import annotations

from collections.abc import Iterable

import pytest

from stonekettle.core import analysis
from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.core.objectives import Objective
from stonekettle.core.orders import as_planned
from stonekettle.core.run_data import RunData
from stonekettle.core.saturation import Saturation
from stonekettle.engine import signals
from stonekettle.engine.lead import Lead
from stonekettle.engine.lifecycle import RunState
from stonekettle.engine.script import GroupTerms
from stonekettle.engine.signals import End, Heard, Lost, Ready, Verb, Wish
from stonekettle.practice.twin import Twin
from tests.conftest import climb, one_server_system, visits

STEP_S = 0.1
SYSTEM = one_server_system(20, servers=2)
"""Saturates at 100 requests a second: with a second of thinking, at 102 users."""


class Led:
    """A run of the twin under a lead; ``heard`` is told at seconds since load began."""

    def __init__(self, profile: LoadProfile, heard: Iterable[tuple[float, Heard]] = (), when_lost: str = "take over"):
        planned = as_planned(profile)
        lead = Lead(
            planned,
            [GroupTerms("everyone", (1.0,))],
            wanted={"": 2},
            feeds={},
            room=2_000,
            when_lost=when_lost,
        )
        twin = Twin(SYSTEM, visits(1.0), seed=4)
        waiting = sorted(heard, key=lambda pair: pair[0])
        news: list[Heard] = [Ready("a"), Ready("b")]
        self.notes: list[str] = []
        self.end: End | None = None
        zero, now, generators = None, 0.0, {"a", "b"}
        while self.end is None:
            while waiting and zero is not None and now - zero >= waiting[0][0]:
                news.append(waiting.pop(0)[1])
            for item in news:
                if isinstance(item, Lost):
                    generators.discard(item.generator)
                elif isinstance(item, Ready):
                    generators.add(item.generator)
            actions, news = lead.step(now, news), []
            for action in actions:
                if isinstance(action, signals.Begin):
                    zero = now + action.in_s
                elif isinstance(action, signals.Note):
                    self.notes.append(action.text)
                elif isinstance(action, End):
                    self.end = action
                elif isinstance(action, signals.Move) and action.state == RunState.DRAINING:
                    news = [signals.Finished(name) for name in sorted(generators)]
            now += STEP_S
            if zero is not None and now > zero:
                twin.follow(lead.course.orders, now - zero)
        self.ordered = lead.course.orders
        self.run: RunData = twin.collected()

    def found(self) -> Saturation:
        goals = [Objective(1, "response", 0.5, 95.0)]
        point = analysis.analyse(self.run, self.ordered, goals, 0.05).saturation
        assert isinstance(point, Saturation)
        return point


PROFILE = climb(20, 200, 20)


def test_a_run_that_is_left_alone_goes_as_planned() -> None:
    led = Led(PROFILE)
    assert led.end == End(RunState.FINISHED, "The load profile ran to its end.", True)
    assert led.ordered.orders == as_planned(PROFILE).orders
    assert led.found().load is not None


def test_a_run_that_is_paused_held_and_followed_again_finds_the_same_limit() -> None:
    wishes: list[tuple[float, Heard]] = [
        (70.0, Wish(Verb.PAUSE, "anna")),
        (90.0, Wish(Verb.RESUME, "anna")),
        (130.0, Wish(Verb.HOLD, "anna", "something odd")),
        (170.0, Wish(Verb.RESUME, "anna")),
    ]
    plain, led = Led(PROFILE), Led(PROFILE, wishes)
    assert led.ordered.duration_s == pytest.approx(plain.ordered.duration_s + 60, abs=0.5)
    assert len(led.ordered.levels()) >= len(plain.ordered.levels())
    for point in (plain.found(), led.found()):
        assert point.load is not None
        assert point.load.low <= 102 <= point.load.high
    assert led.run.completed[72:89].sum() == 0
    assert [note.split(".")[0] for note in led.notes][:2] == ["Paused: users finish their step and wait", "Goes on"]


def test_a_run_driven_by_hand_is_analysed_as_it_was_driven() -> None:
    steps = [(30.0 * i, Wish(Verb.RAISE, "anna", amount=20.0 * (i + 1), over_s=2.0)) for i in range(1, 10)]
    led = Led(LoadProfile((Segment.hold(20, 1000),)), [*steps, (330.0, Wish(Verb.LET_GO, "anna"))])
    assert led.end is not None
    assert led.end.state == RunState.FINISHED
    assert [round(level.users) for level in led.ordered.levels() if not level.moving] == list(range(20, 201, 20))
    point = led.found()
    assert point.load is not None
    assert point.load.low <= 102 <= point.load.high


def test_losses_and_late_joins_are_told_and_less_load_is_less_load() -> None:
    heard: list[tuple[float, Heard]] = [(40.0, Lost("b", "killed")), (60.0, Ready("c")), (80.0, Lost("a", "killed"))]
    led = Led(PROFILE, heard)
    assert led.ordered.orders == as_planned(PROFILE).orders
    assert [note.partition(" at ")[0] for note in led.notes] == [
        "The generator b was lost",
        "c joined and takes its share.",
        "The generator a was lost",
    ]
    less = Led(PROFILE, heard[:1], when_lost="go on with less")
    assert less.ordered.amount("everyone", 100.0) == as_planned(PROFILE).amount("everyone", 100.0) / 2
    assert less.run.users[95] == pytest.approx(less.ordered.amount("everyone", 95.0))
