"""Whole runs in virtual time: whatever is ordered and whoever is lost, the load is what the record says."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from stonekettle.engine import signals
from stonekettle.engine.lead import Lead
from stonekettle.engine.lifecycle import RunState
from stonekettle.engine.script import GroupTerms
from stonekettle.engine.signals import Verb, Wish
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from tests.engine.virtual import World, steady

NOTICED_S = 4.5
SETTLED_S = NOTICED_S + 1.5
"""Until a loss is noticed, others told and at work."""


def plan_of(*segments: dict[str, Any], rows: int = 0, take: str = "in order", **more: Any) -> Plan:
    feed = {"name": "rows", "make": {"rows": rows, "columns": [{"name": "row", "sequence": {}}]}}
    load = {} if "groups" in more else {"load": list(segments)}
    return document.from_document(
        {
            "name": "virtual",
            "system": {"name": "s", "base_url": "http://127.0.0.1:1"},
            "journeys": [
                {"name": "look", "weight": 2, "steps": [step("a"), step("b")]},
                {"name": "buy", "steps": [step("c")]},
            ],
            "feeds": [{**feed, "take": take, "end": "retire"}] if rows else [],
            **load,
            **more,
        }
    )


def step(name: str) -> dict[str, Any]:
    return {"name": name, "request": f"GET /{name}", "think": "exponential 0.4 s"}


def hold(users: int, seconds: float) -> dict[str, Any]:
    return {"hold": {"users": users, "for": f"{seconds:g} s"}}


def ramp(start: int, end: int, seconds: float) -> dict[str, Any]:
    return {"ramp": {"from": start, "to": end, "over": f"{seconds:g} s"}}


SEGMENTS = st.lists(
    st.one_of(
        st.builds(hold, st.integers(0, 40), st.integers(1, 8)),
        st.builds(ramp, st.integers(0, 40), st.integers(0, 40), st.integers(1, 8)),
    ),
    min_size=1,
    max_size=5,
).filter(
    lambda parts: any(max(v for k, v in next(iter(p.values())).items() if k != "for" and k != "over") for p in parts)
)
WISHES = st.lists(
    st.tuples(
        st.floats(0, 25),
        st.one_of(
            st.builds(Wish, st.sampled_from([Verb.HOLD, Verb.PAUSE, Verb.RESUME]), st.just("anna")),
            st.builds(
                Wish,
                st.sampled_from([Verb.RAISE, Verb.LOWER]),
                st.just("anna"),
                amount=st.integers(0, 60).map(float),
                over_s=st.sampled_from([0.0, 3.0]),
            ),
        ),
    ),
    max_size=6,
).map(lambda wishes: [*wishes, (40.0, Wish(Verb.LET_GO, "anna"))])
FEW = settings(max_examples=25, deadline=None, suppress_health_check=[HealthCheck.too_slow])


@FEW
@given(SEGMENTS, WISHES, st.integers(1, 4), st.integers(1, 999))
def test_any_profile_and_any_orders_are_followed_exactly(
    segments: list[dict[str, Any]], wishes: list[tuple[float, Wish]], generators: int, seed: int
) -> None:
    world = World(plan_of(*segments), generators=generators, wishes=wishes, seed=seed).play()
    assert world.end == signals.End(RunState.FINISHED, world.end.cause, True) if world.end else False
    for t, present in steady(world, []):
        assert present == world.ordered(t), f"at {t:.2f} s"
    assert not world.active


@FEW
@given(
    SEGMENTS,
    WISHES,
    st.lists(st.tuples(st.floats(0, 25), st.integers(0, 5)), max_size=3),
    st.lists(st.floats(0, 25), max_size=2),
    st.integers(1, 999),
)
def test_whoever_is_lost_or_joins_others_make_up_for_it(
    segments: list[dict[str, Any]],
    wishes: list[tuple[float, Wish]],
    losses: list[tuple[float, int]],
    joins: list[float],
    seed: int,
) -> None:
    world = World(plan_of(*segments), generators=3, wishes=wishes, losses=losses, joins=joins, seed=seed).play()
    lost = [at for at, _ in losses]
    for t, present in steady(world, []):
        if not any(0 <= t - at < SETTLED_S for at in lost):
            assert present == world.ordered(t), f"at {t:.2f} s"


@FEW
@given(
    SEGMENTS,
    st.integers(1, 120),
    st.sampled_from(["in order", "one per user"]),
    st.lists(st.tuples(st.floats(0, 20), st.integers(0, 5)), max_size=2),
    st.integers(1, 999),
)
def test_rows_that_are_used_up_are_used_once_and_all_of_them(
    segments: list[dict[str, Any]], rows: int, take: str, losses: list[tuple[float, int]], seed: int
) -> None:
    plan = plan_of(*segments, hold(30, 10), rows=rows, take=take)
    world = World(plan, generators=3, losses=losses, seed=seed).play()
    if take == "in order":
        assert len(set(world.rows)) == len(world.rows) <= rows
        if not losses and rows < 60:
            assert sum(g.population.dealer.stocks["rows"].taken for g in world.generators) == rows
    else:
        for t, present in steady(world, []):
            if not losses:
                assert present == min(world.ordered(t), rows), f"at {t:.2f} s"


@settings(max_examples=10, deadline=None)
@given(SEGMENTS, WISHES, st.lists(st.tuples(st.floats(0, 25), st.integers(0, 5)), max_size=2), st.integers(1, 999))
def test_the_same_seed_gives_the_same_run(
    segments: list[dict[str, Any]], wishes: list[tuple[float, Wish]], losses: list[tuple[float, int]], seed: int
) -> None:
    first, second = (
        World(plan_of(*segments), generators=2, wishes=list(wishes), losses=list(losses), seed=seed).play()
        for _ in range(2)
    )
    assert first.log == second.log
    assert first.present == second.present


def test_a_run_ends_where_it_meets_a_ceiling_of_its_target() -> None:
    world = World(plan_of(hold(6, 10), hold(20, 30)), share=5).play()
    cause = "The ceiling of the shop was reached: 5 users, at 11 s. No more load may go there."
    assert world.end == signals.End(RunState.STOPPED, cause, True)
    assert max(present for _, present in world.present) == 10
    assert world.lead.course.orders.duration_s < 13


def test_from_100_to_260_users_in_20_s_nobody_starts_anew() -> None:
    raised = (10.0, Wish(Verb.RAISE, "anna", amount=260.0, over_s=20.0))
    plan = plan_of(hold(100, 60))
    world = World(plan, wishes=[raised, (45.0, Wish(Verb.RESUME, "anna"))]).play()
    orders = world.lead.course.orders
    assert [orders.amount("everyone", t) for t in (10.0, 40.0)] == [100, 260]
    for second in range(1, 44):
        delivered = sum(float(g.seconds[second]["users"]) for g in world.generators)  # type: ignore[arg-type]
        ordered = sum(orders.amount("everyone", second + i / 100) for i in range(100)) / 100
        assert delivered == pytest.approx(ordered, rel=0.01), f"second {second}"
    assert len(world.owners) == 260


def test_a_pause_stops_everybody_and_the_profiles_clock_and_no_crowd_wakes() -> None:
    pause, resume = (10.0, Wish(Verb.PAUSE, "anna", "the cache is cold")), (20.0, Wish(Verb.RESUME, "anna"))
    world = World(plan_of(hold(40, 15), hold(80, 5)), wishes=[pause, resume]).play()
    starts = [sum(sum(g.seconds[s]["started"]) for g in world.generators) for s in range(30)]  # type: ignore[misc]
    assert all(n == 0 for n in starts[11:20]), "users finish their step and wait"
    assert all(float(g.seconds[s]["overdue"]) == 0 for g in world.generators for s in range(11, 20))  # type: ignore[arg-type]
    before, after = sum(starts[4:10]) / 6, sum(starts[21:25]) / 4
    assert after == pytest.approx(before, rel=0.35)
    assert max(starts[20:22]) < 1.6 * before
    assert world.lead.course.orders.duration_s == pytest.approx(30.0, abs=0.1)
    assert [level.users for level in world.lead.course.orders.levels()] == [40, 40, 80]
    notes = [action.text for _, action in world.actions if isinstance(action, signals.Note)]
    assert notes[0] == "Paused: users finish their step and wait. the cache is cold"


@pytest.mark.parametrize(
    ("wish", "state", "cause"),
    [
        (Wish(Verb.STOP, "anna"), RunState.STOPPED, "Stopped by anna."),
        (Wish(Verb.LET_GO, "anna"), RunState.FINISHED, "Everybody was let go by anna at 5 s."),
    ],
)
def test_a_run_is_ended_by_who_wants_it(wish: Wish, state: RunState, cause: str) -> None:
    world = World(plan_of(hold(10, 60)), wishes=[(4.9, wish)]).play()
    assert world.end == signals.End(state, cause, True)
    assert world.lead.course.orders.duration_s < 6


@pytest.mark.parametrize(
    ("wishes", "part"),
    [
        ([Wish(Verb.RESUME, "a")], "nothing to resume: the load follows its profile"),
        ([Wish(Verb.RAISE, "a", amount=5.0)], "The load is 20 then; 5 does not raise it."),
        ([Wish(Verb.RAISE, "a", amount=9e9)], "carry 5000 users at most"),
        ([Wish(Verb.RAISE, "a")], "Say to how much"),
        ([Wish(Verb.RAISE, "a", amount=30.0, group="nobody")], "There is no group 'nobody'; there are everyone."),
        ([Wish(Verb.PAUSE, "a"), Wish(Verb.LOWER, "a", amount=1.0)], "nothing to lower: it is paused"),
        ([Wish(Verb.STOP, "a"), Wish(Verb.HOLD, "a")], "The load is ending already."),
    ],
)
def test_what_cannot_be_done_is_refused_with_its_reason(wishes: list[Wish], part: str) -> None:
    told = [(2.0 + i / 10, wish) for i, wish in enumerate(wishes)]
    if wishes[0].verb is Verb.PAUSE:
        told.append((8.0, Wish(Verb.STOP, "a")))
    world = World(plan_of(hold(20, 5)), wishes=told).play()
    refused = [action.text for _, action in world.actions if isinstance(action, signals.Answer) and not action.accepted]
    assert len(refused) == 1
    assert part in refused[0]


def test_a_run_can_go_on_with_less_or_end_when_a_generator_is_lost() -> None:
    plan = plan_of(hold(30, 20), hold(60, 10))
    less = World(plan, generators=3, losses=[(5.0, 1)], when_lost="go on with less").play()
    orders = less.lead.course.orders
    assert [orders.amount("everyone", t) for t in (4.0, 12.0, 25.0)] == [30, 20, 40]
    assert all(n == less.ordered(t) for t, n in steady(less, []) if not 0 <= t - 5 < SETTLED_S)
    ended = World(plan, generators=3, losses=[(5.0, 1)], when_lost="end").play()
    assert ended.end is not None
    assert ended.end.state == RunState.FAILED
    assert "The generator g1 was lost at" in ended.end.cause


def test_people_who_do_so_many_journeys_each_end_the_run_when_all_are_done() -> None:
    users = [{"hold": {"users": 12, "for": "300 s"}}]
    plan = plan_of(groups=[{"name": "few", "users": users, "journeys_each": 3}])
    world = World(plan).play()
    assert world.end is not None
    assert world.end.state == RunState.FINISHED
    assert world.end.cause.startswith("Everybody has done all their journeys at ")
    begun = sum(1 for _, _, step in world.log if step in (0, 2))
    assert begun == 36


def test_who_may_finish_the_journey_does() -> None:
    users = [{"hold": {"users": 30, "for": "6 s"}}, {"hold": {"users": 2, "for": "6 s"}}]
    for leave, whole in (("after the journey", True), ("after the step", False)):
        plan = plan_of(groups=[{"name": "g", "users": users, "leave": leave, "mix": {"look": 1}}])
        log = World(plan).play().log
        assert (sum(s == 0 for _, _, s in log) == sum(s == 1 for _, _, s in log)) == whole


def test_fixed_counts_do_their_journey_and_no_other() -> None:
    users = [{"hold": {"users": 21, "for": "20 s"}}]
    plan = plan_of(groups=[{"name": "g", "users": users, "mix": {"buy": "4 users", "look": 1}}])
    world = World(plan, generators=3).play()
    buyers = {number for _, number, step in world.log if step == 2}
    others = {number for _, number, step in world.log if step < 2}
    assert len(buyers) == 4
    assert not buyers & others


def test_a_generator_that_is_heard_and_hears_no_orders_is_given_up() -> None:
    world = World(plan_of(hold(10, 5), hold(20, 10)), generators=2)
    deaf = world.generators[1]

    def tell(now: float) -> None:
        for generator in (world.generators[0], deaf):
            number = 1 if generator is deaf else generator.book.newest
            world.send_up(now, signals.Acknowledged(generator.name, number))

    tick = world.tick
    world.tick = lambda now: (tell(now), tick(now))  # type: ignore[method-assign,assignment,func-returns-value]
    world.play()
    given_up = [action for _, action in world.actions if isinstance(action, signals.GiveUp)]
    assert [action.generator for action in given_up] == ["g1"]
    assert given_up[0].why == "it did not confirm order 2 within 4 s"
    assert any(isinstance(action, signals.Replace) for _, action in world.actions)


def test_who_arrives_is_dealt_to_generators_whoever_is_lost() -> None:
    callers = {"name": "callers", "arrivals": [{"hold": {"rate": 30, "for": "30 s"}}], "law": "even", "at_most": 400}
    world = World(plan_of(groups=[callers]), generators=3, losses=[(10.0, 1)]).play()
    came = [0] * 32
    for generator in world.generators:
        for second in generator.seconds:
            came[int(second["second"])] += second["arrived"][0]  # type: ignore[index,call-overload]
    assert came[1:9] == pytest.approx([30] * 8, abs=1)
    assert came[12] == pytest.approx(20, abs=1), "until the loss is noticed"
    assert sum(came[20:29]) == pytest.approx(270, abs=2)


def test_a_run_that_loses_everybody_waits_for_others_and_goes_on() -> None:
    world = World(plan_of(hold(12, 30)), generators=1, losses=[(5.0, 0)], joins=[12.0])
    world.may_lose_all = True
    world.play()
    assert world.end is not None
    assert world.end.state == RunState.FINISHED
    assert world.present[-1][1] == 12
    notes = [action.text for _, action in world.actions if isinstance(action, signals.Note)]
    assert notes[0].endswith("Nobody is left for everyone until another comes.")


def test_a_run_that_nobody_was_left_for_to_its_end_failed() -> None:
    world = World(plan_of(hold(12, 30)), generators=1, losses=[(12.0, 0)])
    world.may_lose_all, world.replaces = True, False
    world.play()
    assert world.end is not None
    assert world.end.state == RunState.FAILED
    assert world.end.has_data
    assert world.end.cause.startswith("The generator g0 was lost at ")
    assert world.end.cause.endswith(". No other came before the end.")


def test_a_run_that_nobody_was_left_for_is_stopped_by_who_stops_it() -> None:
    world = World(plan_of(hold(12, 30)), generators=1, losses=[(5.0, 0)], wishes=[(12.0, Wish(Verb.STOP, "anna"))])
    world.may_lose_all, world.replaces = True, False
    world.play()
    assert world.end == signals.End(RunState.STOPPED, "Stopped by anna.", True)


def test_visits_of_those_who_were_lost_are_begun_anew_and_finished() -> None:
    users = [{"hold": {"users": 12, "for": "300 s"}}]
    plan = plan_of(groups=[{"name": "few", "users": users, "journeys_each": 6, "mix": {"buy": 1}}])
    world = World(plan, losses=[(4.0, 0)]).play()
    assert world.end is not None
    assert world.end.cause.startswith("Everybody has done all their journeys at ")
    whole = [n for n in world.owners if sum(user == n for _, user, _ in world.log) == 6]
    lost = [n for n in whole if world.owners[n] is world.generators[0].stage]
    assert lost, "some had done all before they were lost, and do not count for others"
    assert len(whole) - len(lost) >= 12


def test_people_who_gather_take_turns() -> None:
    """60 people within 30 s, each for 10 s: 20 at a time, every one of them somebody else."""
    world = World(plan_of({"gather": {"users": 60, "within": "30 s", "stay": "10 s"}}), generators=2).play()
    people = {user for _, user, _ in world.log}
    assert 58 <= len(people) <= 66  # a few more where one left a moment before the load fell
    stays = [[t for t, who, _ in world.log if who == user] for user in people]
    assert max(max(times) - min(times) for times in stays) < 13
    for t, present in steady(world, []):
        assert abs(present - world.ordered(t)) <= 1, f"at {t:.2f} s"


def test_load_waits_for_its_time_and_no_longer() -> None:
    lead = Lead(
        plan_of({"hold": {"users": 5, "for": "10 s"}}).planned,
        [GroupTerms("everyone", (1.0, 1.0))],
        wanted={"": 1},
        feeds={},
        room=10,
        not_before=60.0,
    )
    begun = []
    for tick in range(700):
        now = tick / 10
        for action in lead.step(now, [signals.Ready("a")] if tick == 0 else []):
            if isinstance(action, signals.Begin):
                begun.append(now + action.in_s)
    assert begun == [pytest.approx(60.0, abs=0.11)]
