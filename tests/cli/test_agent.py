"""``kettle agent`` as a person starts it: an address, a page, and an end."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
import urllib3

from stonekettle.door.postgres import free_port

ROOT = Path(__file__).parents[2]
Start = Callable[..., subprocess.Popen[str]]


@pytest.fixture
def start() -> Iterator[Start]:
    running: list[subprocess.Popen[str]] = []

    def agent(*arguments: object) -> subprocess.Popen[str]:
        process = subprocess.Popen(
            [sys.executable, "-m", "stonekettle.cli", "agent", *map(str, arguments)],
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            env={**os.environ, "PYTHONPATH": str(ROOT / "src")},
            # A test run in the background ignores Ctrl-C, and its children would too.
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler),
        )
        running.append(process)
        return process

    yield agent
    for process in running:
        process.kill()
        process.communicate()


def first_line(process: subprocess.Popen[str]) -> str:
    assert process.stdout is not None
    return process.stdout.readline()


def test_it_says_where_it_is_and_ends_quietly(start: Start) -> None:
    port = free_port()
    process = start("--port", port)
    assert f"http://127.0.0.1:{port}/metrics" in first_line(process)
    page = urllib3.request("GET", f"http://127.0.0.1:{port}/metrics")
    assert b"host_cpu_busy_seconds_total" in page.data
    process.send_signal(signal.SIGINT)
    out, errors = process.communicate(timeout=60)
    assert (process.returncode, out, errors) == (0, "", "")


def test_a_token_file_guards_the_page(start: Start, tmp_path: Path) -> None:
    file, port = tmp_path / "token", free_port()
    file.write_text("let me in\n")
    first_line(start("--port", port, "--token-file", file))
    address = f"http://127.0.0.1:{port}/metrics"
    assert urllib3.request("GET", address).status == 401
    assert urllib3.request("GET", address, headers={"Authorization": "Bearer let me in"}).status == 200


def test_an_open_page_without_a_token_is_cautioned(start: Start) -> None:
    process = start("--host", "0.0.0.0", "--port", free_port())
    first_line(process)
    assert "--token-file" in first_line(process)


def test_what_keeps_it_from_starting_is_told(start: Start, tmp_path: Path) -> None:
    with socket.create_server(("127.0.0.1", 0)) as taken:
        process = start("--port", taken.getsockname()[1])
        _, errors = process.communicate(timeout=60)
    assert process.returncode == 2
    assert "in use" in errors
    process = start("--token-file", tmp_path / "none")
    _, errors = process.communicate(timeout=60)
    assert process.returncode == 2
    assert "none" in errors
