"""``./kettle bench faults``: short runs with faults made on purpose, each at a random second.

Three workers make load for two regions, each in a network namespace of its own; the database lies on a small disk.
A run must record what the practice system served, less what a killed process held, tell its story rightly, leave no
load without an owner for over 15 s, and let the next run work. Needs root and ``ip``.
"""

from __future__ import annotations

import os
import random
import signal
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Any

from stonekettle.door import install
from stonekettle.door.session import Session
from stonekettle.door.site import Site, ip
from stonekettle.door.site import site as machines

LOAD_S = 26
OWNERLESS_S = 15.0
AWAY_S = 20.0
HUNG_S = 30.0
SKEW_S = 3.0
PLAN = f"""
name: NAME
system: {{name: Quillport Tramways, base_url: "practice://gateway"}}
journeys:
  - name: look
    steps: [{{name: board, request: GET /departures, think: exponential 400 ms}}]
groups:
  - {{name: north, region: north, users: [{{hold: {{users: 30, for: {LOAD_S} s}}}}]}}
  - {{name: south, region: south, users: [{{hold: {{users: 15, for: {LOAD_S} s}}}}]}}
"""


@dataclass
class Outcome:
    """What became of one run with a fault."""

    fault: str
    at_s: float
    state: str
    cause: str
    story: list[str]
    recorded: int
    served: int
    ownerless_s: float
    wrong: list[str] = field(default_factory=list)


# Faults: each is done and undone; returns the worker whose load may have lost its owner, with the moment.

Fault = Callable[[Site, random.Random], tuple[int, float] | None]


def kill_generator(site: Site, chance: random.Random) -> None:
    os.kill(chance.choice(site.generators(chance.choice((0, 1, 2)))), signal.SIGKILL)


def freeze_generator(site: Site, chance: random.Random) -> None:
    pid = chance.choice(site.generators(chance.choice((0, 1, 2))))
    os.kill(pid, signal.SIGSTOP)
    time.sleep(AWAY_S)
    with suppress(ProcessLookupError):
        os.kill(pid, signal.SIGCONT)


def freeze_owner(site: Site, chance: random.Random) -> tuple[int, float]:
    i = chance.choice((0, 1))
    begun = time.time()
    os.kill(site.owner(i), signal.SIGSTOP)
    time.sleep(AWAY_S)
    os.kill(site.owner(i), signal.SIGCONT)
    return i, min(begun + AWAY_S, site.last_load(i)) - begun


def cut_off(site: Site, chance: random.Random) -> None:
    i = chance.choice((0, 1, 2))
    ip("link", "set", f"kf{i}h", "down")
    time.sleep(AWAY_S)
    ip("link", "set", f"kf{i}h", "up")


def restart_database(site: Site, chance: random.Random) -> None:
    site.restart_database()


def hang_database(site: Site, chance: random.Random) -> None:
    pids = site.postgres()
    for pid in pids:
        with suppress(ProcessLookupError):
            os.kill(pid, signal.SIGSTOP)
    time.sleep(HUNG_S)
    for pid in reversed(pids):
        with suppress(ProcessLookupError):
            os.kill(pid, signal.SIGCONT)


def fill_disk(site: Site, chance: random.Random) -> None:
    filler = site.disk / "filler"
    with suppress(OSError), filler.open("wb") as file:
        while True:
            file.write(bytes(100_000))
            file.flush()
    time.sleep(AWAY_S)
    filler.unlink()


def skew_clock(site: Site, chance: random.Random) -> None:
    """Nothing at the random second: the worker's clock is ahead all the time."""


FAULTS: dict[str, tuple[Fault, bool]] = {
    "a generator killed": (kill_generator, True),
    "a generator frozen for 20 s": (freeze_generator, True),
    "the owner of a generator frozen for 20 s": (freeze_owner, True),
    "a machine cut off for 20 s": (cut_off, True),
    "PostgreSQL restarted": (restart_database, False),
    "PostgreSQL hung for 30 s": (hang_database, False),
    "the disk full for 20 s": (fill_disk, False),
    "a clock 3 s ahead": (skew_clock, False),
}
"""Each with whether a generator is lost by it."""


