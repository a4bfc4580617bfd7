"""Carries connections from an address to another: ``python -m stonekettle.door.relay FROM TO [NOTE]``.

An address is ``host:port`` or the path of a socket in the file system, which reaches across network namespaces. The
time of the last byte carried (s since the epoch) stands in the file NOTE.
"""

from __future__ import annotations

import asyncio
import sys
import time
from contextlib import suppress
from pathlib import Path

PIECE = 65_536
NOTE_EVERY_S = 0.2


class Relay:
    def __init__(self, to: str) -> None:
        self._to = to
        self.last = 0.0

    async def carry(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """One connection, until both sides have ended."""
        try:
            far_reader, far_writer = await _connected(self._to)
        except OSError:
            writer.close()
            return
        await asyncio.gather(self._pump(reader, far_writer), self._pump(far_reader, writer))

    async def _pump(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with suppress(OSError):
            while data := await reader.read(PIECE):
                self.last = time.time()
                writer.write(data)
                await writer.drain()
        with suppress(OSError):
            writer.close()


async def _connected(to: str) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
    if "/" in to:
        return await asyncio.open_unix_connection(to)
    host, _, port = to.rpartition(":")
    return await asyncio.open_connection(host, int(port))


async def serve(where: str, to: str, note: Path | None) -> None:
    """Carry connections until the process ends."""
    relay = Relay(to)
    if "/" in where:
        Path(where).unlink(missing_ok=True)
        await asyncio.start_unix_server(relay.carry, where, backlog=1024)
    else:
        host, _, port = where.rpartition(":")
        await asyncio.start_server(relay.carry, host, int(port), backlog=1024)
    while True:
        await asyncio.sleep(NOTE_EVERY_S)
        if note is not None:
            note.write_text(repr(relay.last))


if __name__ == "__main__":
    asyncio.run(serve(sys.argv[1], sys.argv[2], Path(sys.argv[3]) if len(sys.argv) > 3 else None))
