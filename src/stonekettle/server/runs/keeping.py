"""Patience with the database: a run survives an outage of a minute."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable
from typing import Any, TypeVar

from django.db import InterfaceError, OperationalError, close_old_connections, connection
from django.db.models import DurationField, ExpressionWrapper, F
from django.db.models.functions import Now

from stonekettle.engine.errors import EngineError
from stonekettle.server.problems import is_disk_full

T = TypeVar("T")
OUTAGE_LIMIT_S = 60.0
RETRY_S = 0.5
SLOW_S = 2.0
"""A look that takes longer is no steady one."""
AWAY = (OperationalError, InterfaceError)
log = logging.getLogger(__name__)


class DatabaseAway(EngineError):
    """The database did not come back, or did not take what was written, within a minute."""

    def __init__(self, full: bool, limit_s: float) -> None:
        what = "The disk of the database was full" if full else "The database was away"
        super().__init__(f"{what} for over {limit_s:.0f} s.")


def patiently(action: Callable[[], T], limit_s: float = OUTAGE_LIMIT_S) -> T:
    """Do ``action``, again and again while the database is away. It must be safe to repeat."""
    give_up = time.monotonic() + limit_s
    full = False
    while True:
        try:
            return action()
        except AWAY as error:
            connection.close()
            full = full or is_disk_full(error)
            if time.monotonic() > give_up:
                raise DatabaseAway(full, limit_s) from error
            log.warning("the database is away, trying again: %s", str(error).splitlines()[0])
            time.sleep(RETRY_S)
            close_old_connections()


def since(field: str) -> ExpressionWrapper[Any]:
    """How long ago a moment was, by the database's clock alone."""
    return ExpressionWrapper(Now() - F(field), output_field=DurationField())


SIGNED = "kettle generator "


def sign_in_memory(generator_id: int) -> None:
    """Name this connection after a generator. The database remembers in memory when it was used last: a sign of life
    that needs no disk, which may be full."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT set_config('application_name', %s, false)", [f"{SIGNED}{generator_id}"])


def signs_in_memory() -> dict[int, float]:
    """How long ago (s, by the database's clock) the connections of generators were used, by generator."""
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT application_name, min(extract(epoch FROM clock_timestamp() - state_change)) FROM pg_stat_activity"
            " WHERE datname = current_database() AND application_name LIKE %s GROUP BY 1",
            [f"{SIGNED}%"],
        )
        return {int(name.removeprefix(SIGNED)): float(ago) for name, ago in cursor.fetchall()}


def clock_offset_s(times: int = 5) -> float:
    """How far the database's clock is ahead of ours (s), asked on the way that orders take: the answer that came
    back soonest counts, with the clock read half-way."""
    best, found = float("inf"), 0.0
    with connection.cursor() as cursor:
        for _ in range(times):
            before = time.time()
            cursor.execute("SELECT extract(epoch FROM clock_timestamp())")
            row = cursor.fetchone()
            after = time.time()
            if after - before < best:
                best, found = after - before, float(row[0]) - (before + after) / 2
    return found


class Watch:
    """Looks at the database now and then; while it is away the last answer stands.

    Nobody's silence may be judged by what was just read after an outage: everybody's signs of life are old
    then. ``steady_for_s`` tells for how long every look has succeeded at once, what it wrote included.
    """

    def __init__(self, every_s: float) -> None:
        self._every_s = every_s
        self._next = time.monotonic()
        self._away_since: float | None = None
        self._full = False
        self._steady_since = time.monotonic()
        self._asked_at: float | None = None

    @property
    def steady_for_s(self) -> float:
        now = time.monotonic()
        if self._away_since is not None or (self._asked_at is not None and now - self._asked_at > SLOW_S):
            return 0.0
        return now - self._steady_since

    def due(self) -> bool:
        return time.monotonic() >= self._next

    def read(self, action: Callable[[], T], otherwise: T) -> T:
        """The result of ``action``, or ``otherwise`` while the database is away."""
        self._asked_at = time.monotonic()
        if self._asked_at > self._next + SLOW_S:  # this process itself was held up
            self._steady_since = self._asked_at
        self._next = self._asked_at + self._every_s
        try:
            found = action()
        except AWAY as error:
            full = is_disk_full(error)
            if not full:
                connection.close()  # where only the disk is full it works, and its use is a sign of life
            self._steady_since = now = time.monotonic()
            self._full = full or (self._full and self._away_since is not None)
            self._away_since = self._away_since or now
            if now - self._away_since > OUTAGE_LIMIT_S:
                raise DatabaseAway(self._full, OUTAGE_LIMIT_S) from error
            return otherwise
        finally:
            if self._asked_at is not None and time.monotonic() - self._asked_at > SLOW_S:
                self._steady_since = time.monotonic()
            self._asked_at = None
        self._away_since = None
        return found
