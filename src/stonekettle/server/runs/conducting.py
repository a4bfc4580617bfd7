"""The conductor's control, by way of the database: generators are tasks of the workers, orders go through rows."""

from __future__ import annotations

import math
import threading
import time
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import asdict
from typing import Any

from django.conf import settings
from django.db import connection
from django.db.models.functions import Now

from stonekettle.core import search
from stonekettle.engine import orderbook, searching, signals
from stonekettle.engine.allowance import Allowance
from stonekettle.engine.errors import EngineError, Halted
from stonekettle.engine.signals import Action, Heard
from stonekettle.engine.stopping import Asked
from stonekettle.meters.samples import Batch
from stonekettle.meters.scraper import EndpointReport
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.plan.secrecy import hidden
from stonekettle.server import queueing
from stonekettle.server.access import halting
from stonekettle.server.access.roles import Actor
from stonekettle.server.problems import Conflict, fault
from stonekettle.server.runs import data, metering, rules, steering
from stonekettle.server.runs.beside import Beside
from stonekettle.server.runs.keeping import Watch, clock_offset_s, patiently, signs_in_memory, since
from stonekettle.server.runs.models import Generator, GeneratorSecond, Run, RunNote, RunOrder, RunWish
from stonekettle.server.targets import allowances

LOOK_S = 0.2
GENERATOR_SILENCE_S = 4.0
"""A generator without a sign of life for so long is lost; it is noticed within a second more."""
JUDGED = ("completed", "errors", "response_sum_s", "in_flight", "users", "overdue", "blind")
"""What stop rules ask of a second."""
LOOKED_BACK = 20
METERS_S = 1.0


