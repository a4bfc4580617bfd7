"""How true are recorded times? The engine against a server that holds each answer exactly 20 ms.

Generator and server have a core each and one clock, so of every answer it is known when it was sent.
"""

from __future__ import annotations

import os
import resource
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Mapping
from pathlib import Path

import numpy as np
import pycurl
import trustme

from stonekettle.cli.bench import Figure
from stonekettle.cli.bench.held import HOLD_S, PROTOCOLS, SENT, Protocol
from stonekettle.engine import flight
from stonekettle.engine.generator import LoadLoop, settle_interpreter
from stonekettle.engine.process import raise_descriptor_limit
from stonekettle.engine.records import Records, view
from stonekettle.plan import document

USERS = 120
TIMES = ("start_us", "total_us", "hidden_gap_us", "blind_us")
SHARES = (0.25, 0.5)
ARRIVAL_S = 50e-6
"""An answer sent takes so long to arrive on this machine, at most."""
CALIBRATE_S = 4.0


def measure(*, quick: bool) -> list[Figure]:
    """Bracket, median and 99th percentile at a quarter and half of a core, plain, TLS and HTTP/2."""
    figures = []
    for protocol in PROTOCOLS:
        played, cpu = _play(protocol, 0.25, CALIBRATE_S)
        for share in SHARES:
            # What a request costs falls with their rate, so aim in two steps.
            for length in (CALIBRATE_S, 6.0 if quick else 20.0):
                think = max(0.0, USERS / played.rate * cpu / share - HOLD_S)
                played, cpu = _play(protocol, think, length)
            name = f"{protocol} at {cpu:.0%} cpu ({played.rate:.0f} req/s)"
            p50, p95, p99 = (float(q) * 1000 for q in np.percentile(played.off_s, [50, 95, 99]))
            wide = float(np.percentile(played.blind_s, 99)) * 1000
            figures += [
                Figure(f"{name}: bracket holds", f"{played.held:.3%}", "at least 99.9 %", played.held >= 0.999),
                Figure(f"{name}: p50 off", f"{p50:.3f} ms", "under 0.1 ms", p50 < 0.1),
                Figure(f"{name}: p99 off (p95 {p95:.2f} ms)", f"{p99:.2f} ms", "under 3 ms", p99 < 3),
                Figure(f"{name}: width of the bracket, p99", f"{wide:.2f} ms", "", None),
            ]
    return figures


class Played:
    """One run against the server: what was recorded beside the moments each answer was sent.

    ``off_s`` is how much later than its sending each answer was recorded; ``unseen_s`` how much of
    that the bracket does not hold (negative: room to spare).
    """

    def __init__(self, records: Records, sent: Mapping[tuple[int, int], tuple[float, float]], start: float) -> None:
        rows, seen = [], Counter[int]()
        for record in records[np.argsort(records["start_us"], kind="stable")]:
            user = int(record["user"]) + 1
            seen[user] += 1
            moments = sent.get((user, seen[user]))
            # The first of each user connects, and shakes hands.
            if moments is not None and not record["error"] and seen[user] > 1:
                rows.append((*(float(record[name]) / 1e6 for name in TIMES), *moments))
        begun, total, gap, blind, before, after = np.array(rows, dtype=np.float64).T
        recorded = start + begun + total + gap
        self.blind_s, self.off_s = blind, recorded - after
        self.unseen_s = recorded - after - gap - blind - ARRIVAL_S
        self.held = float(np.mean((self.unseen_s <= 0) & (recorded >= before)))
        seconds = float((records["start_us"].max() - records["start_us"].min()) / 1e6)
        self.rate = len(records) / seconds


def _play(protocol: Protocol, think_s: float, seconds: float) -> tuple[Played, float]:
    """Play for ``seconds``; also the share of its core the generator took."""
    with tempfile.TemporaryDirectory(prefix="kettle-bench-") as name:
        folder = Path(name)
        authority = trustme.CA()
        authority.issue_cert("127.0.0.1").private_key_and_cert_chain_pem.write_to_path(folder / "server.pem")
        authority.cert_pem.write_to_path(folder / "authority.pem")
        log = folder / "sent"
        server = subprocess.Popen(
            [sys.executable, "-m", "stonekettle.cli.bench.held", protocol, folder / "server.pem", log],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            preexec_fn=lambda: os.sched_setaffinity(0, {_cores()[-1]}),
        )
        assert server.stdout is not None  # opened as a pipe
        port = int(server.stdout.readline())
        scheme = "http" if protocol == "plain" else "https"
        player = subprocess.Popen(
            [sys.executable, "-m", __spec__.name, f"{scheme}://127.0.0.1:{port}", str(think_s), str(seconds), folder],
            stdout=subprocess.PIPE,
            preexec_fn=lambda: os.sched_setaffinity(0, {_cores()[0]}),
        )
        told, _ = player.communicate()
        server.communicate()
        start, cpu_s = map(float, told.split())
        sent = {
            (user, iteration): (before, after) for user, iteration, before, after in SENT.iter_unpack(log.read_bytes())
        }
        played = Played(view((folder / "records").read_bytes()), sent, start)
        return played, cpu_s / seconds


def _cores() -> list[int]:
    return sorted(os.sched_getaffinity(0))


def _trust(authority: Path) -> None:
    """Let handles trust the bench's own authority; the product trusts those of the system."""
    made = flight._new_handle

    def trusting(share: pycurl.CurlShare) -> pycurl.Curl:
        handle = made(share)
        handle.setopt(pycurl.CAINFO, str(authority))
        return handle

    flight._new_handle = trusting


def _player(url: str, think_s: float, seconds: float, folder: Path) -> None:
    """Be the generator: play, write the records, tell start and cpu."""
    _trust(folder / "authority.pem")
    raise_descriptor_limit(USERS)
    plan = document.from_document(
        {
            "name": "timing",
            "system": {"name": "held", "base_url": url},
            "journeys": [
                {
                    "name": "visit",
                    "steps": [
                        {
                            "name": "page",
                            "request": "GET /?{{user_number}}-{{iteration}}",
                            "think": f"exponential {think_s * 1000:.2f} ms",
                        }
                    ],
                }
            ],
            "load": [{"hold": {"users": USERS, "for": f"{seconds:.0f} s"}}],
        }
    )
    kept: list[bytes] = []
    loop = LoadLoop.alone(plan, lambda second, data: kept.append(data))
    settle_interpreter()
    start, cpu = time.perf_counter(), resource.getrusage(resource.RUSAGE_SELF)
    loop.run(start)
    used = resource.getrusage(resource.RUSAGE_SELF)
    (folder / "records").write_bytes(b"".join(kept))
    print(start, used.ru_utime + used.ru_stime - cpu.ru_utime - cpu.ru_stime)


if __name__ == "__main__":
    _player(sys.argv[1], float(sys.argv[2]), float(sys.argv[3]), Path(sys.argv[4]))
