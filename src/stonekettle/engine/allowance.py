"""Where the load of a run may go, how much of it, and until when: what everybody who connects is told.

Loopback needs no permit; everything else does. A permit names numeric addresses only: which a name means was decided
when it was proven or entered, so that a name which changes its meaning gains nothing.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from functools import cached_property
from typing import Any

from stonekettle.engine.addresses import is_numeric, is_of_this_machine, plain, why_never

ANY_PORT = ((1, 65_535),)
Ports = tuple[tuple[int, int], ...]
"""Ranges of ports, their ends included."""


@dataclass(frozen=True)
class Ceilings:
    """How much a target bears at most, of everybody together; None: no ceiling. Requests are those begun in any second,
    wherever it begins."""

    users: int | None = None
    requests: int | None = None
    connections: int | None = None

    @property
    def any(self) -> bool:
        return self != Ceilings()


@dataclass(frozen=True)
class Permit:
    """A target that may be loaded: at these networks and ports, by ``scheme``
    ("": either), up to its ceilings, ``until`` then (seconds since the
    epoch; None: no end). ``number`` is its own among all targets, ``hosts`` the names it was given for."""

    number: int
    name: str
    networks: tuple[str, ...]
    ports: Ports = ANY_PORT
    scheme: str = ""
    ceilings: Ceilings = Ceilings()
    until: float | None = None

    @cached_property
    def _ranges(self) -> tuple[ipaddress.IPv4Network | ipaddress.IPv6Network, ...]:
        return tuple(ipaddress.ip_network(network) for network in self.networks)

    def holds(self, address: str, port: int) -> bool:
        ip = plain(address)
        return any(low <= port <= high for low, high in self.ports) and any(ip in network for network in self._ranges)


@dataclass(frozen=True)
class Allowance:
    """All a run may connect to. ``hosts`` are the addresses that names were found to have when it was made,
    ``own_ports`` those of Stone Kettle itself on this machine."""

    permits: tuple[Permit, ...] = ()
    hosts: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    own_ports: frozenset[int] = frozenset()

    def refusal(self, address: str, port: int) -> str | None:
        """Why nothing may be sent to a numeric address and port; None where it may."""
        try:
            ip = plain(address)
        except ValueError:
            return "is not a numeric address"
        if (what := why_never(ip)) is not None:
            return f"is {what}: nothing is ever sent there"
        if port in self.own_ports and is_of_this_machine(ip):
            return f"is this machine, and its port {port} belongs to Stone Kettle itself"
        if ip.is_loopback or any(permit.holds(address, port) for permit in self.permits):
            return None
        if any(permit.holds(address, low) for permit in self.permits for low, _ in permit.ports):
            return f"is not an allowed target at port {port}"
        return "is not an allowed target"

    def speaks(self, address: str, port: int, scheme: str) -> bool:
        """Whether what may be loaded there may be by this scheme."""
        held = [permit for permit in self.permits if permit.holds(address, port)]
        return not held or any(permit.scheme in ("", scheme) for permit in held)

    def permits_at(self, host: str, port: int) -> tuple[int, ...]:
        """Which of the permits, by place, a request to this host falls under; all where that is not known."""
        addresses = (host,) if is_numeric(host) else self.hosts.get(host, ())
        if not addresses:
            return tuple(range(len(self.permits)))
        return tuple(
            place
            for place, permit in enumerate(self.permits)
            if any(permit.holds(address, port) for address in addresses)
        )

    @property
    def until(self) -> float | None:
        """When the first of its permits ends."""
        return min((permit.until for permit in self.permits if permit.until is not None), default=None)

    def as_dict(self) -> dict[str, Any]:
        return {**asdict(self), "own_ports": sorted(self.own_ports)}

    @classmethod
    def of(cls, plain_form: Mapping[str, Any]) -> Allowance:
        """The reverse of :meth:`as_dict`, also after JSON."""
        permits = tuple(
            Permit(
                number=one["number"],
                name=one["name"],
                networks=tuple(one["networks"]),
                ports=tuple((low, high) for low, high in one["ports"]),
                scheme=one["scheme"],
                ceilings=Ceilings(**one["ceilings"]),
                until=one["until"],
            )
            for one in plain_form["permits"]
        )
        hosts = {name: tuple(addresses) for name, addresses in plain_form["hosts"].items()}
        return cls(permits, hosts, frozenset(plain_form["own_ports"]))


LOOPBACK = Allowance()
