"""Users' requests in the air: handed to libcurl, taken back, recorded. The hot path of the loop.

Where a group's line has a round trip of its own, an answer travels on for as long as its round trips would have taken:
the user gets it then, and its phases tell of it.
"""

from __future__ import annotations

import math
import time
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass
from heapq import heappop, heappush
from random import Random

import pycurl

from stonekettle.engine.driver import Driver
from stonekettle.engine.evenly import Evenly
from stonekettle.engine.examine import Response
from stonekettle.engine.flight import Flight, Tracing, new_share
from stonekettle.engine.gates import OPEN, Gates
from stonekettle.engine.kept import EXCERPT, LOOKED_AT, MOST_WAITING, Choice, Whole, Why
from stonekettle.engine.lives import Values
from stonekettle.engine.looking import Looking
from stonekettle.engine.records import ERRORS, FORMAT, LED_ON, NEW_CONNECTION, PART, WHOLE, RecordBuffer
from stonekettle.engine.script import Request, Script
from stonekettle.engine.server_timing import TimingSampler
from stonekettle.engine.tally import Tally
from stonekettle.engine.user import User

CONNECTIONS_PER_HOST = 6
"""So many at a time for a user's accompanying requests, as browsers do."""
HELD_LONG_S = 0.25
"""A crowd of requests that came by chance is let go within less."""

_ERROR = {name: number for number, name in enumerate(ERRORS)}
CUT_OFF = _ERROR["cut off at the end"]
NOWHERE = frozenset({CUT_OFF, _ERROR["time limit"], _ERROR["target not allowed"]})
"""Nothing travels back from these: nobody waits for it any more, or nothing was sent."""
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


@dataclass(slots=True)
class Arrival:
    """An answer that libcurl has taken: its flight and error, how long the loop was blind to it (s), and by how much
    (s) its connecting, its encrypting and its first byte come later on the user's line."""

    flight: Flight
    error: int
    blind_s: float
    connected_s: float = 0.0
    encrypted_s: float = 0.0
    answered_s: float = 0.0


