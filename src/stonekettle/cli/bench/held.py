"""A server that holds each answer for exactly 20 ms and tells when it sent it: plain, TLS or HTTP/2.

Run as a process of its own; the moments are on the machine's monotonic clock, which its clients share.
"""

from __future__ import annotations

import asyncio
import gc
import heapq
import select
import selectors
import ssl
import struct
import sys
import time
from pathlib import Path
from typing import Literal

import h2.config
import h2.connection
import h2.events

HOLD_S = 0.020
Protocol = Literal["plain", "TLS", "HTTP/2"]
PROTOCOLS: tuple[Protocol, ...] = ("plain", "TLS", "HTTP/2")
SENT = struct.Struct("<IIdd")
"""A line of the log: user, iteration, the moments just before and after its answer was sent."""
_ANSWER = b"HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\nhello"


class FineSelector(selectors.EpollSelector):
    """epoll that wakes within microseconds of a timer, not at the next whole millisecond."""

    def select(self, timeout: float | None = None) -> list[tuple[selectors.SelectorKey, int]]:
        if timeout is not None and timeout > 0:
            select.select([self.fileno()], [], [], timeout)
            timeout = 0
        return super().select(timeout)


class Held:
    """Answers that wait for their moment, in order of arrival; what was sent when."""

    def __init__(self, loop: asyncio.AbstractEventLoop) -> None:
        self._loop = loop
        self._waiting: list[tuple[float, int, Connection, int, bytes]] = []
        self._order = 0
        self.sent = bytearray()

    def hold(self, connection: Connection, stream: int, name: bytes) -> None:
        self._order += 1
        due = time.perf_counter() + HOLD_S
        heapq.heappush(self._waiting, (due, self._order, connection, stream, name))
        self._loop.call_at(due, self._release)

    def _release(self) -> None:
        while self._waiting and self._waiting[0][0] <= time.perf_counter():
            _, _, connection, stream, name = heapq.heappop(self._waiting)
            user, iteration = name.split(b"-")
            moment = time.perf_counter()
            connection.answer(stream)
            self.sent += SENT.pack(int(user), int(iteration), moment, time.perf_counter())


class Connection(asyncio.Protocol):
    """One client's connection, in HTTP/1.1."""

    def __init__(self, held: Held) -> None:
        self.held = held
        self._buffer = b""

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        assert isinstance(transport, asyncio.Transport)
        self.transport = transport

    def data_received(self, data: bytes) -> None:
        self._buffer += data
        while b"\r\n\r\n" in self._buffer:
            head, _, self._buffer = self._buffer.partition(b"\r\n\r\n")
            self.held.hold(self, 0, head.split(b" ", 2)[1].partition(b"?")[2])

    def answer(self, stream: int) -> None:
        self.transport.write(_ANSWER)


class Multiplexed(Connection):
    """The same in HTTP/2."""

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        super().connection_made(transport)
        self._h2 = h2.connection.H2Connection(h2.config.H2Configuration(client_side=False))
        self._h2.initiate_connection()
        self.transport.write(self._h2.data_to_send())

    def data_received(self, data: bytes) -> None:
        for event in self._h2.receive_data(data):
            if isinstance(event, h2.events.RequestReceived) and event.headers and event.stream_id:
                path = next(value for name, value in event.headers if name == b":path")
                self.held.hold(self, event.stream_id, path.partition(b"?")[2])
        self.transport.write(self._h2.data_to_send())

    def answer(self, stream: int) -> None:
        self._h2.send_headers(stream, [(":status", "200"), ("content-length", "5")])
        self._h2.send_data(stream, b"hello", end_stream=True)
        self.transport.write(self._h2.data_to_send())


async def serve(protocol: Protocol, certificate: Path, log: Path) -> None:
    """Serve until standard input ends, then write what was sent when to ``log``."""
    loop = asyncio.get_running_loop()
    held = Held(loop)
    context = None
    if protocol != "plain":
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(certificate)
        context.set_alpn_protocols(["h2"] if protocol == "HTTP/2" else ["http/1.1"])
    kind = Multiplexed if protocol == "HTTP/2" else Connection
    server = await loop.create_server(lambda: kind(held), "127.0.0.1", 0, ssl=context, backlog=1024)
    print(server.sockets[0].getsockname()[1], flush=True)
    gc.freeze()
    gc.disable()
    await loop.run_in_executor(None, sys.stdin.read)
    server.close()
    log.write_bytes(bytes(held.sent))


if __name__ == "__main__":
    with asyncio.Runner(loop_factory=lambda: asyncio.SelectorEventLoop(FineSelector())) as runner:
        runner.run(serve(sys.argv[1], Path(sys.argv[2]), Path(sys.argv[3])))  # type: ignore[arg-type]
