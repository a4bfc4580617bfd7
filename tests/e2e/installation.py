"""A whole installation of its own, started through the front door, and a browser for it."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from playwright.sync_api import Browser, Page, sync_playwright

ROOT = Path(__file__).parents[2]
CHROMIUM = "/usr/bin/chromium"
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--no-first-run",
]


@dataclass
class Installation:
    """A running installation with its address and sign-in."""

    process: subprocess.Popen[str]
    data: Path
    url: str
    user: str
    password: str

    def children(self, name: str) -> list[int]:
        """Process ids of this installation's processes whose command line holds ``name``."""
        from stonekettle.door.supervisor import descendants

        found = []
        for pid, _ in descendants(self.process.pid):
            try:
                words = Path(f"/proc/{pid}/cmdline").read_bytes().split(b"\0")
            except OSError:
                continue
            if any(name.encode() in word for word in words):
                found.append(pid)
        return found

    @property
    def cloud(self) -> str:
        """Where its practice cloud is."""
        environment = Path(f"/proc/{self.children('conductor')[0]}/environ").read_text().split("\0")
        control = next(one for one in environment if one.startswith("KETTLE_PRACTICE=")).partition("=")[2]
        with urllib.request.urlopen(f"{control}/directory") as answer:
            return str(json.load(answer)["cloud"][0])


@contextmanager
def installation(
    data: Path, port: int, *options: str, demo: bool = True, url: str = "", **more: str
) -> Iterator[Installation]:
    """Start ``./kettle start``, with ``more`` in its environment, and stop it again. ``url`` is where it is reached, if
    not by its port."""
    environment = {k: v for k, v in os.environ.items() if not k.startswith(("KETTLE_", "DJANGO_"))}
    process = subprocess.Popen(
        [
            *(sys.executable, str(ROOT / "kettle"), "start", "--data", str(data), "--port", str(port)),
            *([] if demo else ["--no-demo"]),
            *options,
        ],
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
        env={**environment, "PYTHONUNBUFFERED": "1", **more},
    )
    assert process.stdout is not None
    said = []
    try:
        for line in process.stdout:
            said.append(line)
            if match := re.match(r"Sign in as\s+(\S+)\s+with the password\s+(\S+)", line):
                break
        else:
            raise AssertionError("it did not start:\n" + "".join(said))
        yield Installation(process, data, url or f"http://127.0.0.1:{port}", match[1], match[2])
    finally:
        process.terminate()
        process.communicate(timeout=60)


@contextmanager
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        found = playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
        yield found
        found.close()


def sign_in(page: Page, installed: Installation) -> None:
    page.goto(installed.url)
    page.get_by_label("Name").fill(installed.user)
    page.get_by_label("Password").fill(installed.password)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("heading", name="Experiments").wait_for()