class Transfers:
    """The stage on which a generator's users act (:class:`population.Stage`).

    ``on_end`` hears each step that is over: its user, when, and whether it succeeded.
    """

    def __init__(
        self,
        script: Script,
        driver: Driver,
        looking: Looking,
        tally: Tally,
        on_end: Callable[[User, float, bool], None],
        seed: int = 0,
        slot: int = 0,
        gates: Gates = OPEN,
    ) -> None:
        self._tracing = Tracing(seed, script.traced_each)
        self._gates = gates
        self._held: deque[Flight] = deque()
        self.buffer = RecordBuffer()
        self.timings = TimingSampler(script.timing_names)
        self.choice = Choice(Random(f"{seed}-{slot}-kept"))
        self._looks = Evenly(LOOKED_AT)
        self._kept_whole: list[Whole] = []
        self.start = 0.0
        """When the run began, on the loop's clock."""
        self._limits = [(terms.down, terms.up) for terms in script.groups]
        self._round_trips = [terms.round_trip_s for terms in script.groups]
        self._travelling: list[tuple[float, int, Arrival]] = []
        self._travelled = 0
        self._cells = script.numbers.tolist()
        self._keeps = [terms.keeps_connections for terms in script.groups]
        self._kept: list[list[User]] = [[] for _ in script.groups]
        self._multi, self._looking, self._tally, self._on_end = driver.multi, looking, tally, on_end
        self._busy: dict[pycurl.Curl, Flight] = {}
        if any(request.accompanying for journey in script.journeys for request in journey):
            self._multi.setopt(pycurl.M_MAX_HOST_CONNECTIONS, CONNECTIONS_PER_HOST)

    def __bool__(self) -> bool:
        """Whether any transfer is in the air."""
        return bool(self._busy or self._travelling)

    @property
    def watched(self) -> bool:
        """Whether libcurl has any of them."""
        return bool(self._busy)

    @property
    def due(self) -> float:
        """When the next answer that travels reaches its user."""
        return self._travelling[0][0] if self._travelling else math.inf

    @property
    def held(self) -> bool:
        """Whether a ceiling holds any request back."""
        return bool(self._held)

    def enter(self, user: User) -> None:
        if self._kept[user.group]:
            self._take_over(user, self._kept[user.group].pop())
            return
        user.share = new_share()
        user.main = Flight.of(user, self._gates, tracing=self._tracing)
        if any(self._limits[user.group]):
            user.main.slow_to(*self._limits[user.group])

    def exit(self, user: User) -> None:
        main = user.main
        if self._keeps[user.group] and main is not None and not user.in_step:
            # Nothing of the person may reach the next one but the connection.
            main.handle.setopt(pycurl.COOKIELIST, "ALL")
            self._kept[user.group].append(user)
            return
        for flight in (user.main, *user.free):
            if flight is not None:
                flight.handle.close()
        if user.share is not None:
            user.share.close()

    @staticmethod
    def _take_over(user: User, before: User) -> None:
        """Give a user the connections of one who left."""
        user.share, user.main, user.free = before.share, before.main, before.free
        for flight in (user.main, *user.free):
            if flight is not None:
                flight.user = user

    def close(self) -> None:
        """Let go of the connections that were kept."""
        self._keeps = [False] * len(self._keeps)
        for users in self._kept:
            while users:
                self.exit(users.pop())

    def send(self, user: User, request: Request, values: Values, due: float) -> None:
        flight = user.main
        assert flight is not None  # a user has its handle from the start
        user.parts = 0
        flight.prepare(request, values)
        flight.scheduled = due
        if self._gates.limited and not self._may_go(flight, request.url_for(values)):
            return
        self._begin_step(flight, request, time.perf_counter())

    def _begin_step(self, flight: Flight, request: Request, now: float) -> None:
        """Send a step's main request."""
        user, tally = flight.user, self._tally
        flight.started = now
        tally.start(now, flight.scheduled, self._cells[user.group][request.step])
        if self.timings.wanted and self.timings.take(now - tally.begun):
            flight.capture_headers()
        if self._looks.take(now - tally.begun):
            flight.capture_whole()
        self._launch(flight)

    def _launch(self, flight: Flight) -> None:
        self._busy[flight.handle] = flight
        self._multi.add_handle(flight.handle)

    def _may_go(self, flight: Flight, url: str) -> bool:
        """Whether the ceilings let it go now; if not, it waits for its turn behind those that wait already."""
        flight.url = url
        if not self._held and self._gates.passes(url, time.perf_counter()):
            return True
        flight.held_at = time.perf_counter()
        self._held.append(flight)
        return False

    def release(self) -> None:
        """Let those go that were held back, in their order, as far as the ceilings let them by now."""
        held, now = self._held, time.perf_counter()
        if now - held[0].held_at > HELD_LONG_S:
            self._gates.held_long(held[0].url, now)
        while held and self._gates.passes(held[0].url, now := time.perf_counter()):
            flight = held.popleft()
            request = flight.request
            assert request is not None  # set up before it was held
            if flight.part or flight.hops:
                flight.scheduled = flight.started = now
                self._launch(flight)
            else:
                self._begin_step(flight, request, now)

    def take_whole(self) -> list[Whole]:
        """What was kept whole in the second that ends, and begin another."""
        self._looks.close_second()
        found, self._kept_whole = self._kept_whole, []
        return found

    def collect(self) -> bool:
        """Finish every completed transfer; whether there was any."""
        info_read, busy, clock = self._multi.info_read, self._busy, time.perf_counter
        any_done = False
        while True:
            queued, good, bad = info_read(256)
            for handle in good:
                self._take(busy[handle], 0, clock())
            for handle, code, _ in bad:
                flight = busy[handle]
                error = _CURL_ERRORS.get(code, _ERROR["other"])
                if flight.refused:
                    error = _ERROR["target not allowed"]
                self._take(flight, error, clock())
            any_done = any_done or bool(good or bad)
            if not queued:
                return any_done

    def cut_off(self, now: float) -> None:
        """End what is in the air, at the end of a run, and what was never let go."""
        while self._held:
            flight = self._held.popleft()
            if flight.part:
                self._end_part(flight, now)
            elif flight.hops:
                self._end_step(flight.user, now)
            else:
                self._on_end(flight.user, now, False)
        while self._busy or self._travelling:
            while self._travelling:
                self._finish(Arrival(heappop(self._travelling)[2].flight, CUT_OFF, 0.0), now)
            for flight in list(self._busy.values()):
                if flight.handle in self._busy:
                    self._take_down(flight)
                    self._finish(Arrival(flight, CUT_OFF, self._looking.blind_s), now)

    def arrive(self) -> None:
        """Let the users have the answers that have travelled as long as their lines make them."""
        travelling, clock = self._travelling, time.perf_counter
        while travelling and travelling[0][0] <= (now := clock()):
            self._finish(heappop(travelling)[2], now)

    def _take_down(self, flight: Flight) -> None:
        self._multi.remove_handle(flight.handle)
        del self._busy[flight.handle]

    def _take(self, flight: Flight, error: int, now: float) -> None:
        """Take an ended transfer from libcurl: its user has the answer now, or once it has travelled."""
        self._take_down(flight)
        trip = self._round_trips[flight.user.group]
        if not trip or error in NOWHERE:
            self._finish(Arrival(flight, error, self._looking.blind_s), now)
            return
        info, request = flight.handle.getinfo, flight.request
        assert request is not None  # a flight in the air has a request
        connected = trip if info(pycurl.NUM_CONNECTS) else 0.0
        encrypted = connected + trip if connected and info(pycurl.APPCONNECT_TIME_T) else 0.0
        answered = max(connected, encrypted) + trip
        due, given_up = now + answered, (flight.begun if flight.hops else flight.started) + request.time_limit_ms / 1e3
        if due > given_up:
            error, due = _ERROR["time limit"], given_up
        arrival = Arrival(flight, error, self._looking.blind_s, connected, encrypted, answered)
        self._travelled += 1
        heappush(self._travelling, (due, self._travelled, arrival))

    def _finish(self, arrival: Arrival, now: float) -> None:
        """Record a transfer that ended, and go on with the step it belongs to."""
        flight, error = arrival.flight, arrival.error
        handle, request, user = flight.handle, flight.request, flight.user
        assert request is not None  # a flight in the air has a request
        info = handle.getinfo
        status = info(pycurl.RESPONSE_CODE)
        later = int(arrival.answered_s * 1e6)
        total = info(pycurl.TOTAL_TIME_T) + later
        elapsed = int((now - flight.started) * 1e6)
        if error:
            # Given up on its way back it took no longer than until then.
            total = elapsed if later else max(total, elapsed)
        place, target = flight.place, None if error else flight.leads_to(status)
        led_on = target is not None and self._follows(flight, status, target, now)
        if target is not None and not led_on:
            error = _ERROR["target not allowed" if flight.refused else "other"]
        elif target is None and not error and status not in request.expect:
            error = _ERROR["status"]
        if not led_on and (request.examiner is not None or flight.headers is not None):
            error = self._examine(arrival, request, status, total, error)
        several = flight.part or bool(request.accompanying) or flight.hops > 0
        dns = connect = tls = sent = 0
        flags = (PART if several else 0) | (LED_ON if led_on else 0)
        if info(pycurl.NUM_CONNECTS):
            flags |= NEW_CONNECTION
            dns, connect = info(pycurl.NAMELOOKUP_TIME_T), info(pycurl.CONNECT_TIME_T)
            tls, sent = info(pycurl.APPCONNECT_TIME_T), info(pycurl.PRETRANSFER_TIME_T)
        first = info(pycurl.STARTTRANSFER_TIME_T)
        if later:
            before, encrypted = int(arrival.connected_s * 1e6), int(arrival.encrypted_s * 1e6)
            connect, tls = connect + before if connect else 0, tls + encrypted if tls else 0
            sent, first = sent + max(before, encrypted) if sent else 0, first + later if first else 0
        start = self.start
        memory, offset = self.buffer.slot()
        FORMAT.pack_into(
            memory,
            offset,
            int((flight.scheduled - start) * 1e6),
            int((flight.started - start) * 1e6),
            user.number,
            user.visit,
            user.group,
            request.step,
            place,
            status,
            error,
            flags,
            info(pycurl.REQUEST_SIZE) + (info(pycurl.SIZE_UPLOAD_T) if request.method == "POST" else 0),
            info(pycurl.HEADER_SIZE) + info(pycurl.SIZE_DOWNLOAD_T),
            dns,
            connect,
            tls,
            sent,
            first,
            total,
            max(0, elapsed - total),
            int(arrival.blind_s * 1e6),
        )
        if led_on:
            if not self._gates.limited or self._may_go(flight, target or ""):
                flight.scheduled = flight.started = now
                self._launch(flight)
            return
        if flight.part:
            self._end_part(flight, now)
            return
        user.failed = error
        if request.accompanying and not error:
            self._accompany(user, request, now)
        if user.waiting == 0:
            self._end_step(user, now)

    def _follows(self, flight: Flight, status: int, url: str, now: float) -> bool:
        """Whether the flight goes on to where its answer leads."""
        if flight.hops == 0:
            flight.due, flight.begun = flight.scheduled, flight.started
        return flight.follow(status, url, int((now - flight.begun) * 1000))

    def _examine(self, arrival: Arrival, request: Request, status: int, total_us: int, error: int) -> int:
        """Look at what was captured of a response; the error it ends with."""
        flight = arrival.flight
        whole, response = flight.whole, flight.taken(status, total_us / 1e6)
        if self.timings.wanted and not flight.part:
            self.timings.add(request.step, response.headers)
        error = error or self._judge(flight, request, response)
        if whole and (chosen := self.choice.why(request.step, error, total_us)) is not None:
            self._keep(arrival, request, response, error, total_us, *chosen)
        return error

    def _keep(
        self, arrival: Arrival, request: Request, response: Response, error: int, total_us: int, why: Why, chance: float
    ) -> None:
        if len(self._kept_whole) >= MOST_WAITING:
            return
        flight = arrival.flight
        user, (headers, body) = flight.user, flight.sent()
        self._kept_whole.append(
            Whole(
                start_us=int((flight.started - self.start) * 1e6),
                user=user.number,
                visit=user.visit,
                group=user.group,
                step=request.step,
                status=response.status,
                error=ERRORS[error] if error else "",
                total_us=total_us,
                blind_us=int(arrival.blind_s * 1e6),
                why=why,
                chance=chance,
                method=request.method,
                url=flight.effective_url,
                sent_headers=headers.decode("latin-1")[:EXCERPT],
                sent_body=body[:EXCERPT].decode("utf-8", "replace"),
                headers=response.last_headers[:EXCERPT],
                body=response.excerpt(EXCERPT),
                size=response.size,
            )
        )

    def _judge(self, flight: Flight, request: Request, response: Response) -> int:
        """The error that the examination of an answer ends with."""
        if request.examiner is None or flight.values is None:
            return 0
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
        wanted = []
        for other in request.accompanying:
            address = other.url_for(main.values)
            if request.session.cache:
                if address in user.cached:
                    continue
                user.cached.add(address)
            wanted.append(other)
        down, up = self._limits[user.group]
        for other in wanted:
            flight = user.free.pop() if user.free else Flight.of(user, self._gates, part=True, tracing=self._tracing)
            if down or up:
                # They share the line, so many at a time as go side by side.
                beside = min(len(wanted), CONNECTIONS_PER_HOST)
                flight.slow_to(max(1, down // beside) if down else 0, max(1, up // beside) if up else 0)
            flight.prepare(other, main.values)
            user.waiting += 1
            if not self._gates.limited or self._may_go(flight, other.url_for(main.values)):
                flight.scheduled = flight.started = now
                self._launch(flight)

    def _end_part(self, flight: Flight, now: float) -> None:
        """One of a step's accompanying requests is over."""
        user = flight.user
        user.free.append(flight)
        user.waiting -= 1
        if user.waiting == 0:
            self._end_step(user, now)

    def _end_step(self, user: User, now: float) -> None:
        """The step is over."""
        main = user.main
        assert main is not None  # a user has its handle from the start
        request = main.request
        assert request is not None  # a step has one
        self._tally.end(now)
        if request.accompanying or main.hops:
            self._record_whole(user, main, request, now)
        main.request = None
        self._on_end(user, now, not user.failed)

    def _record_whole(self, user: User, main: Flight, request: Request, now: float) -> None:
        """The step as one: its main request's fate, its whole time."""
        start = self.start
        memory, offset = self.buffer.slot()
        due, begun = (main.due, main.begun) if main.hops else (main.scheduled, main.started)
        times = (int((due - start) * 1e6), int((begun - start) * 1e6))
        whole = int((now - begun) * 1e6)
        status = main.handle.getinfo(pycurl.RESPONSE_CODE)
        what = (user.number, user.visit, user.group, request.step, 0, status, user.failed, WHOLE)
        blind = int((now - self._looking.since) * 1e6)
        FORMAT.pack_into(memory, offset, *times, *what, 0, 0, 0, 0, 0, 0, 0, whole, 0, blind)