class Line:
    """A conductor's line to the database, on a thread of its own: it gives the sign of life, hears generators and
    people, and does one after the other what is to be written. Whatever the conductor does, and however slow the
    database is, neither holds up the other. Use as a context."""

    def __init__(self, run_id: int, asked: Asked | None = None) -> None:
        self.run_id, self._asked = run_id, asked
        self._asked_at = 0.0
        self._watch = Watch(LOOK_S)
        self._to_do: deque[Callable[[], object]] = deque()
        self._heard: deque[Heard] = deque()
        self._states: dict[int, str] = {}
        self._names: dict[int, str] = {}
        self._last_second: dict[int, int] = {}
        self._seconds_to = self._wishes_to = 0
        self._halted = False
        self._doing = threading.Lock()
        self._fault: EngineError | None = None
        self._over, self._wake = threading.Event(), threading.Event()
        self._thread = threading.Thread(target=self._run, name="line", daemon=True)

    def __enter__(self) -> Line:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._over.set()
        self._wake.set()
        self._thread.join(LOOK_S + 1)

    @property
    def steady_for_s(self) -> float:
        return self._watch.steady_for_s

    def heard(self) -> list[Heard]:
        """What is new since the last call. Raises :class:`DatabaseAway` once it has been for too long, and what
        went wrong in writing."""
        if self._fault is not None:
            raise self._fault
        return [self._heard.popleft() for _ in range(len(self._heard))]

    def write(self, action: Callable[[], object]) -> None:
        """Do this soon, after what was to be done before. It must be safe to repeat."""
        self._to_do.append(action)
        self._wake.set()

    def flush(self) -> None:
        """Do what is left, waiting for the database if need be."""
        patiently(self._do)

    def tell(self, news: Heard) -> None:
        """What the conductor shall hear besides; from any thread."""
        self._heard.append(news)

    def look(self) -> None:
        """Give the sign of life, write what there is, hear what is new."""
        Run.objects.filter(pk=self.run_id).update(conductor_seen_at=Now())
        self._do()
        self._hear_generators()
        self._hear_seconds()
        self._hear_meters()
        self._hear_halt()
        self._hear_wishes()

    def _run(self) -> None:
        try:
            while not self._over.is_set():
                self._watch.read(self.look, None)
                self._wake.wait(LOOK_S)
                self._wake.clear()
        except EngineError as error:
            self._fault = error
        except Exception as error:
            self._fault = EngineError(fault(f"run {self.run_id}", error)["detail"])
        finally:
            connection.close()

    def _do(self) -> None:
        with self._doing:
            while self._to_do:
                self._to_do[0]()
                self._to_do.popleft()

    def _hear_generators(self) -> None:
        """Their comings and goings. Silence is judged by the database's clock, and only while it has been steady as
        long: after an outage, or while nothing can be written, everybody's sign of life is old."""
        generators = Generator.objects.filter(run_id=self.run_id).defer("lease").annotate(silent=since("seen_at"))
        signs = signs_in_memory()
        for generator in generators:
            before = self._states.get(generator.pk)
            self._names[generator.pk] = generator.name
            state, reason = generator.state, generator.reason
            silent = min(generator.silent.total_seconds(), signs.get(generator.pk, math.inf)) > GENERATOR_SILENCE_S
            if state == Generator.State.READY and silent and self.steady_for_s > GENERATOR_SILENCE_S:
                state, reason = Generator.State.LOST, f"no sign of life for {GENERATOR_SILENCE_S:.0f} s"
                Generator.objects.filter(pk=generator.pk).update(state=state, reason=reason)
            if state != before:
                self._states[generator.pk] = state
                if state == Generator.State.READY:
                    self._heard.append(signals.Ready(generator.name, generator.region))
                elif state == Generator.State.LOST:
                    self._heard.append(signals.Lost(generator.name, reason))
                elif state == Generator.State.FINISHED:
                    self._hear_seconds()
                    self._heard.append(signals.Finished(generator.name))
            self._heard.append(signals.Acknowledged(generator.name, generator.acknowledged))

    def _hear_seconds(self) -> None:
        """What generators told. Rows of several become visible out of turn: the last few are looked at again."""
        news = GeneratorSecond.objects.filter(generator__run_id=self.run_id, pk__gt=self._seconds_to - LOOKED_BACK)
        names = ("told", *JUDGED)
        for pk, generator, second, told, *judged in news.order_by("pk").values_list(
            "pk", "generator_id", "second", *(f"rollup__{name}" for name in names)
        ):
            if generator in self._names and second > self._last_second.get(generator, -1):
                self._last_second[generator] = second
                heard = {"second": second, "told": told or {}, **dict(zip(JUDGED, judged, strict=True))}
                self._heard.append(signals.Told(self._names[generator], heard))
            self._seconds_to = max(self._seconds_to, pk)

    def _hear_meters(self) -> None:
        """How busy the resources were that stop rules ask for, once a second."""
        if self._asked is not None and time.monotonic() >= self._asked_at:
            self._asked_at = time.monotonic() + METERS_S
            busy = metering.lately(self.run_id, self._asked.resources, self._asked.seconds)
            self._heard.append(signals.Metered(busy))

    def _hear_halt(self) -> None:
        """A halt is a wish to stop: generators have ended their load by themselves."""
        halt = None if self._halted else halting.in_force()
        if halt is not None:
            self._halted = True
            with suppress(Conflict):
                rules.request_stop(Actor.itself(f"the halt of {halt.by}"), Run.objects.get(pk=self.run_id), halt.why)

    def _hear_wishes(self) -> None:
        for wish in RunWish.objects.filter(run_id=self.run_id, pk__gt=self._wishes_to, accepted=None):
            self._wishes_to = wish.pk
            self._heard.append(steering.as_heard(wish))


class Looking(Beside):
    """Tells the conductor now and then what was measured so far, where a search leads the load: the level in force goes
    on meanwhile. A long run takes longer to read."""

    every_s = searching.LOOK_S
    share = 1 / 6
    about = "the search"

    def __init__(self, run_id: int, line: Line) -> None:
        super().__init__(run_id)
        self._line = line

    def look(self) -> None:
        run = Run.objects.get(pk=self.run_id)
        if self._may_decide(run):
            self._line.tell(signals.Measured(data.load(run).run))

    def _may_decide(self, run: Run) -> bool:
        """Reading everything for a level that has just begun would be in vain."""
        orders = run.ordered.orders
        return run.begun_at is not None and data.seconds_stored(run) >= orders[-1].at_s + search.OVER_S


