"""The loop that makes load: one process, one core, no threads on the hot path.

It decides nothing about journeys: users are state machines (:func:`script.walk`) that yield what
to send or how long to wait. Each user has connections, cookies and TLS sessions of its own, as
users in life do.
"""

from __future__ import annotations

import gc
import heapq
import sys
import time
from bisect import bisect_left, insort
from collections.abc import Callable
from random import Random

import numpy as np
import pycurl

from stonekettle.core.load_profile import LoadProfile
from stonekettle.engine.driver import Driver, driver_for
from stonekettle.engine.flight import Flight, User, new_share
from stonekettle.engine.looking import Looking
from stonekettle.engine.reasons import Reasons
from stonekettle.engine.records import ERRORS, FORMAT, NEW_CONNECTION, PART, WHOLE, RecordBuffer
from stonekettle.engine.rollup import Second
from stonekettle.engine.script import Dealer, Request, Script, Values, walk
from stonekettle.engine.server_timing import TimingSampler

TICK_S = 0.01
"""The loop's metronome: how often planned load and orders are looked at, whatever else happens."""
DRAIN_LIMIT_S = 30.0
"""Users get this long to finish the step they are in."""
SWITCH_INTERVAL_S = 0.0005

_ERROR = {name: number for number, name in enumerate(ERRORS)}
_CURL_ERRORS = {
    pycurl.E_COULDNT_CONNECT: _ERROR["connection refused"],
    pycurl.E_OPERATION_TIMEDOUT: _ERROR["time limit"],
    pycurl.E_GOT_NOTHING: _ERROR["connection lost"],
    pycurl.E_RECV_ERROR: _ERROR["connection lost"],
    pycurl.E_SEND_ERROR: _ERROR["connection lost"],
    pycurl.E_PARTIAL_FILE: _ERROR["connection lost"],
    pycurl.E_SSL_CONNECT_ERROR: _ERROR["TLS"],
    pycurl.E_PEER_FAILED_VERIFICATION: _ERROR["TLS"],
}

CONNECTIONS_PER_HOST = 6
"""So many at a time for a user's accompanying requests, as browsers do."""


