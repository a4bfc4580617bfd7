"""A generator as a process of its own: the generator's end of the wire.

What it is told arrives as JSON lines on its standard input; it answers with frames on standard output. When its
owner's word is not renewed (its process is frozen, or hangs) or the input ends, the generator lets its users
go: no load without an owner.
"""

from __future__ import annotations

import json
import queue
import resource
import sys
import threading
import time
from typing import IO, Any

from stonekettle.engine import orderbook, rollup
from stonekettle.engine.allowance import Allowance, Ceilings
from stonekettle.engine.errors import GeneratorLost
from stonekettle.engine.generator import LoadLoop, settle_interpreter
from stonekettle.engine.kept import Whole
from stonekettle.engine.leases import Lease
from stonekettle.engine.orderbook import OrderBook
from stonekettle.engine.script import compile_plan, most_users
from stonekettle.engine.wire import outlet, write_frame
from stonekettle.plan import document
from stonekettle.priority import go_ahead

DESCRIPTORS_KEPT_FREE = 200
OWNER_SILENCE_S = 10.0
"""Without a word of the owner for so long, users are let go."""
OWNERLESS_DRAIN_S = 5.0
"""And what they are in then is cut off after so long: within 15 s there is no load any more."""


def raise_descriptor_limit(users: int) -> None:
    """Allow a socket for each user; raises :class:`GeneratorLost` when the machine allows fewer."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    if users + DESCRIPTORS_KEPT_FREE > hard:
        raise GeneratorLost(
            f"{users} users need as many connections, this machine allows "
            f"{hard - DESCRIPTORS_KEPT_FREE}: raise its limit on open files or use fewer users"
        )
    if soft < hard:
        resource.setrlimit(resource.RLIMIT_NOFILE, (hard, hard))


Outgoing = queue.SimpleQueue[tuple[rollup.Second, bytes] | list[Whole] | int | None]
"""Seconds, requests kept whole, numbers of orders to acknowledge, and None at the end."""


def main() -> None:
    setup = json.loads(sys.stdin.buffer.readline())
    plan = document.with_files(document.stored(setup["plan"]), setup["files"].get)
    try:
        raise_descriptor_limit(most_users(plan))
    except GeneratorLost as error:
        sys.exit(str(error))
    script = compile_plan(plan)
    outgoing: Outgoing = queue.SimpleQueue()
    wire = outlet()
    writer = threading.Thread(target=_write, args=(outgoing, wire), name="seconds", daemon=True)
    book = OrderBook()
    loop = LoadLoop(
        script,
        book,
        lambda second, data: outgoing.put((second, data)),
        most_users=most_users(plan),
        slot=setup["slot"],
        seed=setup["seed"],
        keep=outgoing.put,
        allowance=Allowance.of(setup["allowance"]),
    )
    owner = _Owner(loop, outgoing)
    threading.Thread(target=owner.listen, name="orders", daemon=True).start()
    write_frame(wire, "ready", {}, [])
    writer.start()
    if owner.wait_for_beginning():
        settle_interpreter()
        go_ahead()
        loop.run(owner.start, owner.hear)
    outgoing.put(None)
    writer.join()


class _Owner:
    """What the owner says, and whether it is still there."""

    def __init__(self, loop: LoadLoop, outgoing: Outgoing) -> None:
        self._loop, self._book, self._outgoing = loop, loop.book, outgoing
        self._told: queue.SimpleQueue[dict[str, Any]] = queue.SimpleQueue()
        self._signs = self._seen = 0
        self._silent_s = 0.0
        self._asked_at = time.monotonic()
        self.start = 0.0
        """The run's time 0 on the loop's clock."""

    def listen(self) -> None:
        for line in sys.stdin.buffer:
            message = json.loads(line)
            self._signs += 1
            if "go on" not in message:
                self._told.put(message)
        self._told.put({"let go": True})

    def wait_for_beginning(self) -> bool:
        """Hear what comes before the run's beginning; False where there will be none."""
        while True:
            message = self._told.get()
            if "let go" in message or "halt" in message:
                return False
            if "begin" in message:
                self.start = time.perf_counter() + message["begin"] - time.time()
                return True
            self._take(message)

    def hear(self) -> None:
        """Take in what was told since the last call. Without a word of the owner for too long, users are let go.
        A stall of this process itself counts as one second at most: what was said meanwhile has yet to be read."""
        while not self._told.empty():
            self._take(self._told.get())
        now = time.monotonic()
        self._silent_s += min(now - self._asked_at, 1.0)
        self._asked_at = now
        if self._signs != self._seen:
            self._seen, self._silent_s = self._signs, 0.0
        if self._silent_s > OWNER_SILENCE_S:
            self._loop.drain_limit_s = OWNERLESS_DRAIN_S
            self._let_go()

    def _take(self, message: dict[str, Any]) -> None:
        if "order" in message:
            order = orderbook.from_plain(message["order"])
            self._book.hear(order)
            self._outgoing.put(order.number)
        elif "lease" in message:
            self._book.hear_lease(Lease.of(message["lease"]))
        elif "shares" in message:
            self._loop.gates.give([Ceilings(**share) for share in message["shares"]])
        elif "let go" in message:
            self._let_go()
        elif "halt" in message:
            self._loop.drain_limit_s = 0.0
            self._let_go()

    def _let_go(self) -> None:
        if not self._book.closed:
            self._book.close(time.perf_counter() - self.start)


def _write(outgoing: Outgoing, stream: IO[bytes]) -> None:
    """Send what there is, away from the loop: writing does not hold the interpreter."""
    while (item := outgoing.get()) is not None:
        if isinstance(item, int):
            write_frame(stream, "acknowledged", {"number": item}, [])
        elif isinstance(item, list):
            write_frame(stream, "whole", {"requests": [vars(one) for one in item]}, [])
        else:
            second, data = item
            write_frame(stream, "second", {"second": vars(second)}, [data])
    write_frame(stream, "finished", {}, [])


if __name__ == "__main__":
    main()
