"""What goes on beside a run while it is led, each on a thread of its own."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from typing import Self

from django.db import connection

from stonekettle.server.problems import fault
from stonekettle.server.runs.keeping import AWAY


class Beside:
    """Looks at a run now and then. A look may fail: the run goes on, and the next one is as good. Use as a context."""

    every_s = 1.0
    share = 1.0
    """At most so much of the time goes into looking."""
    about = "what goes on beside"

    def __init__(self, run_id: int) -> None:
        self.run_id = run_id
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._run, name=type(self).__name__.lower(), daemon=True)

    def __enter__(self) -> Self:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._over.set()
        self._thread.join(self.every_s + 30)

    def look(self) -> None:
        raise NotImplementedError

    def end(self) -> None:
        """What is left to be done after the last look."""

    def _run(self) -> None:
        took_s = 0.0
        try:
            while not self._over.wait(max(self.every_s, took_s * (1 / self.share - 1))):
                began = time.monotonic()
                self._try(self.look)
                took_s = time.monotonic() - began
            self._try(self.end)
        finally:
            connection.close()

    def _try(self, act: Callable[[], None]) -> None:
        try:
            act()
        except AWAY:
            connection.close()
        except Exception as error:
            fault(f"{self.about} of run {self.run_id}", error)
