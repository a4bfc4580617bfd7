"""How long somebody waits who keeps giving a wrong password: longer each time, and nobody else with them.

A wait is for one name from one address: whoever tries names from elsewhere keeps nobody out.
"""

from __future__ import annotations

from datetime import timedelta

from axes.models import AccessFailureLog
from django.http import HttpRequest
from django.utils import timezone

FREE_TRIES = 5
FIRST, LONGEST = timedelta(minutes=1), timedelta(hours=1)
REMEMBERED = timedelta(days=1)
NAME = "kettle.name"
"""Where a request tells who wants to sign in."""


def cool_off(request: HttpRequest) -> timedelta:
    """A minute after the first five, doubled with each wrong one after it, an hour at most."""
    wrong = AccessFailureLog.objects.filter(
        username=request.META.get(NAME, ""),
        ip_address=request.META.get("REMOTE_ADDR"),
        attempt_time__gt=timezone.now() - REMEMBERED,
    ).count()
    wait: timedelta = min(FIRST * 2 ** min(max(0, wrong - FREE_TRIES), 10), LONGEST)
    return wait
