"""What may happen to a target: entered, claimed and proven, changed, removed."""

from __future__ import annotations

import ipaddress
import secrets
from collections.abc import Mapping
from datetime import datetime, timedelta
from typing import Any

from django.utils import timezone

from stonekettle.engine.addresses import overlaps_never, plain, why_never
from stonekettle.engine.proof import Claim, Unproven, prove
from stonekettle.engine.targets import addresses_of
from stonekettle.plan.checking import plain as plain_data
from stonekettle.plan.checking import validated
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.plan.target import MOST_PROVEN_PORTS, TargetTerms
from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.acts import Account, act
from stonekettle.server.problems import Conflict
from stonekettle.server.targets.models import Target

MOST = 500
LONGEST = timedelta(days=400)
EACH = timedelta(hours=23)
OURSELVES = "Stone Kettle"


@act("entered", Role.ADMINISTRATOR)
def enter(account: Account, written: Mapping[str, Any], ends_at: datetime | None) -> Target:
    """Load may go there because an administrator says so."""
    terms = _terms(written)
    _check_entered(terms, ends_at)
    addresses = _addresses(terms) if terms.is_name else []
    made = _made(account, Target.Way.ENTERED, terms, addresses=addresses, ends_at=ends_at)
    account.changed({}, _told(made))
    return made


@act("claimed", Role.PLANNER)
def claim(account: Account, written: Mapping[str, Any]) -> Target:
    """Load may go there once it shows a token that is made here."""
    terms = _terms(written)
    _check_claimed(terms)
    made = _made(account, Target.Way.PROVEN, terms, token=f"stone-kettle-{secrets.token_urlsafe(24)}")
    account.changed({}, _told(made))
    return made


@act("changed", Role.PLANNER)
def change(account: Account, target: Target, written: Mapping[str, Any], ends_at: datetime | None = None) -> Target:
    """Other ceilings, hours, contact. Where it is stays: another host or port has to be proven by itself."""
    target = _locked(account, target)
    before, terms = target.told, _terms(written)
    if target.way == Target.Way.ENTERED:
        _check_entered(terms, ends_at)
    where = ("host",) if target.way == Target.Way.ENTERED else ("host", "ports", "scheme")
    for field in where:
        if getattr(before, field) != getattr(terms, field):
            mend = "Enter the other one as a target of its own."
            raise PlanError([Problem(field, f"this target is for {getattr(before, field)!r}.", mend)])
    told_before = _told(target)
    target.terms, target.told = plain_data(terms), terms
    target.ends_at = ends_at if target.way == Target.Way.ENTERED else None
    target.save(update_fields=["terms", "ends_at"])
    account.about("target", target.pk, target.name)
    account.changed(told_before, _told(target))
    return target


@act("removed", Role.PLANNER)
def remove(account: Account, target: Target) -> None:
    """No load may go there any more; runs that load it end."""
    target = _locked(account, target)
    if target.removed_at is None:
        target.removed_at = timezone.now()
        target.save(update_fields=["removed_at"])
        account.about("target", target.pk, target.name)


@act("brought back", Role.PLANNER)
def bring_back(account: Account, target: Target) -> None:
    target = _locked(account, target)
    if target.removed_at is not None:
        target.removed_at = None
        target.save(update_fields=["removed_at"])
        account.about("target", target.pk, target.name)


def look(actor: Actor, target: Target) -> str | None:
    """Look for the token now, outside of any transaction; why it was not found, or None."""
    actor.check(Role.PLANNER)
    return _looked(actor, target)


def confirm(target: Target) -> str | None:
    """The same by Stone Kettle itself, before a run, during one, and each day. Of a target that was entered by name:
    what the name means today. Why no load may go there now, or None."""
    if target.way == Target.Way.PROVEN:
        fault = _looked(Actor.itself(OURSELVES), target)
        target.refresh_from_db()
        return target.why_not() or (fault and f"could not be proven now: {fault}")
    if target.told.is_name and target.why_not() is None:
        return _meaning_today(target)
    return target.why_not()


def confirm_all() -> None:
    """Once more for those whose last proof is a day old."""
    due = timezone.now() - EACH
    for target in Target.objects.there().filter(way=Target.Way.PROVEN, looked_at__lt=due).exclude(proven_at=None):
        if not target.lost and target.proven_at and target.proven_at < due:
            confirm(target)


def _looked(actor: Actor, target: Target) -> str | None:
    terms = target.told
    try:
        proof = prove(Claim(terms.host, terms.scheme or "http", [low for low, _ in terms.port_ranges], target.token))
    except Unproven as missing:
        _unproven(actor, target, str(missing), is_certain=missing.is_certain)
        return str(missing)
    _proven(actor, target, list(proof.addresses), proof.by)
    return None