class LoadLoop:
    """Walks virtual users through a script along a load profile.

    ``emit`` receives each finished second with its packed records; it must not block. ``share``
    is (index, count): this generator plays every count-th user, starting with the index-th.
    """

    def __init__(
        self,
        script: Script,
        profile: LoadProfile,
        emit: Callable[[Second, bytes], None],
        *,
        share: tuple[int, int] = (0, 1),
        seed: int = 1,
        drain_limit_s: float = DRAIN_LIMIT_S,
    ) -> None:
        self.script, self.profile, self.emit = script, profile, emit
        self.share, self.drain_limit_s = share, drain_limit_s
        random = Random(seed * 1_000 + share[0])
        self.dealer = Dealer(script, random, share)
        self.thinks = [request.think.sampler(random) for journey in script.journeys for request in journey]
        self.driver: Driver = driver_for(self._wanted(profile.peak_users))
        self.heap: list[tuple[float, int, User]] = []
        self.present: list[User] = []
        self._free: list[int] = []
        self._places = 0
        self._gone: list[int] = []
        self.draining_since: float | None = None
        self._order = 0
        self._busy: dict[pycurl.Curl, Flight] = {}
        self._in_step = 0
        if any(request.accompanying for journey in script.journeys for request in journey):
            self.driver.multi.setopt(pycurl.M_MAX_HOST_CONNECTIONS, CONNECTIONS_PER_HOST)
        self._buffer = RecordBuffer()
        self._timings = TimingSampler(script.timing_names)
        self._second = 0
        self._start = self._mark = self._last_begin = 0.0
        self._gap: float = 0.0
        self._looking = Looking(self.driver)
        self._reasons = Reasons()
        self._reset_second()

    def drain(self) -> None:
        """Let thinking users go and the others finish the step they are in."""
        if self.draining_since is None:
            self.draining_since = time.perf_counter()

    def run(self, start_at: float, orders: Callable[[], str | None]) -> None:
        """Make load from ``start_at`` (perf_counter seconds) to the end of the profile.

        ``orders`` is asked every tick: "drain" to end early, or None.
        """
        self._start = self._mark = self._last_begin = start_at
        while (now := time.perf_counter()) < start_at:
            time.sleep(min(TICK_S, start_at - now))
        self._reasons.read()
        looking = self._looking
        looking.begin(start_at)
        next_tick = start_at
        while True:
            now = looking.alive()
            if now >= next_tick:
                if now - self._start >= self._second + 1:
                    self._close_seconds(now)
                if not self._tick(now, orders()):
                    break
                next_tick = now + TICK_S
            heap = self.heap
            while heap and heap[0][0] <= now:
                due, _, user = heapq.heappop(heap)
                if not user.leaving:
                    self._proceed(user, due, True)
            looking.look()
            if not self._collect():
                until = min(heap[0][0] if heap else next_tick, next_tick) - time.perf_counter()
                if until > 0 and self._busy:
                    looking.wait(until)
                    self._collect()
                elif until > 0:
                    # With nothing to watch, libcurl's wait returns at once and the loop would spin.
                    time.sleep(until)
        self._close_seconds(time.perf_counter(), last=True)
        self.driver.close()

    # Users

    def _wanted(self, users: float) -> int:
        index, count = self.share
        return (round(users) - index + count - 1) // count if users > 0 else 0

    def _tick(self, now: float, order: str | None) -> bool:
        """Follow the plan and orders; False when the run is over and nobody is in flight."""
        elapsed = now - self._start
        if order == "drain" or elapsed >= self.profile.duration_s:
            self.drain()
        if self.draining_since is None:
            self._follow(now, self._wanted(self.profile.users_at(elapsed)))
            return True
        self._follow(now, 0)
        if now - self.draining_since > self.drain_limit_s:
            for flight in list(self._busy.values()):
                self._finish(flight, _ERROR["cut off at the end"], now)
        return bool(self._busy)

    def _follow(self, now: float, wanted: int) -> None:
        present = self.present
        # Who retired for good leaves a place empty; those above the wanted ones do not matter now.
        wanted -= bisect_left(self._gone, wanted)
        if wanted > len(present):
            self._advance_areas(now)
            for _ in range(wanted - len(present)):
                self._join(now)
        elif wanted < len(present):
            self._advance_areas(now)
            for _ in range(len(present) - wanted):
                user = present.pop()
                user.leaving = True
                if not user.in_step:
                    # It is thinking; its entry in the heap finds it gone.
                    self._retire(user)

    def _join(self, now: float) -> None:
        place = heapq.heappop(self._free) if self._free else self._places
        self._places = max(self._places, place + 1)
        number = place * self.share[1] + self.share[0]
        user = User(number, walk(self.dealer, self.thinks, number + 1), new_share())
        user.main = Flight.of(user)
        insort(self.present, user, key=lambda one: one.number)  # the highest leave first
        self._proceed(user, now, True)

    def _retire(self, user: User, *, for_good: bool = False) -> None:
        """Close what belongs to the user; nothing of it may reach the next one."""
        place = (user.number - self.share[0]) // self.share[1]
        if for_good:
            insort(self._gone, place)
        else:
            heapq.heappush(self._free, place)
        user.life.close()
        for flight in (user.main, *user.free):
            if flight is not None:
                flight.handle.close()
        user.share.close()

    def _proceed(self, user: User, due: float, succeeded: bool) -> None:
        """Let the user's life go on at ``due``: send its request or put it to sleep."""
        try:
            if user.begun:
                action = user.life.send(succeeded)
            else:
                user.begun = True
                action = next(user.life)
            while isinstance(action, float):
                if action > 0:
                    self._order += 1
                    heapq.heappush(self.heap, (due + action, self._order, user))
                    return
                action = user.life.send(True)
        except StopIteration:
            # Its feeds have no row for it any more; nobody takes its place.
            self._advance_areas(time.perf_counter())
            self.present.remove(user)
            self._retire(user, for_good=True)
            return
        self._send(user, *action, due)

    # Requests

    def _send(self, user: User, request: Request, values: Values, due: float) -> None:
        flight = user.main
        assert flight is not None  # a user has its handle from the start
        flight.prepare(request, values)
        now = time.perf_counter()
        flight.scheduled, flight.started = due, now
        self._advance_areas(now)
        self._lags.append(now - due)
        self._overdue_area += now - max(due, self._start + self._second)
        gap = now - self._last_begin
        if gap > self._gap:
            self._gap = gap
        self._last_begin = now
        self._started[request.step] += 1
        self._in_step += 1
        user.in_step = True
        if self._timings.wanted and self._timings.take(now - self._start - self._second):
            flight.capture_headers()
        self._busy[flight.handle] = flight
        self.driver.multi.add_handle(flight.handle)

    def _collect(self) -> bool:
        """Finish every completed transfer; whether there was any."""
        multi = self.driver.multi
        any_done = False
        while True:
            queued, good, bad = multi.info_read(256)
            for handle in good:
                self._finish(self._busy[handle], 0, time.perf_counter())
            for handle, code, _ in bad:
                flight = self._busy[handle]
                error = _CURL_ERRORS.get(code, _ERROR["other"])
                if flight.refused:
                    error = _ERROR["target not allowed"]
                self._finish(flight, error, time.perf_counter())
            any_done = any_done or bool(good or bad)
            if not queued:
                return any_done

    def _finish(self, flight: Flight, error: int, now: float) -> None:
        """Record a transfer that ended, and go on with the step it belongs to."""
        handle, request, user = flight.handle, flight.request, flight.user
        assert request is not None  # a flight in the air has a request
        self.driver.multi.remove_handle(handle)
        self._advance_areas(now)
        del self._busy[handle]
        info = handle.getinfo
        status = info(pycurl.RESPONSE_CODE)
        total = info(pycurl.TOTAL_TIME_T)
        elapsed = int((now - flight.started) * 1e6)
        if error:
            total = max(total, elapsed)
        elif status not in request.expect:
            error = _ERROR["status"]
        if request.examiner is not None or flight.headers is not None:
            error = self._examine(flight, request, status, total / 1e6, error)
        several = flight.part or bool(request.accompanying)
        dns = connect = tls = sent = 0
        flags = PART if several else 0
        if info(pycurl.NUM_CONNECTS):
            flags |= NEW_CONNECTION
            dns, connect = info(pycurl.NAMELOOKUP_TIME_T), info(pycurl.CONNECT_TIME_T)
            tls, sent = info(pycurl.APPCONNECT_TIME_T), info(pycurl.PRETRANSFER_TIME_T)
        start = self._start
        memory, offset = self._buffer.slot()
        FORMAT.pack_into(
            memory,
            offset,
            int((flight.scheduled - start) * 1e6),
            int((flight.started - start) * 1e6),
            user.number,
            request.journey,
            request.step,
            status,
            error,
            flags,
            info(pycurl.REQUEST_SIZE) + (info(pycurl.SIZE_UPLOAD_T) if request.method == "POST" else 0),
            info(pycurl.HEADER_SIZE) + info(pycurl.SIZE_DOWNLOAD_T),
            dns,
            connect,
            tls,
            sent,
            info(pycurl.STARTTRANSFER_TIME_T),
            total,
            max(0, elapsed - total),
            int(self._looking.blind_s * 1e6),
        )
        if flight.part:
            user.free.append(flight)
            user.waiting -= 1
            if user.waiting == 0:
                self._end_step(user, now)
            return
        user.failed = error
        if several and not error:
            self._accompany(user, request, now)
        if user.waiting == 0:
            self._end_step(user, now)

    def _examine(self, flight: Flight, request: Request, status: int, took_s: float, error: int) -> int:
        """Look at what was captured of a response; the error it ends with."""
        response = flight.taken(status, took_s)
        if self._timings.wanted and not flight.part:
            self._timings.add(request.step, response.headers)
        if error or request.examiner is None or flight.values is None:
            return error
        try:
            failure = request.examiner.examine(response, flight.values)
        except Exception:  # whatever an answer holds, it may fail its own request and nothing else
            return _ERROR["other"]
        return 0 if failure is None else _ERROR[failure]

    def _accompany(self, user: User, request: Request, now: float) -> None:
        """Fetch what accompanies an answered main request, but for what the user has already."""
        main = user.main
        assert main is not None  # a user has its handle from the start
        assert main.values is not None  # it has just been answered
        for other in request.accompanying:
            address = other.url_for(main.values)
            if request.session.cache:
                if address in user.cached:
                    continue
                user.cached.add(address)
            flight = user.free.pop() if user.free else Flight.of(user, part=True)
            flight.prepare(other, main.values)
            flight.scheduled = flight.started = now
            user.waiting += 1
            self._busy[flight.handle] = flight
            self.driver.multi.add_handle(flight.handle)

    def _end_step(self, user: User, now: float) -> None:
        """The step is over: let the user go on, or go."""
        main = user.main
        assert main is not None  # a user has its handle from the start
        request = main.request
        assert request is not None  # a step has one
        self._in_step -= 1
        user.in_step = False
        if request.accompanying:
            self._record_whole(user, main, request, now)
        main.request = None
        if user.leaving:
            self._retire(user)
        else:
            self._proceed(user, now, not user.failed)

    def _record_whole(self, user: User, main: Flight, request: Request, now: float) -> None:
        """The step as one: its main request's fate, its whole time."""
        start = self._start
        memory, offset = self._buffer.slot()
        times = (int((main.scheduled - start) * 1e6), int((main.started - start) * 1e6))
        whole = int((now - main.started) * 1e6)
        status = main.handle.getinfo(pycurl.RESPONSE_CODE)
        what = (user.number, request.journey, request.step, status, user.failed, WHOLE)
        blind = int((now - self._looking.since) * 1e6)
        FORMAT.pack_into(memory, offset, *times, *what, 0, 0, 0, 0, 0, 0, 0, whole, 0, blind)

    # Seconds

    def _reset_second(self) -> None:
        self._lags: list[float] = []
        self._overdue_area = 0.0
        self._gap = 0.0
        self._users_area = 0.0
        self._flight_area = 0.0
        self._started = [0] * len(self.script.steps)

    def _advance_areas(self, now: float) -> None:
        """Integrate users and requests in flight up to ``now``, before either changes."""
        passed = now - self._mark
        if passed > 0:
            self._flight_area += self._in_step * passed
            self._users_area += len(self.present) * passed
            self._mark = now

    def _close_seconds(self, now: float, *, last: bool = False) -> None:
        """Emit the current second. A stall longer than a second gives its seconds one by one, the
        later ones empty, so that time never slips."""
        whole = int(now - self._start) - self._second
        for _ in range(whole):
            self._emit_second(self._start + self._second + 1)
        if last and now > self._start + self._second:
            self._emit_second(now)

    def _emit_second(self, edge: float) -> None:
        self._advance_areas(edge)
        # Events after the edge, seen before this tick, were integrated beyond it: hand that on.
        beyond = self._mark - edge
        users_beyond, flight_beyond = len(self.present) * beyond, self._in_step * beyond
        begun = self._start + self._second
        length = max(edge - begun, 1e-6)
        second = Second(
            second=self._second,
            users=max(0.0, self._users_area - users_beyond) / length,
            in_flight=max(0.0, self._flight_area - flight_beyond) / length,
            overdue=(self._overdue_area + self._still_overdue(begun, edge)) / length,
            start_gap_s=self._gap,
            lag_p99_s=float(np.percentile(self._lags, 99)) if self._lags else 0.0,
            started=self._started,
            stalls=[(a - self._start, b - self._start) for a, b in self._looking.take_stalls()],
            timings=self._timings.close_second(),
            **self._reasons.read(),
        )
        self.emit(second, self._buffer.take())
        self._second += 1
        self._reset_second()
        self._users_area, self._flight_area = users_beyond, flight_beyond

    def _still_overdue(self, begun: float, edge: float) -> float:
        """User seconds in [begun, edge) of those due before ``edge`` and not started yet: the top of the heap."""
        heap, area, places = self.heap, 0.0, [0]
        while places:
            place = places.pop()
            if place < len(heap) and heap[place][0] < edge:
                if not heap[place][2].leaving:
                    area += edge - max(begun, heap[place][0])
                places += (2 * place + 1, 2 * place + 2)
        return area


def settle_interpreter() -> None:
    """Prepare this process for a loop that must not pause: call once, when everything is built.

    What exists lives as long as the process, so scanning it for garbage would only pause the loop;
    a thread that folds a finished second may hold the interpreter for half a millisecond at most.
    """
    gc.collect()
    gc.freeze()
    gc.disable()
    sys.setswitchinterval(SWITCH_INTERVAL_S)
