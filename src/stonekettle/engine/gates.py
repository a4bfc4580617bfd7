"""The ceilings of a run's targets, as one generator keeps them: the last guard, whatever it was ordered.

Each generator has a share of every ceiling. The shares of all that load a target are told anew as generators come and
go, and never add up to more than the ceiling.
"""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Sequence
from functools import lru_cache
from urllib.parse import urlsplit

from stonekettle.engine.allowance import LOOPBACK, Allowance, Ceilings

SECOND_S = 1.02
"""What is let go is on its way a moment later: with so much room no second at the target has more than was let go in
one here."""


class Gate:
    """One target's ceilings, this generator's share of them."""

    def __init__(self, name: str, whole: Ceilings) -> None:
        self.name, self.whole, self.share = name, whole, whole
        self._begun: deque[float] = deque(maxlen=whole.requests)
        self._sockets: set[int] = set()

    def give(self, share: Ceilings) -> None:
        self.share = share
        self._begun = deque(self._begun, maxlen=share.requests)

    def opens(self, now: float) -> bool:
        """Whether another request may begin: as many begun before must be a second ago."""
        most, begun = self.share.requests, self._begun
        return most is None or len(begun) < most or (most > 0 and now - begun[0] >= SECOND_S)

    def passed(self, now: float) -> None:
        self._begun.append(now)

    def connects(self) -> bool:
        """Whether another connection may be made. Which of those made are still open is asked of the system where it
        matters, since libcurl does not tell when it closes one."""
        most = self.share.connections
        if most is None or len(self._sockets) < most:
            return True
        self._sockets &= open_sockets()
        return len(self._sockets) < most

    def connected(self, inode: int) -> None:
        if self.share.connections is not None:
            self._sockets.add(inode)


class Gates:
    """All of a run's. ``reached`` says which ceiling held anything back, in words; None while none did."""

    def __init__(self, allowance: Allowance) -> None:
        self._allowance = allowance
        self.all = [Gate(permit.name, permit.ceilings) for permit in allowance.permits]
        self.limited = any(permit.ceilings.any for permit in allowance.permits)
        self.reached: str | None = None
        self._of = lru_cache(maxsize=4_096)(self._find)
        self._why_not = lru_cache(maxsize=4_096)(allowance.refusal)

    def give(self, shares: Sequence[Ceilings]) -> None:
        """This generator's shares, in the order of the permits."""
        for gate, share in zip(self.all, shares, strict=True):
            gate.give(share)

    def passes(self, url: str, now: float) -> bool:
        """Whether a request may begin now; if so, it is counted."""
        gates = self._of(*_host_and_port(url))
        if not all(gate.opens(now) for gate in gates):
            return False
        for gate in gates:
            gate.passed(now)
        return True

    def held_long(self, url: str, now: float) -> None:
        """A request has waited so long that this is no mere chance crowding of requests: there are more than may be."""
        for gate in self._of(*_host_and_port(url)):
            if not gate.opens(now):
                self._note(gate, gate.whole.requests, "requests per second")

    def refusal(self, address: str, port: int) -> str | None:
        """Why a connection to this numeric address may not be made, as what is said of it; None where it may."""
        why = self._why_not(address, port)
        if why is not None:
            return why
        for gate in self._of(address, port) if self.limited else ():
            if not gate.connects():
                self._note(gate, gate.whole.connections, "connections")
                return f"belongs to {gate.name}, which has as many connections as it may"
        return None

    def connected(self, address: str, port: int, descriptor: int) -> None:
        """A connection to there has this socket."""
        for gate in self._of(address, port) if self.limited else ():
            gate.connected(os.fstat(descriptor).st_ino)

    def room(self, present: int) -> bool:
        """Whether another user may come, where so many are."""
        for gate in self.all:
            if gate.share.users is not None and present >= gate.share.users:
                self._note(gate, gate.whole.users, "users")
                return False
        return True

    @property
    def until(self) -> float | None:
        return self._allowance.until

    def _find(self, host: str, port: int) -> tuple[Gate, ...]:
        return tuple(self.all[place] for place in self._allowance.permits_at(host, port))

    def _note(self, gate: Gate, most: int | None, what: str) -> None:
        self.reached = self.reached or f"The ceiling of {gate.name} was reached: {most} {what}"


OPEN = Gates(LOOPBACK)
"""This machine's own addresses, without a ceiling."""


def open_sockets() -> set[int]:
    """The numbers (inodes) of all sockets this process has open."""
    found = set()
    for name in os.listdir("/proc/self/fd"):
        try:
            link = os.readlink(f"/proc/self/fd/{name}")
        except OSError:
            continue  # closed meanwhile
        if link.startswith("socket:["):
            found.add(int(link[8:-1]))
    return found


@lru_cache(maxsize=4_096)
def _host_and_port(url: str) -> tuple[str, int]:
    parts = urlsplit(url)
    try:
        port = parts.port
    except ValueError:
        port = None
    return parts.hostname or "", port or (443 if parts.scheme == "https" else 80)
