"""Seconds of a generator that could not be saved yet: in memory, beyond a bound in a file, beyond another no more."""

from __future__ import annotations

import tempfile
from collections import deque
from typing import IO, Any

from stonekettle.engine.wire import read_frame, write_frame

MEMORY_BYTES = 32_000_000
FILE_BYTES = 1_000_000_000


class SpoolFull(Exception):
    """No more can be kept: neither the database nor the disk takes it."""


class Spool:
    """First in, first out. An item is plain data with blobs."""

    def __init__(self, memory_bytes: int = MEMORY_BYTES, file_bytes: int = FILE_BYTES) -> None:
        self._memory_bytes, self._file_bytes = memory_bytes, file_bytes
        self._first: deque[tuple[dict[str, Any], list[bytes], int]] = deque()
        self._held = 0
        self._file: IO[bytes] | None = None
        self._read_at = self._write_at = 0
        self._in_file = 0

    def __len__(self) -> int:
        return len(self._first) + self._in_file

    def put(self, head: dict[str, Any], blobs: list[bytes]) -> None:
        """Keep one more. Raises :class:`SpoolFull` where it cannot."""
        size = sum(map(len, blobs)) + 2_000
        if not self._in_file and self._held + size <= self._memory_bytes:
            self._first.append((head, blobs, size))
            self._held += size
            return
        if self._write_at + size > self._file_bytes:
            raise SpoolFull(f"{len(self)} seconds wait to be saved, which is all that is kept")
        try:
            if self._file is None:
                self._file = tempfile.TemporaryFile()  # noqa: SIM115  (closed by close)
            self._file.seek(self._write_at)
            write_frame(self._file, "second", {"head": head}, blobs)
            self._write_at = self._file.tell()
        except OSError as error:
            raise SpoolFull(f"{len(self)} seconds wait to be saved, and the disk takes no more ({error})") from error
        self._in_file += 1

    def oldest(self, count: int) -> list[tuple[dict[str, Any], list[bytes]]]:
        """The first ``count`` at most, left where they are."""
        while self._in_file and len(self._first) < count:
            assert self._file is not None  # something is in it
            self._file.seek(self._read_at)
            frame = read_frame(self._file)
            if frame is None:
                break
            self._read_at = self._file.tell()
            head, blobs = frame
            size = sum(map(len, blobs)) + 2_000
            self._first.append((head["head"], blobs, size))
            self._held += size
            self._in_file -= 1
        if self._file is not None and not self._in_file and self._read_at:
            self._file.truncate(0)
            self._read_at = self._write_at = 0
        return [(head, blobs) for head, blobs, _ in list(self._first)[:count]]

    def drop(self, count: int) -> None:
        """The first ``count`` are saved."""
        for _ in range(count):
            self._held -= self._first.popleft()[2]

    def close(self) -> None:
        if self._file is not None:
            self._file.close()
