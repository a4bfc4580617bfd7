"""Compiled journeys and the lives of virtual users."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from random import Random

import yaml

from stonekettle.engine.leases import Lease
from stonekettle.engine.lives import Dealer, Wanting, walk
from stonekettle.engine.script import Request, cell_numbers, cells_of, compile_plan, layout_of
from stonekettle.plan import document

PLAN = """
name: Two journeys
system: {name: Shop, base_url: "http://127.0.0.1:1"}
feeds:
  - {name: riders, csv: "rider,stop\\nr-1,Quay Gate\\nr-2,Mill Lane\\n"}
  - {name: zones, csv: "zone\\nA\\nB\\nC\\n"}
journeys:
  - name: look
    weight: 3
    steps:
      - {name: home, request: GET /, think: exponential 1 s}
      - {name: board, request: "GET /board?stop={{stop}}", think: 2 s}
  - name: buy
    weight: 1
    steps:
      - name: order
        request: POST /tickets
        json: {rider: "{{rider}}", zone: "{{zone}}"}
        headers: {X-Rider: "{{rider}}", X-Fixed: yes please}
        expect_status: [200, 201]
load: [{hold: {users: 1, for: 1 s}}]
"""
SCRIPT = compile_plan(document.read(PLAN))
ROW = {"rider": "r-1", "stop": "Quay Gate", "zone": "A"}


def deal(dealer: Dealer) -> tuple[tuple[Request, ...], Mapping[str, str]]:
    dealt = dealer.next(0, 0, 99)
    assert not isinstance(dealt, Wanting)
    return dealt


def test_what_does_not_vary_is_built_beforehand() -> None:
    home = SCRIPT.journeys[0][0]
    assert home.url == "http://127.0.0.1:1/"
    assert home.headers_for({}) is home.headers


def test_values_fill_address_body_and_headers() -> None:
    board, order = SCRIPT.journeys[0][1], SCRIPT.journeys[1][0]
    assert board.url is None
    assert board.url_for(ROW) == "http://127.0.0.1:1/board?stop=Quay%20Gate"
    assert order.body_for(ROW) == b'{"rider": "r-1", "zone": "A"}'
    assert b"X-Rider: r-1" in order.headers_for(ROW)
    assert b"X-Fixed: yes please" in order.headers_for(ROW)
    assert order.expect == {200, 201}


def test_steps_are_numbered_over_all_journeys() -> None:
    assert [request.step for journey in SCRIPT.journeys for request in journey] == [0, 1, 2]
    assert [step for _, step in SCRIPT.step_names] == ["home", "board", "order"]


def test_shorter_feeds_start_over_beside_longer_ones() -> None:
    rows = [SCRIPT.row(number) for number in range(3)]
    assert [(row["rider"], row["zone"]) for row in rows] == [("r-1", "A"), ("r-2", "B"), ("r-1", "C")]


def test_journeys_are_dealt_by_weight() -> None:
    dealer = Dealer(SCRIPT, Random(1))
    names = [deal(dealer)[0][0].step for _ in range(100)]
    assert names.count(0) == 75
    assert names.count(2) == 25


def test_two_generators_share_the_rows() -> None:
    first, second = (Dealer(SCRIPT, Random(1)) for _ in range(2))
    for i, dealer in enumerate((first, second)):
        dealer.hold(Lease(1, 0.0, {"everyone": (i, 2)}, ()))
    assert [deal(first)[1]["zone"] for _ in range(3)] == ["A", "C", "B"]
    assert [deal(second)[1]["zone"] for _ in range(3)] == ["B", "A", "C"]


def fed(**rules: str) -> Dealer:
    """Three riders in a feed with these rules."""
    data = {
        **yaml.safe_load(PLAN),
        "feeds": [{"name": "riders", "csv": "rider,stop,zone\na,x,A\nb,x,A\nc,x,A\n", **rules}],
    }
    dealer = Dealer(compile_plan(document.from_document(data)), Random(1))
    dealer.hold(Lease.alone(["everyone"], {"riders": 3}))
    return dealer


def riders(dealer: Dealer, users: Sequence[int]) -> list[str | None]:
    dealt = [dealer.next(user, 0, 99) for user in users]
    return [None if isinstance(one, Wanting) else one[1]["rider"] for one in dealt]


def test_rows_are_taken_in_order_at_random_or_one_for_each_user() -> None:
    assert riders(fed(), [5, 5, 5, 5]) == ["a", "b", "c", "a"]
    assert riders(fed(take="one per user"), [2, 0, 2, 3]) == ["c", "a", "c", "a"]
    drawn = riders(fed(take="at random"), [0] * 300)
    assert {rider: round(drawn.count(rider) / 100, 0) for rider in "abc"} == {"a": 1, "b": 1, "c": 1}


def test_users_retire_when_their_rows_are_used_up() -> None:
    assert riders(fed(end="retire"), [0, 1, 2, 3]) == ["a", "b", "c", None]
    assert riders(fed(take="one per user", end="retire"), [0, 3, 0]) == ["a", None, "a"]
    life = walk(fed(take="one per user", end="retire"), [lambda: 1.0] * 3, 3)
    assert list(life) == []


def test_a_row_that_may_still_be_leased_is_waited_for() -> None:
    dealer = fed(end="retire")
    dealer.hold(Lease(2, 0.0, {"everyone": (0, 1)}, (), {"riders": ((0, 1, 1),)}, frozenset()))
    life = walk(dealer, [lambda: 1.0] * 3, 0)
    assert next(life) == 1.0
    assert riders(dealer, [1]) == [None]
    waiting = walk(dealer, [lambda: 1.0] * 3, 1)
    assert next(waiting) == 0.05
    dealer.hold(Lease(3, 0.0, {"everyone": (0, 1)}, (), {"riders": ((0, 1, 1), (2, 3, 1))}, frozenset()))
    assert waiting.send(True) == 1.0


def test_a_life_begins_with_a_wait_and_thinks_after_each_step() -> None:
    life = walk(Dealer(SCRIPT, Random(3)), [lambda: 1.0, lambda: 2.0, lambda: 0.0], 0)
    seen: list[object] = [next(life)]
    for _ in range(20):
        action = life.send(True)
        seen.append(action[0].step if isinstance(action, tuple) else action)
    assert isinstance(seen[0], float)
    after = {0: [1.0], 1: [None, 2.0], 2: [None, 0.0]}
    places = [i for i, one in enumerate(seen[:-3]) if isinstance(one, int)]
    assert len(places) >= 6
    assert all(seen[i + 1 : i + 1 + len(after[seen[i]])] == after[seen[i]] for i in places)  # type: ignore[index]


def test_a_failed_step_ends_the_journey() -> None:
    life = walk(Dealer(SCRIPT, Random(3)), [lambda: 1.0, lambda: 2.0, lambda: 0.0], 0)
    next(life)
    steps = []
    for _ in range(20):
        action = life.send(True)
        while not isinstance(action, tuple):
            action = life.send(True)
        assert isinstance(action[0], Request)
        steps.append(action[0].step)
        assert life.send(False) is None, "the journey is over"
    assert 1 not in steps


def test_steps_that_no_group_does_keep_the_numbers_of_the_others() -> None:
    journeys = [
        {"name": name, "steps": [{"name": f"{name} page", "request": f"GET /{name}", "think": "1 s"}]}
        for name in ("a", "b", "c")
    ]
    groups = [
        {"name": name, "mix": mix, "users": [{"hold": {"users": 2, "for": "10 s"}}]}
        for name, mix in (("one", {"a": 1}), ("two", {"a": 1, "c": 2}))
    ]
    system = {"name": "s", "base_url": "http://127.0.0.1:9"}
    objectives = [{"step": "c page", "p95": "1 s"}]
    plan = document.from_document(
        {"name": "p", "system": system, "journeys": journeys, "groups": groups, "objectives": objectives}
    )
    cells = cells_of(plan)
    assert [(cell.step, cell.group) for cell in cells] == [
        ("a page", "one"), ("a page", "two"), ("b page", "one"), ("c page", "two")
    ]  # fmt: skip
    assert cell_numbers(plan).tolist() == [[0, 2, -1], [1, -1, 3]]
    (goal,) = document.core_objectives(plan)
    assert goal.steps is not None
    assert list(layout_of(plan).step_ids)[goal.steps[0]] == ("c", "c page")
