"""Who may run on a system: every planner, or only those on its list."""

from __future__ import annotations

from collections.abc import Collection, Iterable

from django.contrib.auth.models import User

from stonekettle.plan.parts import PRACTICE
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.plan.secrecy import origin_of
from stonekettle.server.access.roles import Actor, Forbidden, Role, role_of
from stonekettle.server.acts import Account, act
from stonekettle.server.systems.models import System
from stonekettle.server.targets import allowances

Addresses = Iterable[tuple[str, str]]


def names(system: System) -> list[str]:
    return [user.get_username() for user in system.runners.order_by("username")]


def candidates() -> list[str]:
    """Those whom a list can hold: administrators run everywhere."""
    found = User.objects.filter(is_active=True).select_related("person").order_by("username")
    return [user.get_username() for user in found if role_of(user) is Role.PLANNER]


@act("changed who may run on", Role.ADMINISTRATOR)
def choose(account: Account, system: System, chosen: Collection[str]) -> None:
    """Only these planners may run on it; nobody chosen: every planner may."""
    unknown = sorted(set(chosen) - set(candidates()) - set(names(system)))
    if unknown:
        message = f"there is no planner named {unknown[0]!r}."
        raise PlanError([Problem("people", message, "Choose among those who are planners.")])
    before = names(system)
    system.runners.set(User.objects.filter(username__in=chosen))
    if (after := names(system)) != before:
        account.about("system", system.pk, system.name)
        account.changed({"may run": before or "every planner"}, {"may run": after or "every planner"})


def check(actor: Actor, addresses: Addresses) -> None:
    """Whether somebody may make load at these addresses. A system is known by where it is, however a document names
    it. Raises :class:`Forbidden`."""
    if actor.may(Role.ADMINISTRATOR):
        return
    places: set[object] | None = None
    for system in System.objects.exclude(runners=None).distinct():
        if actor.user is not None and system.runners.filter(pk=actor.user.pk).exists():
            continue
        places = _places(addresses) if places is None else places
        if places & _places([("base_url", system.document["base_url"])]):
            who = ", ".join(names(system))
            raise Forbidden(f"Only {who} and administrators may run on {system.name}. Ask an administrator.")


def _places(addresses: Addresses) -> set[object]:
    """Numeric addresses with their ports, names where they cannot be found, and the practice system as one place."""
    found: set[object] = set()
    told = list(addresses)
    if any(origin_of(url).startswith(f"{PRACTICE}://") for _, url in told):
        found.add(PRACTICE)
    for place in allowances.places(told):
        found |= {(address, place.port) for address in place.addresses or (place.host,)}
    return found