def bench(arguments: list[str]) -> int:
    """Run every fault so many times (``--times``, 5), print what became of it; 0 when all went right."""
    times = int(arguments[arguments.index("--times") + 1]) if "--times" in arguments else 5
    chosen = [name for name in FAULTS if "--only" not in arguments or arguments[-1] in name]
    install.install(testing=True, say=lambda line: None)
    chance, wrong = random.Random(), 0
    with machines() as site:
        for name in chosen:
            for number in range(1, times + 1):
                outcome = _one(site, name, chance)
                wrong += bool(outcome.wrong)
                print(
                    f"{name}, {number} of {times}: at {outcome.at_s:.0f} s; {outcome.state}: {outcome.cause}",
                    flush=True,
                )
                print(f"    recorded {outcome.recorded} of {outcome.served} served; {'; '.join(outcome.story) or '—'}")
                if outcome.ownerless_s:
                    print(f"    load without an owner for {outcome.ownerless_s:.1f} s")
                for line in outcome.wrong:
                    print(f"    ✕ {line}", flush=True)
    print(f"{'○' if not wrong else '✕'} {wrong} of {len(chosen) * times} runs went wrong.")
    return 1 if wrong else 0


def _one(site: Site, name: str, chance: random.Random) -> Outcome:
    fault, loses = FAULTS[name]
    skewed = fault is skew_clock
    if skewed:
        site.stop_worker(0)
        site.start_worker(0, SKEW_S)
    session, before = site.session, site.served()
    assert session is not None  # by build
    run = _start(session, f"{name} {time.time():.1f}")
    _until(lambda: _detail(session, run)["begun_at"] is not None, 60)
    at_s = chance.uniform(2.0, LOAD_S - 8.0)
    time.sleep(max(0.0, _detail(session, run)["begun_at"] + at_s - time.time()))
    ownerless = fault(site, chance)
    _until(lambda: bool(_detail(session, run)["ended"]), 240)
    _until(lambda: all(g["state"] in ("finished", "lost") for g in _detail(session, run)["generators"]), 60)
    served = site.served() - before
    held = fault is kill_generator
    with suppress(TimeoutError):
        # What came in late is analysed a moment later.
        _until(lambda: _recorded(_detail(session, run)) >= served, 4 if held else 45)
    detail = _detail(session, run)
    outcome = Outcome(
        name,
        at_s,
        detail["state"],
        detail["cause"],
        [note["text"] for note in detail["notes"]],
        _recorded(detail),
        served,
        ownerless[1] if ownerless else 0.0,
    )
    outcome.wrong = _wrongs(outcome, loses, held)
    if skewed:
        outcome.wrong += _misplaced(session, run)
        site.stop_worker(0)
        site.start_worker(0)
    outcome.wrong += _next_run(session)
    return outcome


def _wrongs(outcome: Outcome, loses: bool, held: bool) -> list[str]:
    found = []
    if outcome.state != "finished":
        found.append(f"the run ended as {outcome.state}")
    missing = outcome.served - outcome.recorded
    if missing < 0 or missing > (120 if held else 0):
        found.append(f"{missing} requests served are not recorded")
    told = any("was lost at" in line for line in outcome.story)
    if told != loses:
        found.append("a loss is told that there was not" if told else "the loss is not told")
    if outcome.ownerless_s > OWNERLESS_S:
        found.append(f"load without an owner for {outcome.ownerless_s:.1f} s")
    return found


def _misplaced(session: Session, run: int) -> list[str]:
    """Seconds in which a generator with a skewed clock was not where it should have been."""
    plate = session.get(f"/api/runs/{run}/plate")
    pairs = list(zip(plate["planned"], plate["users"], strict=True))[1 : LOAD_S - 1]
    off = [i for i, (planned, users) in enumerate(pairs, 1) if users is None or abs(planned - users) > 1]
    return [f"users are off in the seconds {off}"] if off else []


def _next_run(session: Session) -> list[str]:
    run = _start(session, f"next {time.time():.1f}", seconds=4)
    try:
        _until(lambda: bool(_detail(session, run)["ended"]), 60)
    except TimeoutError:
        return ["the next run did not end"]
    detail = _detail(session, run)
    return [] if detail["state"] == "finished" else [f"the next run: {detail['cause']}"]


def _start(session: Session, name: str, seconds: int = LOAD_S) -> int:
    source = PLAN.replace("NAME", name).replace(f"for: {LOAD_S} s", f"for: {seconds} s")
    experiment = session.post("/api/experiments", {"source": source})["id"]
    return int(session.post(f"/api/experiments/{experiment}/runs", {})["id"])


def _detail(session: Session, run: int) -> dict[str, Any]:
    while True:
        try:
            found: dict[str, Any] = session.get(f"/api/runs/{run}")
            return found
        except OSError:
            time.sleep(0.5)  # the database is away


def _recorded(detail: dict[str, Any]) -> int:
    totals = (detail["result"] or {}).get("totals", {})
    return int(totals.get("requests", 0)) + int(totals.get("trial_requests", 0))


def _until(condition: Callable[[], bool], limit_s: float) -> None:
    give_up = time.monotonic() + limit_s
    while not condition():
        if time.monotonic() > give_up:
            raise TimeoutError(f"not within {limit_s:.0f} s")
        time.sleep(0.3)
