"""A generator's book: orders and leases wait for their moment, and hearing one again changes nothing."""

from __future__ import annotations

import json

import pytest

from stonekettle.core.load_profile import Target
from stonekettle.core.orders import Order
from stonekettle.engine import orderbook
from stonekettle.engine.leases import Counter, Lease, Stock, add, portion, share_of, size_of
from stonekettle.engine.orderbook import OrderBook


def order(number: int, at_s: float) -> Order:
    return Order(number, at_s, {"g": Target(1, 2, 3)})


def test_orders_take_effect_at_their_moment() -> None:
    book = OrderBook()
    assert book.order_at(0.0).paused, "before the first order nobody does anything"
    for one in (order(1, 0), order(2, 10), order(2, 10), order(1, 0)):
        book.hear(one)
    assert [book.order_at(t).number for t in (0, 9.99, 10, 50)] == [1, 1, 2, 2]
    assert book.changes_at == float("inf")


def test_a_newer_order_for_an_earlier_moment_overrides() -> None:
    book = OrderBook()
    for one in (order(1, 0), order(2, 10), order(3, 20), order(4, 8)):
        book.hear(one)
    assert [book.order_at(t).number for t in (0, 8, 25)] == [1, 4, 4]
    book.close(30.0)
    book.hear(order(9, 31))
    assert book.order_at(40).last
    assert book.order_at(40).haste


def test_leases_hold_from_their_moment_on() -> None:
    book = OrderBook()
    book.hear_lease(Lease(1, 2.0, {"g": (0, 1)}, ()))
    book.hear_lease(Lease(2, 5.0, {"g": (0, 2)}, ()))
    book.hear_lease(Lease(1, 0.0, {"g": (9, 9)}, ()))
    assert book.lease_at(1.9) is None
    assert [lease.epoch for t in (2.0, 4.9, 5.0) if (lease := book.lease_at(t))] == [1, 1, 2]


def test_both_survive_the_way_through_json() -> None:
    one = Order(3, 1.5, {"g": Target(1, 2, 3), "h": Target.steady(0.25)}, paused=True, haste=True)
    assert orderbook.from_plain(json.loads(json.dumps(orderbook.to_plain(one)))) == one
    lease = Lease(4, 2.5, {"g": (1, 3)}, ((0, 9, 3), (9, 12, 1)), {"f": ((5, 6, 1),)}, frozenset({"f"}))
    assert Lease.of(json.loads(json.dumps(lease.as_dict()))) == lease


@pytest.mark.parametrize("amount", [0, 1, 7, 100, 99.6])
def test_shares_of_any_amount_add_up(amount: float) -> None:
    for count in (1, 2, 3, 7):
        assert sum(share_of(amount, (i, count)) for i in range(count)) == round(amount)


def test_low_numbers_are_spread_evenly() -> None:
    counter = Counter()
    first = counter.deal([11, 10, 10])
    numbers = [sorted(n for stripe in stripes for n in range(*stripe)) for stripes in first]
    assert [len(part) for part in numbers] == [11, 10, 10]
    assert sorted(sum(numbers, [])) == list(range(31))  # noqa: RUF017
    assert [sum(n < 11 for n in part) for part in numbers] == [4, 4, 3]
    assert counter.deal([0, 0]) == [[], []]


def test_a_stock_gives_each_number_once_while_it_grows() -> None:
    stock = Stock()
    assert stock.empty
    stock.give(((0, 6, 2),))
    assert [stock.take() for _ in range(4)] == [0, 2, 4, None]
    stock.give(((0, 6, 2), (10, 11, 1)))
    assert stock.peek() == 10
    assert [stock.take() for _ in range(2)] == [10, None]
    stock.give(((0, 6, 2), (10, 13, 1)))
    assert [stock.take() for _ in range(3)] == [11, 12, None]
    assert stock.taken == 6


def test_rows_are_given_in_portions_that_run_out_together() -> None:
    left, given = 1_000, []
    while left:
        given.append(portion(left, 3))
        left -= given[-1]
    assert given[:9] == sorted(given[:9], reverse=True)
    assert given[0] < 1_000 / 3
    assert sum(given) == 1_000
    assert portion(5, 3) == 2


def test_what_follows_on_is_one_stripe() -> None:
    assert add(((0, 5, 1),), (5, 9, 1)) == ((0, 9, 1),)
    assert add(((0, 5, 1),), (6, 9, 1)) == ((0, 5, 1), (6, 9, 1))
    assert add((), (3, 3, 1)) == ()
    assert size_of(((0, 6, 2), (10, 11, 1))) == 4
