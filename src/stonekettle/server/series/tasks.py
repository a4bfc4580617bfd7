"""What the workers do for series."""

from __future__ import annotations

from procrastinate.contrib.django import app

from stonekettle.server.series import taking


@app.periodic(cron="* * * * * */2")
@app.task(queue="conductor", queueing_lock="keep_series")
def keep_series(timestamp: int) -> None:
    """Series whose turn has ended go on to the next one."""
    taking.keep()


@app.task(queue="conductor")
def take_turn(series_id: int) -> None:
    """End a turn and begin the next: the system is changed, a run asked for."""
    taking.take(series_id)