@act("proved", Role.PLANNER)
def _proven(account: Account, target: Target, addresses: list[str], by: str) -> None:
    """What is as before is not told each day."""
    target = Target.objects.select_for_update().get(pk=target.pk)
    news = target.proven_at is None or target.lost or target.addresses != addresses
    now = timezone.now()
    target.addresses, target.proven_by, target.fault, target.lost = addresses, by, "", False
    target.proven_at = target.looked_at = now
    target.save(update_fields=["addresses", "proven_by", "fault", "lost", "proven_at", "looked_at"])
    if news:
        account.about("target", target.pk, target.name, note=f"at {', '.join(addresses)}, by {by}")


@act("found no proof of", Role.PLANNER)
def _unproven(account: Account, target: Target, fault: str, *, is_certain: bool) -> None:
    target = Target.objects.select_for_update().get(pk=target.pk)
    lost = target.lost or (is_certain and target.proven_at is not None)
    if lost and not target.lost:
        account.about("target", target.pk, target.name, note=fault)
    target.fault, target.lost, target.looked_at = fault[:500], lost, timezone.now()
    target.save(update_fields=["fault", "lost", "looked_at"])


def _meaning_today(target: Target) -> str | None:
    """A name that was entered may move to other public addresses, and to no other private one."""
    try:
        found = _addresses(target.told)
    except PlanError as error:
        return f"cannot be loaded: {error.problems[0].message}"
    for address in found:
        if address not in target.addresses and not plain(address).is_global:
            return f"means {address} now, which is private and is not what it meant when it was entered"
    Target.objects.filter(pk=target.pk).update(addresses=sorted({*found, *_private(target.addresses)}))
    target.refresh_from_db()
    return None


def _private(addresses: list[str]) -> list[str]:
    return [address for address in addresses if not plain(address).is_global]


def _terms(written: Mapping[str, Any]) -> TargetTerms:
    terms = validated(TargetTerms, written)
    if terms.is_name:
        return terms
    network = ipaddress.ip_network(terms.host)
    what = overlaps_never(network) if terms.is_range else why_never(plain(terms.host))
    if what is not None:
        message = f"{terms.host} {'holds' if terms.is_range else 'is'} {what}."
        raise PlanError([Problem("host", message, "Nothing is ever sent there, whoever allows it.")])
    if isinstance(network, ipaddress.IPv6Network) and network.network_address.ipv4_mapped is not None:
        raise PlanError([Problem("host", f"{terms.host} is IPv4 written as IPv6.", "Write it as IPv4.")])
    return terms


def _check_entered(terms: TargetTerms, ends_at: datetime | None) -> None:
    problems = []
    if not terms.reason.strip():
        problems.append(Problem("reason", "an entry needs a reason.", "Say whose system it is and why it is loaded."))
    if not terms.ceilings:
        problems.append(Problem("users", "an entry needs a ceiling.", "Say how many users or requests it bears."))
    now = timezone.now()
    if ends_at is None or not now < ends_at <= now + LONGEST:
        mend = f"Choose a day in the next {LONGEST.days} days."
        problems.append(Problem("ends_at", "an entry needs an end that is yet to come.", mend))
    if problems:
        raise PlanError(problems)


def _check_claimed(terms: TargetTerms) -> None:
    if terms.is_range:
        raise PlanError([Problem("host", "a range cannot be proven.", "Prove an address, or ask an administrator.")])
    single = [low for low, high in terms.port_ranges if low == high]
    if not single or len(single) != len(terms.port_ranges) or len(single) > MOST_PROVEN_PORTS:
        mend = f"Write 1 to {MOST_PROVEN_PORTS} single ports: the token is looked for at each."
        raise PlanError([Problem("ports", "ports are proven one by one.", mend)])
    if not terms.scheme:
        raise PlanError([Problem("scheme", "say how the token is fetched.", "Choose http or https.")])


def _addresses(terms: TargetTerms) -> list[str]:
    try:
        found = addresses_of(terms.host)
    except (OSError, UnicodeError, TimeoutError) as error:
        raise PlanError([Problem("host", f"the host {terms.host} cannot be found.", "Correct its name.")]) from error
    for address in found:
        if (what := why_never(plain(address))) is not None:
            mend = "Nothing is ever sent there, whoever allows it."
            raise PlanError([Problem("host", f"{terms.host} ({address}) is {what}.", mend)])
    return found


def _made(account: Account, way: Target.Way, terms: TargetTerms, **more: Any) -> Target:
    if Target.objects.there().count() >= MOST:
        raise Conflict(f"There are {MOST} targets already. Remove some first.")
    made = Target.objects.create(way=way, terms=plain_data(terms), made_by=account.actor.name, **more)
    account.about("target", made.pk, made.name)
    return made


def _locked(account: Account, target: Target) -> Target:
    """The target as it is now; what an administrator entered is theirs."""
    found = Target.objects.select_for_update().get(pk=target.pk)
    if found.way == Target.Way.ENTERED:
        account.actor.check(Role.ADMINISTRATOR)
    return found


def _told(target: Target) -> dict[str, Any]:
    """For the history."""
    return {**target.terms, "ends_at": target.ends_at.isoformat() if target.ends_at else None}
