"""How long somebody waits who keeps giving a wrong password: longer each time, and nobody else with them.

A wait is for one name from one address: whoever tries names from elsewhere keeps nobody out.
"""

from __future__ import annotations

from datetime import timedelta

from axes.models import AccessFailureLog
from django.http import HttpRequest
from django.utils import timezone

TRIES = 5
FIRST, GROWTH, LONGEST = timedelta(minutes=1), 4, timedelta(hours=1)
REMEMBERED = timedelta(days=1)
NAME = "kettle.name"
"""Where a request tells who wants to sign in."""


def cool_off(request: HttpRequest) -> timedelta:
    """A minute after five wrong ones, four times as long after each five more, an hour at most."""
    wrong = AccessFailureLog.objects.filter(
        username=request.META.get(NAME, ""),
        ip_address=request.META.get("REMOTE_ADDR"),
        attempt_time__gt=timezone.now() - REMEMBERED,
    ).count()
    rounds = min(max(1, wrong // TRIES), 5)
    wait: timedelta = min(FIRST * GROWTH ** (rounds - 1), LONGEST)
    return wait
