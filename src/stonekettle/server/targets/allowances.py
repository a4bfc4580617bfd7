"""From targets to what those who connect are told; and how generators share ceilings."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from datetime import timedelta

from django.conf import settings
from django.utils import timezone

from stonekettle.engine.allowance import Allowance
from stonekettle.engine.errors import TargetError
from stonekettle.engine.script import most_users
from stonekettle.engine.targets import MEND, addresses_of, check_allowed, host_and_port
from stonekettle.plan.models import Plan
from stonekettle.plan.parts import PRACTICE
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.server.targets import rules
from stonekettle.server.targets.models import Target


class NotStarted(PlanError):
    """A run that may not begin now, with all that is in its way."""

    title = "Nothing was started"


Addresses = Iterable[tuple[str, str]]
"""Addresses of a document, each with its place there."""


@dataclass(frozen=True)
class Place:
    """A host and port that a document names, at ``path``, and the numeric addresses it has now."""

    path: str
    url: str
    host: str
    port: int
    addresses: tuple[str, ...]

    def is_in(self, target: Target) -> bool:
        """Whether the target is for this place, be it allowed now or not."""
        told = target.told
        if not any(low <= self.port <= high for low, high in told.port_ranges):
            return False
        if told.is_name and told.host == self.host:
            return True
        permit = target.permit()
        return any(permit.holds(address, self.port) for address in self.addresses)


def places(addresses: Addresses) -> list[Place]:
    """Where a document leads outside of the practice system, each place once."""
    found: dict[tuple[str, int], Place] = {}
    for path, url in addresses:
        if url.startswith(f"{PRACTICE}://"):
            continue
        try:
            host, port = host_and_port(path, url)
        except TargetError:
            continue
        if (host, port) not in found:
            found[host, port] = Place(path, url, host, port, _numeric(host))
    return list(found.values())


def _numeric(host: str) -> tuple[str, ...]:
    try:
        return tuple(addresses_of(host))
    except (OSError, UnicodeError, TimeoutError):
        return ()


def named(addresses: Sequence[Place]) -> list[Target]:
    """The targets that these places lie in, allowed now or not."""
    return [target for target in Target.objects.there() if any(place.is_in(target) for place in addresses)]


def current(addresses: Addresses) -> Allowance:
    """Where what has these addresses may go now, by what is known: nothing is proven anew."""
    found = places(addresses)
    return _allowance(found, {target.pk for target in named(found)})


def confirmed(addresses: Addresses) -> Allowance:
    """The same, after the targets that are named were proven anew. Raises :class:`TargetError` where one was not and
    is needed."""
    found = list(addresses)
    spots = places(found)
    targets = named(spots)
    faults = {target.pk: fault for target in targets if (fault := rules.confirm(target)) is not None}
    allowed = _allowance(spots, {target.pk for target in targets} - faults.keys(), faults.keys())
    for error in check_allowed(found, allowed):
        told = next((target for target in targets if target.pk in faults and _is_about(error, target, spots)), None)
        if told is None:
            raise error
        raise TargetError(error.path, f"the target {told.told.host} {faults[told.pk].rstrip('.')}.", MEND)
    return allowed


def _is_about(error: TargetError, target: Target, spots: Sequence[Place]) -> bool:
    return any(spot.is_in(target) for spot in spots if spot.path == error.path)


def _allowance(spots: Sequence[Place], chosen: Collection[int], left_out: Collection[int] = ()) -> Allowance:
    """Permits for the targets ``chosen``, and for all others that have no ceilings: a redirect may lead there."""
    permits = []
    for target in Target.objects.there().exclude(pk__in=left_out):
        if target.why_not() is None and (target.pk in chosen or not target.told.ceilings):
            permits.append(target.permit(named=target.pk in chosen))
    return Allowance(tuple(permits), {spot.host: spot.addresses for spot in spots}, settings.OWN_PORTS)


def check_start(plan: Plan) -> None:
    """Whether a run may begin now: where, how much, for how long, and by what. Raises :class:`NotStarted`."""
    spots = places(plan.addresses)
    targets = named(spots)
    for target in targets:
        if target.told.is_name and any(
            set(spot.addresses) - set(target.addresses) for spot in spots if spot.is_in(target)
        ):
            rules.confirm(target)  # its name means another address than when that was last looked at
    allowed = _allowance(spots, {target.pk for target in targets})
    problems = [Problem(e.path, _explained(e, targets, spots), e.mend) for e in check_allowed(plan.addresses, allowed)]
    ends = timezone.now() + timedelta(seconds=plan.planned.duration_s)
    for target in targets:
        told, until = target.told, target.open_until()
        if target.why_not() is not None:
            continue
        if told.users is not None and most_users(plan) > told.users:
            message = f"{most_users(plan)} users are more than {told.host} bears: {told.users} of everybody together."
            problems.append(Problem("load", message, f"Lower the load, or ask {told.contact} for more."))
        if until is not None and ends > until:
            message = f"it would take until {ends:%a %H:%M} UTC, and {told.host} is closed from {until:%a %H:%M %Z} on."
            problems.append(Problem("load", message, "Shorten the load, or start it later."))
    problems += _commands(plan)
    if problems:
        raise NotStarted(problems)


def _commands(plan: Plan) -> list[Problem]:
    """Commands are a planner's own: nobody may have this machine run one."""
    mend = "Run the plan by ./kettle run, or write a call."
    paths = plan.turns.commands if plan.turns is not None else ()
    return [Problem(f"candidates.{path}.command", "the web application runs no commands.", mend) for path in paths]


def _explained(error: TargetError, targets: Sequence[Target], spots: Sequence[Place]) -> str:
    for target in targets:
        if (why := target.why_not()) is not None and _is_about(error, target, spots):
            return f"the target {target.told.host} {why.rstrip('.')}."
    return error.message
