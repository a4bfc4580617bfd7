"""How generators share the ceilings of the targets they load."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta

from django.db.models import Q
from django.utils import timezone

from stonekettle.engine.allowance import Allowance, Ceilings
from stonekettle.server.runs.models import Generator, Run

STILL_LOADING = timedelta(seconds=20)
"""A generator that was given up may go on so long before it notices."""


def of(generator: Generator, allowance: Allowance) -> list[Ceilings]:
    """The share of each permit's ceilings that one generator may use now, in their order. All generators of all runs
    that load a target share its ceilings alike, those that have yet to begin and those just given up included; what
    does not divide goes to the first."""
    loading = _loading()
    return [
        _share(permit.ceilings, [pk for pk, targets in loading if permit.number in targets], generator.pk)
        for permit in allowance.permits
    ]


def _loading() -> Sequence[tuple[int, set[int]]]:
    """All generators that may make load, with the targets of their runs."""
    states = Generator.State
    there = Q(state__in=(states.STARTING, states.READY))
    there |= Q(state=states.LOST, seen_at__gt=timezone.now() - STILL_LOADING)
    rows = Generator.objects.filter(there, run__in=Run.objects.in_progress()).order_by("pk")
    return [
        (pk, {permit["number"] for permit in told["permits"] if permit["ceilings"] != vars(Ceilings())})
        for pk, told in rows.values_list("pk", "run__allowance")
        if told is not None
    ]


def _share(whole: Ceilings, sharing: Sequence[int], mine: int) -> Ceilings:
    if mine not in sharing:
        return whole  # it has none
    place, count = sharing.index(mine), len(sharing)
    users, requests, connections = (
        None if most is None else most // count + (place < most % count)
        for most in (whole.users, whole.requests, whole.connections)
    )
    return Ceilings(users, requests, connections)
