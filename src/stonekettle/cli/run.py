"""``kettle run FILE --out DIR``: run a plan here and now, and write its result."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TextIO

import numpy as np
import pyarrow as pa

from stonekettle.cli import turns
from stonekettle.core import analysis as core
from stonekettle.core import facts
from stonekettle.core.orders import Ordered, with_order
from stonekettle.core.run_data import RunData
from stonekettle.core.search import OVER_S
from stonekettle.core.stalls import Requests
from stonekettle.engine import records, server_timing
from stonekettle.engine.allowance import Allowance
from stonekettle.engine.conductor import conduct
from stonekettle.engine.lifecycle import RunState, check_move
from stonekettle.engine.local import LocalGenerators, practice_directory
from stonekettle.engine.owner import SecondDone
from stonekettle.engine.rollup import StoredSecond, assemble
from stonekettle.engine.script import cell_numbers, cells_of
from stonekettle.engine.searching import LOOK_S
from stonekettle.engine.signals import Action, Give, Heard, Measured, Move, Note, Verb, Wish
from stonekettle.engine.stopping import Asked
from stonekettle.engine.targets import check_allowed
from stonekettle.meters import resources
from stonekettle.meters.samples import Batch, Readings, Source, unpack
from stonekettle.meters.scraper import EndpointReport
from stonekettle.plan import advice, document
from stonekettle.plan.models import Plan
from stonekettle.plan.parts import PRACTICE
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.report import facts_file, numbers, result

MET, BROKEN, BAD_INPUT, NOT_TRUSTWORTHY = 0, 1, 2, 3
EXIT_CODES = {
    "objectives met": MET,
    "objectives broken": BROKEN,
    "not trustworthy": NOT_TRUSTWORTHY,
    "no answer": NOT_TRUSTWORTHY,
}


BEFORE = 15
"""Rounds of meters read beside those asked for: a rate needs the one before."""
GENERATORS = len(os.sched_getaffinity(0))
"""One for each core, unless told otherwise."""


class FileControl(LocalGenerators):
    """Plays a run with generators of its own, keeps it in memory and its records in a Parquet file; tells progress on
    the terminal."""

    def __init__(self, plan: Plan, out: Path, terminal: TextIO, generators: int) -> None:
        super().__init__(generators, self._second)
        self.plan, self.terminal = plan, terminal
        self.ordered = Ordered((), plan.planned.arrivals)
        self.state, self.cause = RunState.QUEUED, ""
        self.trial_requests = 0
        self.seconds: list[StoredSecond] = []
        self.sources: dict[int, Source] = {}
        self.chunks: list[bytes] = []
        self._file = result.RequestsFile(out / "requests.parquet", plan)
        self._spool = tempfile.TemporaryFile(dir=out)  # noqa: SIM115  (closed by forget)
        self._spooled: list[tuple[int, int]] = []
        self._told, self._looks_at = 0, LOOK_S
        self._asked, self._asked_at = Asked.by(plan), 0
        self._reports: Sequence[EndpointReport] = ()

    def prepared(self, plan: Plan, allowance: Allowance, trial_requests: int) -> None:
        self.plan, self.trial_requests = plan, trial_requests
        self.start(plan)

    def do(self, action: Action) -> None:
        super().do(action)
        if isinstance(action, Move):
            self.move(action.state, action.cause)
        elif isinstance(action, Give):
            self.ordered = with_order(self.ordered, action.order)
        elif isinstance(action, Note):
            self._say(f"{action.at_s:.0f} s: {action.text}\n")

    def move(self, state: RunState, cause: str) -> None:
        check_move(self.state, state)
        self.state, self.cause = state, cause
        self._say(f"{state}: {cause}\n")

    def samples(self, batch: Batch) -> None:
        self.sources.update(batch.new)
        self.chunks.append(batch.chunk)

    def metered(self, reports: Sequence[EndpointReport]) -> None:
        self._reports = reports

    def tell_meters(self) -> None:
        """Which meters missed some scrapes."""
        for report in self._reports:
            if report.missed:
                self._say(f"Note: {report.component} at {report.instance} missed {report.missed} scrapes.\n")

    def _second(self, generator: str, event: SecondDone) -> None:
        self.seconds.append(StoredSecond(generator, event.rollup, event.histograms))
        if event.records:
            batch = records.to_batch(records.view(event.records))
            self._file.write(pa.Table.from_batches([batch]))
            self._spool.write(event.records)
            self._spooled.append((event.rollup["second"], len(event.records)))
        self._tell(event.rollup["second"])

    def heard(self) -> Sequence[Heard]:
        found = [*super().heard(), *self._busy()]
        orders = self.ordered.orders
        lasted = bool(orders) and self._told >= orders[-1].at_s + OVER_S
        if self.plan.search is None or not lasted or self._told < self._looks_at:
            return found
        self._looks_at = self._told + LOOK_S
        return [*found, Measured(self.measured(self._told)[0])]

    def _busy(self) -> list[Heard]:
        """What stop rules ask of the resources, once a second."""
        if self._asked is None or self._told <= self._asked_at:
            return []
        self._asked_at = self._told
        late = unpack(self.sources, self.chunks[-(self._asked.seconds + BEFORE) :])
        return [self._asked.of(resources.series(self.plan.system, late, self._told))]

    def measured(self, seconds: int) -> tuple[RunData, Readings]:
        """The first seconds of the run as the core reads them, and what the meters read."""
        stored = list(self.seconds)
        told = server_timing.series(self.plan, [second.rollup for second in stored])
        readings = unpack(self.sources, list(self.chunks)).joined(told)
        metered = resources.series(self.plan.system, readings, seconds)
        names = [group.name for group in self.plan.people]
        return assemble(cells_of(self.plan), self.ordered, stored, metered, seconds, names), readings

    def requests(self) -> Iterator[Requests]:
        """The steps that succeeded, second by second, read back as they are asked for."""
        self._spool.seek(0)
        cells = cell_numbers(self.plan)
        for second, size in self._spooled:
            found = records.view(self._spool.read(size))
            yield records.to_requests(found, np.full(len(found), second), cells)

    def close(self) -> None:
        super().close()
        self._file.close()

    def forget(self) -> None:
        """Let go of the records kept for the analysis."""
        self._spool.close()

    def _tell(self, second: int) -> None:
        """A line on the newest second that all generators have told."""
        rollups = [s.rollup for s in self.seconds[-4 * len(self.processes) :] if s.rollup["second"] == second]
        if second < self._told or len(rollups) < len(self.processes):
            return
        self._told = second + 1
        users = sum(rollup["users"] for rollup in rollups)
        steps, errors = (sum(sum(rollup[name]) for rollup in rollups) for name in ("completed", "errors"))
        left = max(0.0, self.plan.planned.duration_s - self._told)
        line = (
            f"{self._told:5d} s  {numbers.users(users)} users  {steps} steps/s  "
            f"{errors} errors  {'at most ' if self.plan.search else ''}{numbers.seconds(left)} left"
        )
        done = self._told
        if self.terminal.isatty():
            self._say(f"\r\x1b[K{line}")
        elif done % 10 == 0:
            self._say(line + "\n")

    def _say(self, text: str) -> None:
        self.terminal.write(("\r\x1b[K" if self.terminal.isatty() else "") + text)
        self.terminal.flush()


def read_plan(path: Path) -> Plan:
    """The plan in a file, its targets checked. Raises :class:`PlanError` with every problem."""
    plan = document.read(path.read_text())
    forbidden = check_allowed(plan.addresses)
    if forbidden:
        raise PlanError(Problem(e.path, e.message, e.mend) for e in forbidden)
    return plan


def run(
    file: Path,
    out: Path,
    *,
    practice: bool,
    practice_config: Path | None,
    terminal: TextIO,
    generators: int = GENERATORS,
) -> int:
    """Run the plan in ``file``; returns the exit code."""
    try:
        plan = read_plan(file)
        out.mkdir(parents=True, exist_ok=True)
    except PlanError as error:
        print(f"{file} is not a plan that can run:", file=sys.stderr)
        for problem in error.problems:
            print(f"  {problem}", file=sys.stderr)
        return BAD_INPUT
    except (OSError, UnicodeDecodeError) as error:
        print(f"{file}: {error}", file=sys.stderr)
        return BAD_INPUT
    for line in advice.of(plan):
        print(f"Note: {line}", file=terminal)
    wanted = practice or any(address.startswith(f"{PRACTICE}:") for _, address in plan.addresses)
    if not wanted:
        return _run_whole(plan, out, None, terminal, generators)
    with PracticeProcess(practice_config) as system:
        return _run_whole(plan, out, system.control_url, terminal, generators)


def _run_whole(plan: Plan, out: Path, control_url: str | None, terminal: TextIO, generators: int) -> int:
    """Run the plan, or each turn of its candidates."""
    if plan.timeline:
        print("timeline: its changes are made by the web application alone. Leave it out here.", file=sys.stderr)
        return BAD_INPUT
    if plan.turns is None:
        return _run_plan(plan, out, control_url, terminal, generators)[0]

    def measure(own: Plan, folder: Path) -> bool:
        return _run_plan(own, folder, control_url, terminal, generators)[1] == RunState.FINISHED

    return turns.take(plan, out, practice_directory(control_url), terminal, measure)


def _run_plan(
    plan: Plan, out: Path, control_url: str | None, terminal: TextIO, generators: int
) -> tuple[int, RunState]:
    """The exit code of one run, and how it ended."""
    journal = FileControl(plan, out, terminal, generators)

    def stop(signum: int, frame: object) -> None:
        journal.wish(Wish(Verb.STOP, "you"))

    previous = signal.signal(signal.SIGINT, stop)
    try:
        ending = conduct(plan, journal, lambda: practice_directory(control_url))
    finally:
        signal.signal(signal.SIGINT, previous)
    journal.tell_meters()
    if not ending.has_data:
        journal.forget()
        print(ending.cause, file=sys.stderr)
        return BAD_INPUT, ending.state
    plan = journal.plan
    began = time.monotonic()
    length = 1 + max((int(s.rollup["second"]) for s in journal.seconds), default=0)
    data, readings = journal.measured(length)
    goals = document.core_objectives(plan)
    promised = document.throughput_goals(plan)
    analysis = core.analyse(data, journal.ordered, goals, plan.error_limit, journal.requests(), promised=promised)
    journal.forget()
    if journal.state == RunState.ANALYSING:
        journal.move(ending.state, ending.cause)
    found = result.build(
        plan,
        data,
        analysis,
        readings,
        state=ending.state,
        cause=ending.cause,
        trial_requests=journal.trial_requests,
    )
    (out / "result.json").write_text(found.model_dump_json(indent=2) + "\n")
    (out / "seconds.csv").write_text(result.seconds_csv(data))
    (out / "facts.csv").write_text(facts_file.write(facts.gather(data, analysis, plan.system.cost_per_hour)))
    print(f"\n{found.verdict}\n", file=terminal)
    for note in found.notes:
        print(f"  {note.title}. {note.text}", file=terminal)
    print(f"\nAnalysed in {time.monotonic() - began:.1f} s. Written to {out}/", file=terminal)
    code = EXIT_CODES[found.outcome] if ending.state == RunState.FINISHED else NOT_TRUSTWORTHY
    return code, ending.state


class PracticeProcess:
    """The practice system as a process of its own, for the length of a ``with`` block."""

    def __init__(self, config: Path | None = None) -> None:
        self._command = [sys.executable, "-m", "stonekettle.practice"]
        if config is not None:
            self._command += ["--config", str(config)]

    def __enter__(self) -> PracticeProcess:
        self._process = subprocess.Popen(self._command, stdout=subprocess.PIPE, text=True, start_new_session=True)
        assert self._process.stdout is not None  # opened as a pipe
        line = self._process.stdout.readline()
        if not line:
            raise RuntimeError("the practice system did not start")
        self.control_url = f"http://127.0.0.1:{json.loads(line)['control']}"
        return self

    def __exit__(self, *error: object) -> None:
        self._process.terminate()
        try:
            self._process.wait(5)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
        if self._process.stdout is not None:
            self._process.stdout.close()
