"""Generators on this machine, owned by this process, and the practice system's directory."""

from __future__ import annotations

import threading
import time
from collections import deque
from collections.abc import Callable, Mapping, Sequence

import urllib3

from stonekettle.core.orders import Order
from stonekettle.engine import owner, signals
from stonekettle.engine.allowance import LOOPBACK, Allowance
from stonekettle.engine.leases import Lease
from stonekettle.engine.owner import Event, GeneratorProcess, SecondDone
from stonekettle.engine.signals import Action, Heard
from stonekettle.plan.models import Plan


class LocalGenerators:
    """The part of a :class:`conductor.Control` that reaches generators: processes of this one.

    ``on_second`` gets every second with the name of its generator, from other threads.
    """

    def __init__(self, count: int, on_second: Callable[[str, SecondDone], None], *, seed: int = 1) -> None:
        self._count, self._on_second, self._seed = count, on_second, seed
        self._heard: deque[Heard] = deque()
        self._lock = threading.Lock()
        self._plan: Plan | None = None
        self._orders: list[Order] = []
        self._begun_at: float | None = None
        self.processes: dict[str, GeneratorProcess] = {}

    def check_halt(self) -> None:
        """Nobody halts but whoever interrupts the command."""

    def allowance(self, plan: Plan) -> Allowance:
        """Load goes to this machine: nobody could be asked whose another one is."""
        return LOOPBACK

    def regions(self, plan: Plan) -> Mapping[str, int]:
        """Whatever region a group comes from, its people are played here."""
        named = sorted({group.region for group in plan.people if group.region})
        return dict.fromkeys(named, self._count) or {"": self._count}

    def start(self, plan: Plan) -> None:
        """Start them, without load."""
        self._plan = plan
        for region, count in self.regions(plan).items():
            for _ in range(count):
                self._start_one(region)

    def wish(self, wish: signals.Wish) -> None:
        self._heard.append(wish)

    def heard(self) -> Sequence[Heard]:
        found = []
        while self._heard:
            found.append(self._heard.popleft())
        return found

    def do(self, action: Action) -> None:
        if isinstance(action, signals.Begin):
            self._begun_at = time.time() + action.in_s
            for process in self.processes.values():
                process.begin(self._begun_at)
        elif isinstance(action, signals.Give):
            self._orders.append(action.order)
            for process in self.processes.values():
                process.give(action.order)
        elif isinstance(action, signals.Lend):
            self._lend(action.generator, action.lease)
        elif isinstance(action, signals.Replace):
            self._start_one(action.region)
        elif isinstance(action, signals.GiveUp):
            self.processes[action.generator].let_go()

    def close(self) -> None:
        for process in self.processes.values():
            process.let_go()
        for process in self.processes.values():
            process.close()

    def _lend(self, name: str, lease: Lease) -> None:
        self.processes[name].lease(lease)

    def _start_one(self, region: str) -> None:
        assert self._plan is not None  # set by start
        slot = len(self.processes)
        name = f"{region or 'local'}-{slot + 1}"
        process = GeneratorProcess(
            self._plan, lambda event: self._hear(name, region, event), slot=slot, seed=self._seed
        )
        self.processes[name] = process
        for order in self._orders[-1:]:
            process.give(order)
        if self._begun_at is not None:
            process.begin(self._begun_at)

    def _hear(self, name: str, region: str, event: Event) -> None:
        if isinstance(event, SecondDone):
            with self._lock:
                self._on_second(name, event)
            self._heard.append(signals.Told(name, event.rollup))
        elif isinstance(event, owner.Ready):
            self._heard.append(signals.Ready(name, region))
        elif isinstance(event, owner.Acknowledged):
            self._heard.append(signals.Acknowledged(name, event.number))
        elif isinstance(event, owner.KeptWhole):
            pass  # the command line's files tell of every request, not everything of some
        elif isinstance(event, owner.Finished):
            self._heard.append(signals.Finished(name))
        else:
            self._heard.append(signals.Lost(name, event.reason))


def practice_directory(control_url: str | None) -> Mapping[str, Sequence[str]]:
    """Where the practice system's components are, or an empty mapping when it does not run."""
    if control_url is None:
        return {}
    try:
        answer = urllib3.request("GET", f"{control_url}/directory", timeout=2.0, retries=False)
    except urllib3.exceptions.HTTPError:
        return {}
    found: dict[str, list[str]] = answer.json()
    return found
