"""What is recorded, against the access log of a server that we did not write."""

from __future__ import annotations

import shutil
import socket
import subprocess
import time
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest

from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.door.postgres import free_port
from stonekettle.engine.records import RECORD, WHOLE, trace_id, view
from stonekettle.plan import document
from tests.engine.conftest import loop_of

SEED = 9
NGINX = """
daemon off; worker_processes 1; pid {folder}/nginx.pid; error_log {folder}/error.log;
events {{ worker_connections 768; }}
http {{
  log_format kettle '$msec $request_method $request_uri $status $http_traceparent';
  access_log {folder}/access.log kettle;
  client_body_temp_path {folder}/a; proxy_temp_path {folder}/b; fastcgi_temp_path {folder}/c;
  uwsgi_temp_path {folder}/d; scgi_temp_path {folder}/e;
  server {{
    listen 127.0.0.1:{port};
    location = /shop {{ return 302 /shop/front; }}
    location = /shop/front {{ return 301 /shop/today; }}
    location = /missing.png {{ return 404; }}
    location / {{ return 200 "a page"; }}
  }}
}}
"""


@dataclass(frozen=True)
class Nginx:
    url: str
    log: Path

    def lines(self) -> list[list[str]]:
        """Of each request its moment, method, address, status and trace, in the order in which they were answered."""
        return [line.split() for line in self.log.read_text().splitlines() if not line.endswith("-")]


@pytest.fixture
def nginx(tmp_path: Path) -> Iterator[Nginx]:
    program = shutil.which("nginx", path="/usr/sbin:/usr/bin")
    assert program, "nginx-light belongs to what the tests install"
    tmp_path.chmod(0o777)
    port = free_port()
    (tmp_path / "nginx.conf").write_text(NGINX.format(folder=tmp_path, port=port))
    process = subprocess.Popen([program, "-c", str(tmp_path / "nginx.conf"), "-p", str(tmp_path)])
    try:
        for _ in range(200):
            try:
                socket.create_connection(("127.0.0.1", port), 0.2).close()
                break
            except OSError:
                time.sleep(0.05)
        yield Nginx(f"http://127.0.0.1:{port}", tmp_path / "access.log")
    finally:
        process.terminate()
        process.wait()


def test_the_access_log_has_every_record_and_each_visit_of_each_user(nginx: Nginx) -> None:
    steps = [
        {"name": "Shop", "request": "GET /shop", "redirects": True, "think": "5 ms"},
        {
            "name": "Shelf",
            "request": "GET /shelf",
            "accompanying": ["/a.css", "/b.js", "/missing.png"],
            "think": "5 ms",
        },
        {"name": "Buy", "request": "POST /buy", "form": {"what": "flour"}, "think": "5 ms"},
    ]
    plan = document.from_document(
        {
            "name": "log",
            "system": {"name": "nginx", "base_url": nginx.url},
            "journeys": [{"name": "visit", "steps": steps}],
            "load": [{"hold": {"users": 8, "for": "2 s"}}],
        }
    )
    chunks: list[bytes] = []
    loop = loop_of(plan, lambda second, data: chunks.append(data), LoadProfile((Segment.hold(8, 2.0),)), seed=SEED)
    loop.run(time.perf_counter())
    found = np.concatenate([np.zeros(0, dtype=RECORD), *map(view, chunks)])
    wire = found[found["flags"] & WHOLE == 0]
    lines = nginx.lines()
    assert len(lines) == len(wire) > 200

    def told(line: list[str]) -> tuple[str, int, int]:
        _, trace, parent, _ = line[4].split("-")
        return trace, int(parent[-4:], 16) - 1, int(line[3])

    recorded = [
        (trace_id(SEED, int(r["user"]), int(r["visit"]), int(r["step"])), int(r["part"]), int(r["status"]))
        for r in wire
    ]
    assert Counter(map(told, lines)) == Counter(recorded)
    # One visit of one user, from its records: what was asked, in which order, and what came of it.
    user, visit = 3, 1  # later ones have the files already, as in a browser
    own = wire[(wire["user"] == user) & (wire["visit"] == visit)]
    own = own[np.argsort(own["start_us"], kind="stable")]
    begins = f"{SEED:08x}{user:08x}{visit:08x}"
    asked = [line for line in lines if line[4].split("-")[1].startswith(begins)]
    assert Counter((int(r["step"]), int(r["part"]), int(r["status"])) for r in own) == Counter(
        (int(told(line)[0][-8:], 16), told(line)[1], told(line)[2]) for line in asked
    )
    by_place = {(int(told(line)[0][-8:], 16), told(line)[1]): line[2] for line in asked}
    assert [by_place[int(r["step"]), int(r["part"])] for r in own] == [
        "/shop",
        "/shop/front",
        "/shop/today",
        "/shelf",
        "/a.css",
        "/b.js",
        "/missing.png",
        "/buy",
    ]
    assert [int(status) for status in own["status"]] == [302, 301, 200, 200, 200, 200, 404, 200]
