"""Many instances started at once: the calls that start them, and each asked after until it is ready."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor, wait
from threading import Event

from django.conf import settings

from stonekettle.engine.actions import ActionFailed, Changer
from stonekettle.engine.local import practice_directory
from stonekettle.engine.probing import Prober
from stonekettle.plan.calls import Call, Probe, Started
from stonekettle.plan.quantities import format_duration
from stonekettle.plan.secrecy import hidden, origin_of
from stonekettle.plan.system import Operations
from stonekettle.plan.system_document import in_practice
from stonekettle.server.changes import noting
from stonekettle.server.changes.models import SystemChange
from stonekettle.server.changes.noting import State
from stonekettle.server.targets import allowances

LOOK_S = 1.0
KEPT_EVERY_S = 5.0
AT_ONCE = 16
"""So many calls are under way where each instance has one of its own."""


def start(change: SystemChange, operations: Operations, many: Started, probe: Probe) -> None:
    """Start them and follow each. Raises :class:`ActionFailed` where none was started, or the run ended meanwhile; what
    was seen by then is kept."""
    stopped = Event()

    def may_go_on() -> None:
        # Calls of their own are made on threads, which ask no database.
        if stopped.is_set():
            raise ActionFailed("it was stopped before all were started")

    noting.check(change.run)
    prober = _prober(operations, many.asked, probe)
    with noting.changer(change.run, operations, may_go_on) as changer, prober:
        change.probing = {"every_s": probe.every, "within_s": probe.within}
        try:
            _begun(change, changer, many, prober, stopped)
            noting.accepted(change)
            kept_at = time.monotonic()
            while not prober.over.wait(LOOK_S):
                noting.check(change.run)
                _note(change, prober)
                if time.monotonic() - kept_at > KEPT_EVERY_S:
                    kept_at = time.monotonic()
                    _keep(change, prober)
        finally:
            _note(change, prober)
            _keep(change, prober)
    change.probing = {**change.probing, "followed": True}
    noting.save(change, "probing")
    _over(change, len(many.asked) - prober.ready_now, probe)


def _prober(operations: Operations, asked: Mapping[int, str], probe: Probe) -> Prober:
    directory = practice_directory(settings.PRACTICE_CONTROL)
    urls = {number: _found(operations, url, directory) for number, url in asked.items()}
    allowance = allowances.confirmed([("operations.changes", url) for url in {origin_of(url) for url in urls.values()}])
    ours = origin_of(_found(operations, "/", directory))
    credentials = operations.credentials
    known = credentials is not None and all(origin_of(url) == ours for url in urls.values())
    headers = credentials.headers if credentials is not None and known else {}
    return Prober(urls, probe.expect, probe.every, probe.within, allowance.refusal, headers)


def _found(operations: Operations, where: str, directory: Mapping[str, Sequence[str]]) -> str:
    there = in_practice(operations.address + where if where.startswith("/") else where, directory)
    if not there:
        raise ActionFailed(f"{where} is not in the practice system.")
    return there[0]


def _begun(change: SystemChange, changer: Changer, many: Started, prober: Prober, stopped: Event) -> None:
    """Make the calls that start them. Of several some may fail: those instances are not asked after."""
    if len(many.calls) == 1:
        changer.do(many.calls[0])
        return

    def one(number: int, call: Call) -> str:
        try:
            changer.do(call)
        except ActionFailed as error:
            prober.leave_out(number, f"not started: {hidden(str(error))}")
            return str(error)
        return ""

    with ThreadPoolExecutor(AT_ONCE, "start") as pool:
        calls = [pool.submit(one, number, call) for number, call in zip(many.asked, many.calls, strict=True)]
        try:
            while wait(calls, LOOK_S).not_done:
                noting.check(change.run)
        except ActionFailed:
            stopped.set()
            raise
    faults = [call.result() for call in calls]
    if all(faults):
        raise ActionFailed(f"none was started: {faults[0]}")


def _note(change: SystemChange, prober: Prober) -> None:
    """How many are ready by now, where that is news."""
    known = change.told[-1][1] if change.told else -1
    if prober.ready_now != known:
        change.told.append([noting.now(change.run), prober.ready_now, len(prober.probed)])
        noting.save(change, "told")


def _keep(change: SystemChange, prober: Prober) -> None:
    # Moments of the prober are by a clock that is never set; the run's is the wall's.
    shift = time.time() - time.monotonic() - (change.run.begun_at or 0.0)
    change.each = [
        [one.number, None if one.ready_at is None else round(one.ready_at + shift, 3), hidden(one.last)[:200]]
        for one in list(prober.probed.values())
    ]
    change.probing = {**change.probing, "late_s": round(prober.latest_s, 3)}
    noting.save(change, "each", "probing")


def _over(change: SystemChange, missing: int, probe: Probe) -> None:
    ready = [at for _, at, _ in change.each if at is not None]
    if missing:
        within = format_duration(probe.within)
        noting.failed(change, f"{missing} of {len(change.each)} were not ready within {within}.")
        return
    change.ready_s, change.state = max(ready), State.READY
    noting.save(change, "ready_s", "state")
    took = change.ready_s - change.asked_s
    noting.mark(
        change, change.ready_s, f"{change.words}: all {len(ready)} ready, {took:.1f} s after they were asked for"
    )
