"""The loop that makes load: one process, one core, no threads on the hot path.

It decides nothing about journeys: users are state machines (:func:`script.walk`) that yield what
to send or how long to wait. Each user has connections, cookies and TLS sessions of its own, as
users in life do.
"""

from __future__ import annotations

import gc
import heapq
import resource
import socket
import sys
import time
from collections.abc import Callable, Generator, Mapping
from dataclasses import dataclass
from random import Random

import numpy as np
import pycurl

from stonekettle.core.load_profile import LoadProfile
from stonekettle.engine.driver import Driver, driver_for
from stonekettle.engine.records import ERRORS, FORMAT, NEW_CONNECTION, RecordBuffer
from stonekettle.engine.rollup import Second
from stonekettle.engine.script import Dealer, Request, Script, walk
from stonekettle.engine.server_timing import TimingSampler
from stonekettle.engine.targets import is_allowed

TICK_S = 0.02
"""How often planned load and orders are looked at."""
DRAIN_LIMIT_S = 30.0
"""Users get this long to finish the step they are in."""
LATE_S = 0.005
SWITCH_INTERVAL_S = 0.0005
CONNECT_TIMEOUT_MS = 10_000

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

Life = Generator[float | tuple[Request, Mapping[str, str]], bool, None]


@dataclass(slots=True)
class _User:
    number: int
    life: Life
    handle: pycurl.Curl
    share: pycurl.CurlShare
    request: Request | None = None
    prepared: Request | None = None
    scheduled: float = 0.0
    started: float = 0.0
    begun: bool = False
    leaving: bool = False
    refused: bool = False
    headers: list[bytes] | None = None


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
        self.heap: list[tuple[float, int, _User]] = []
        self.present: list[_User] = []
        self.draining_since: float | None = None
        self._order = 0
        self._busy: dict[pycurl.Curl, _User] = {}
        self._buffer = RecordBuffer()
        self._timings = TimingSampler(script.timing_names)
        self._second = 0
        self._start = self._mark = self._last_begin = 0.0
        self._gap: float = 0.0
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
        self._read_usage()
        next_tick = start_at
        pump, wait = self.driver.pump, self.driver.wait
        while True:
            now = time.perf_counter()
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
            pump()
            if not self._collect():
                until = min(heap[0][0] if heap else next_tick, next_tick) - time.perf_counter()
                if until > 0 and self._busy:
                    wait(until)
                    pump()
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
            for user in list(self._busy.values()):
                self._finish(user, _ERROR["cut off at the end"], now)
        return bool(self._busy)

    def _follow(self, now: float, wanted: int) -> None:
        present = self.present
        if wanted > len(present):
            self._advance_areas(now)
            for _ in range(wanted - len(present)):
                self._join(now)
        elif wanted < len(present):
            self._advance_areas(now)
            for _ in range(len(present) - wanted):
                user = present.pop()
                user.leaving = True
                if user.handle not in self._busy:
                    # It is thinking; its entry in the heap finds it gone.
                    self._retire(user)

    def _join(self, now: float) -> None:
        number = len(self.present)  # the highest numbers leave first, so this one is free
        handle, connections = _new_handle()
        user = _User(number * self.share[1] + self.share[0], walk(self.dealer, self.thinks), handle, connections)
        user.handle.setopt(pycurl.OPENSOCKETFUNCTION, _guarded_socket(user))
        self.present.append(user)
        self._proceed(user, now, True)

    def _retire(self, user: _User) -> None:
        """Close what belongs to the user; nothing of it may reach the next one."""
        user.life.close()
        user.handle.close()
        user.share.close()

    def _proceed(self, user: _User, due: float, succeeded: bool) -> None:
        """Let the user's life go on at ``due``: send its request or put it to sleep."""
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
        self._send(user, *action, due)

    # Requests

    def _send(self, user: _User, request: Request, values: Mapping[str, str], due: float) -> None:
        handle = user.handle
        if user.prepared is not request:
            handle.setopt(pycurl.HTTPHEADER, request.headers_for(values))
            handle.setopt(pycurl.TIMEOUT_MS, request.time_limit_ms)
            if request.method == "GET":
                handle.setopt(pycurl.HTTPGET, 1)
            else:
                handle.setopt(pycurl.POST, 1)
            if request.url is not None:
                handle.setopt(pycurl.URL, request.url)
            user.prepared = request
        elif request.fill_headers:
            handle.setopt(pycurl.HTTPHEADER, request.headers_for(values))
        if request.url is None:
            handle.setopt(pycurl.URL, request.url_for(values))
        if request.method == "POST":
            handle.setopt(pycurl.POSTFIELDS, request.body_for(values))
        now = time.perf_counter()
        user.request, user.scheduled, user.started, user.refused = request, due, now, False
        self._advance_areas(now)
        lag = now - due
        self._lags.append(lag)
        if lag > LATE_S:
            self._late += 1
        self._lag_sum += lag
        gap = now - self._last_begin
        if gap > self._gap:
            self._gap = gap
        self._last_begin = now
        self._started[request.step] += 1
        if self._timings.wanted and self._timings.take(now - self._start - self._second):
            user.headers = []
            handle.setopt(pycurl.HEADERFUNCTION, user.headers.append)
        self._busy[handle] = user
        self.driver.multi.add_handle(handle)

    def _collect(self) -> bool:
        """Finish every completed transfer; whether there was any."""
        multi = self.driver.multi
        any_done = False
        while True:
            queued, good, bad = multi.info_read(256)
            for handle in good:
                self._finish(self._busy[handle], 0, time.perf_counter())
            for handle, code, _ in bad:
                user = self._busy[handle]
                error = _CURL_ERRORS.get(code, _ERROR["other"])
                if user.refused:
                    error = _ERROR["target not allowed"]
                self._finish(user, error, time.perf_counter())
            any_done = any_done or bool(good or bad)
            if not queued:
                return any_done

    def _finish(self, user: _User, error: int, now: float) -> None:
        handle, request = user.handle, user.request
        assert request is not None  # a user in flight has a request
        self.driver.multi.remove_handle(handle)
        self._advance_areas(now)
        del self._busy[handle]
        info = handle.getinfo
        status = info(pycurl.RESPONSE_CODE)
        total = info(pycurl.TOTAL_TIME_T)
        elapsed = int((now - user.started) * 1e6)
        if error:
            total = max(total, elapsed)
        elif status not in request.expect:
            error = _ERROR["status"]
        dns = connect = tls = sent = flags = 0
        if info(pycurl.NUM_CONNECTS):
            flags = NEW_CONNECTION
            dns, connect = info(pycurl.NAMELOOKUP_TIME_T), info(pycurl.CONNECT_TIME_T)
            tls, sent = info(pycurl.APPCONNECT_TIME_T), info(pycurl.PRETRANSFER_TIME_T)
        start = self._start
        memory, offset = self._buffer.slot()
        FORMAT.pack_into(
            memory,
            offset,
            int((user.scheduled - start) * 1e6),
            int((user.started - start) * 1e6),
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
        )
        if user.headers is not None:
            handle.unsetopt(pycurl.HEADERFUNCTION)
            self._timings.add(request.step, user.headers)
            user.headers = None
        user.request = None
        if user.leaving:
            self._retire(user)
        else:
            self._proceed(user, now, not error)

    # Seconds

    def _reset_second(self) -> None:
        self._lags: list[float] = []
        self._late = 0
        self._lag_sum = 0.0
        self._gap = 0.0
        self._users_area = 0.0
        self._flight_area = 0.0
        self._started = [0] * len(self.script.steps)

    def _read_usage(self) -> None:
        self._wall = time.perf_counter()
        self._cpu = time.process_time()
        self._switches = resource.getrusage(resource.RUSAGE_SELF).ru_nivcsw

    def _advance_areas(self, now: float) -> None:
        """Integrate users and requests in flight up to ``now``, before either changes."""
        passed = now - self._mark
        if passed > 0:
            busy = len(self._busy)
            self._flight_area += busy * passed
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
        users_beyond, flight_beyond = len(self.present) * beyond, len(self._busy) * beyond
        length = max(edge - (self._start + self._second), 1e-6)
        wall, cpu = time.perf_counter(), time.process_time()
        switches = resource.getrusage(resource.RUSAGE_SELF).ru_nivcsw
        second = Second(
            second=self._second,
            users=max(0.0, self._users_area - users_beyond) / length,
            in_flight=max(0.0, self._flight_area - flight_beyond) / length,
            overdue=self._lag_sum / length,
            late_starts=self._late,
            start_gap_s=self._gap,
            lag_p99_s=float(np.percentile(self._lags, 99)) if self._lags else 0.0,
            cpu=min(1.0, (cpu - self._cpu) / max(wall - self._wall, 1e-6)),
            switches=switches - self._switches,
            started=self._started,
            timings=self._timings.close_second(),
        )
        self.emit(second, self._buffer.take())
        self._second += 1
        self._reset_second()
        self._users_area, self._flight_area = users_beyond, flight_beyond
        self._read_usage()


