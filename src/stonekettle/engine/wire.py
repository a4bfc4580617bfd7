"""Frames on the wire between a generator and its owner: a JSON head, then blobs."""

from __future__ import annotations

import json
import struct
import sys
from typing import IO, Any

_HEAD = struct.Struct("<II")


def outlet() -> IO[bytes]:
    """Standard output, buffered whatever the interpreter was told: an unbuffered write ends early where a signal, or a
    host that freezes its processes, comes between, and the rest of the frame would be lost."""
    return open(sys.stdout.fileno(), "wb", closefd=False)


def write_frame(stream: IO[bytes], kind: str, head: dict[str, Any], blobs: list[bytes]) -> None:
    """One frame: lengths, a JSON head, then the blobs one after the other."""
    text = json.dumps({"kind": kind, "sizes": [len(b) for b in blobs], **head}).encode()
    stream.write(_HEAD.pack(len(text), sum(map(len, blobs))) + text)
    for blob in blobs:
        stream.write(blob)
    stream.flush()


def read_frame(stream: IO[bytes]) -> tuple[dict[str, Any], list[bytes]] | None:
    """The next frame, or None at the end or where the writer was cut off."""
    head = stream.read(_HEAD.size)
    if len(head) < _HEAD.size:
        return None
    text_size, blob_size = _HEAD.unpack(head)
    text, data = stream.read(text_size), stream.read(blob_size)
    if len(text) < text_size or len(data) < blob_size:
        return None
    decoded = json.loads(text)
    blobs, offset = [], 0
    for size in decoded["sizes"]:
        blobs.append(data[offset : offset + size])
        offset += size
    return decoded, blobs
