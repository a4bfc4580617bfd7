"""How often one may ask: so much that nobody at work meets it, and so little that nobody keeps the others waiting.

Counts are kept in memory by the one process that serves the web.
"""

from __future__ import annotations

import time

from django.conf import settings
from django.core.cache import cache
from django.http import HttpRequest
from ninja.throttling import BaseThrottle


class Limit(BaseThrottle):
    """At most ``most`` requests in each stretch of so many seconds, of each person, or of each address where nobody is
    signed in."""

    def __init__(self, name: str, most: int, seconds: int) -> None:
        self.name, self.most, self.seconds = name, most, seconds

    def allow_request(self, request: HttpRequest) -> bool:
        if not settings.REQUESTS_LIMITED:
            return True
        user = request.user
        who = f"person {user.pk}" if user.is_authenticated else f"address {request.META.get('REMOTE_ADDR', '')}"
        key = f"{self.name} {who} {int(time.time() // self.seconds)}".replace(" ", "-")
        cache.add(key, 0, timeout=2 * self.seconds)
        return cache.incr(key) <= self.most

    def wait(self) -> float:
        """Until the next stretch begins, in seconds."""
        return self.seconds - time.time() % self.seconds


ALL = Limit("all", 600, 10)
"""A live plate asks some three times a second."""
WAYS_IN = Limit("ways in", 30, 60)
"""Signing in and joining, from one address: slows whoever tries many names."""