def settle_interpreter() -> None:
    """Prepare this process for a loop that must not pause: call once, when everything is built.

    What exists lives as long as the process, so scanning it for garbage would only pause the loop;
    a thread that folds a finished second may hold the interpreter for half a millisecond at most.
    """
    gc.collect()
    gc.freeze()
    gc.disable()
    sys.setswitchinterval(SWITCH_INTERVAL_S)


def _new_handle() -> tuple[pycurl.Curl, pycurl.CurlShare]:
    share = pycurl.CurlShare()
    share.setopt(pycurl.SH_SHARE, pycurl.LOCK_DATA_CONNECT)
    share.setopt(pycurl.SH_SHARE, pycurl.LOCK_DATA_COOKIE)
    share.setopt(pycurl.SH_SHARE, pycurl.LOCK_DATA_SSL_SESSION)
    handle = pycurl.Curl()
    handle.setopt(pycurl.SHARE, share)
    handle.setopt(pycurl.NOSIGNAL, 1)
    handle.setopt(pycurl.COOKIEFILE, "")
    # A built-in that returns its argument's length discards a body without running Python code.
    handle.setopt(pycurl.WRITEFUNCTION, len)
    handle.setopt(pycurl.ACCEPT_ENCODING, "")
    handle.setopt(pycurl.FOLLOWLOCATION, 0)
    handle.setopt(pycurl.CONNECTTIMEOUT_MS, CONNECT_TIMEOUT_MS)
    handle.setopt(pycurl.USERAGENT, "stone-kettle")
    handle.setopt(pycurl.PROXY, "")
    return handle, share


class _HandedOver(socket.socket):
    """A socket for libcurl, which takes a duplicate: this one is closed when it is let go."""

    def __del__(self) -> None:
        self.close()


def _guarded_socket(user: _User) -> Callable[[int, tuple[int, int, int, tuple[str, int]]], object]:
    """Opens a user's sockets, and refuses addresses that load may not go to."""

    def open_socket(purpose: int, address: tuple[int, int, int, tuple[str, int]]) -> object:
        family, kind, protocol, target = address
        host = target[0].decode() if isinstance(target[0], bytes) else target[0]
        if not is_allowed(host):
            user.refused = True
            return pycurl.SOCKET_BAD
        return _HandedOver(family, kind, protocol)

    return open_socket