class DatabaseControl:
    """The control (:class:`conductor.Control`) of a run in the database. What cannot be written waits in memory."""

    def __init__(self, line: Line) -> None:
        self._line, self.run_id = line, line.run_id
        self._offset_s = patiently(clock_offset_s)
        self._generators = 0

    def regions(self, plan: Plan) -> Mapping[str, int]:
        """As many in each region that a group names, and for groups that name none as many here."""
        return {group.region or settings.GENERATOR_REGION: settings.GENERATORS for group in plan.people}

    def check_halt(self) -> None:
        halt = patiently(halting.in_force)
        if halt is not None:
            raise Halted(halt.words)

    def allowance(self, plan: Plan) -> Allowance:
        return patiently(lambda: allowances.confirmed(plan.addresses))

    def prepared(self, plan: Plan, allowance: Allowance, trial_requests: int) -> None:
        made = document.to_document(plan)
        self._update(plan_document=made, allowance=allowance.as_dict(), trial_requests=trial_requests)
        for region, count in self.regions(plan).items():
            for _ in range(count):
                self._look_for_one(region)

    def heard(self) -> Sequence[Heard]:
        return self._line.heard()

    def do(self, action: Action) -> None:
        if isinstance(action, signals.Begin):
            self._update(begun_at=time.time() + self._offset_s + action.in_s)
        elif isinstance(action, signals.Give):
            self._line.write(lambda: self._give(action))
        elif isinstance(action, signals.Lend):
            rows = Generator.objects.filter(run_id=self.run_id, name=action.generator)
            self._line.write(lambda: rows.update(lease=action.lease.as_dict()))
        elif isinstance(action, signals.Replace):
            self._look_for_one(action.region)
        elif isinstance(action, signals.GiveUp):
            given_up = Generator.objects.filter(run_id=self.run_id, name=action.generator)
            self._line.write(lambda: given_up.update(state=Generator.State.LOST, reason=action.why))
        elif isinstance(action, signals.Answer):
            asked = RunWish.objects.filter(pk=action.key)
            self._line.write(lambda: asked.update(accepted=action.accepted, answer=action.text))
        elif isinstance(action, signals.Note):
            self._line.write(lambda: self._note(action))
        elif isinstance(action, signals.Stand):
            self._line.write(lambda: self._stand(action))
        elif isinstance(action, signals.Move):
            self._line.write(lambda: rules.move(self.run_id, action.state, action.cause))

    def samples(self, batch: Batch) -> None:
        self._line.write(lambda: data.store(self.run_id, [batch]))

    def metered(self, reports: Sequence[EndpointReport]) -> None:
        self._update(meter_reports=[{**asdict(report), "last_fault": hidden(report.last_fault)} for report in reports])

    def close(self) -> None:
        """Generators let their users go by the run's state, or by the silence of its conductor."""
        unused = Generator.objects.filter(run_id=self.run_id, state=Generator.State.STARTING)
        self._line.write(lambda: unused.update(state=Generator.State.FINISHED, reason="not needed any more"))

    def _look_for_one(self, region: str) -> None:
        """Ask the workers of a region for a generator."""
        self._generators += 1
        number = self._generators
        self._line.write(lambda: self._ask_for(region, number))

    def _ask_for(self, region: str, number: int) -> None:
        generator, made = Generator.objects.get_or_create(
            run_id=self.run_id, name=f"{region}-{number}", defaults={"region": region, "slot": number - 1}
        )
        if made:
            queueing.ask(queueing.GENERATE, f"region-{region}", generator_id=generator.pk)

    def _give(self, action: signals.Give) -> None:
        told: dict[str, Any] = {"order": orderbook.to_plain(action.order), "who": action.who, "why": hidden(action.why)}
        RunOrder.objects.update_or_create(run_id=self.run_id, number=action.order.number, defaults=told)

    def _note(self, action: signals.Note) -> None:
        RunNote.objects.get_or_create(
            run_id=self.run_id, at_s=round(action.at_s, 3), who=action.who, text=hidden(action.text)
        )
        Run.objects.goes_on(self.run_id)

    def _stand(self, action: signals.Stand) -> None:
        Run.objects.filter(pk=self.run_id).update(course=action.course)
        Run.objects.goes_on(self.run_id)

    def _update(self, **fields: object) -> None:
        self._line.write(lambda: Run.objects.filter(pk=self.run_id).update(**fields))
