"""Patience with the database: a run survives an outage of a minute."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable
from typing import TypeVar

from django.db import InterfaceError, OperationalError, close_old_connections, connection

from stonekettle.engine.errors import EngineError

T = TypeVar("T")
OUTAGE_LIMIT_S = 60.0
RETRY_S = 0.5
AWAY = (OperationalError, InterfaceError)
log = logging.getLogger(__name__)


class DatabaseAway(EngineError):
    """The database did not come back within a minute."""


def patiently(action: Callable[[], T], limit_s: float = OUTAGE_LIMIT_S) -> T:
    """Do ``action``, again and again while the database is away. It must be safe to repeat."""
    give_up = time.monotonic() + limit_s
    while True:
        try:
            return action()
        except AWAY as error:
            connection.close()
            if time.monotonic() > give_up:
                raise DatabaseAway(f"The database was away for over {limit_s:.0f} s.") from error
            log.warning("the database is away, trying again: %s", str(error).splitlines()[0])
            time.sleep(RETRY_S)
            close_old_connections()


class Watch:
    """Reads something now and then; while the database is away the last answer stands.

    ``readable_since`` is when (monotonic seconds) the present unbroken spell of reading began.
    """

    def __init__(self, every_s: float) -> None:
        self._every_s = every_s
        self._next = 0.0
        self._away_since: float | None = None
        self.readable_since = time.monotonic()

    def due(self) -> bool:
        return time.monotonic() >= self._next

    def read(self, action: Callable[[], T], otherwise: T) -> T:
        """The result of ``action``, or ``otherwise`` while the database is away."""
        self._next = time.monotonic() + self._every_s
        try:
            found = action()
        except AWAY as error:
            connection.close()
            now = time.monotonic()
            self._away_since = self._away_since or now
            if now - self._away_since > OUTAGE_LIMIT_S:
                raise DatabaseAway(f"The database was away for over {OUTAGE_LIMIT_S:.0f} s.") from error
            return otherwise
        if self._away_since is not None:
            self._away_since = None
            self.readable_since = time.monotonic()
        return found
