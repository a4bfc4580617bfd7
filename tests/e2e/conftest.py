"""One installation for all browser tests, and a fresh signed-in page for each."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, StorageState, expect

from stonekettle.door.postgres import free_port
from tests.e2e import installation as house
from tests.e2e.installation import Installation

# Nothing here waits for time to pass: what takes longer on a machine that others use still comes.
expect.set_options(timeout=20_000)


@pytest.fixture(scope="package")
def installed() -> Iterator[Installation]:
    with tempfile.TemporaryDirectory(prefix="kettle-e2e-", dir="/tmp", ignore_cleanup_errors=True) as folder:
        Path(folder).chmod(0o755)
        with house.installation(Path(folder), free_port()) as found:
            yield found


@pytest.fixture(scope="package")
def chromium() -> Iterator[Browser]:
    with house.browser() as found:
        yield found


@pytest.fixture(scope="package")
def signed_in(chromium: Browser, installed: Installation) -> StorageState:
    """What the browser of somebody keeps who has signed in."""
    context = chromium.new_context(base_url=installed.url)
    house.sign_in(context.new_page(), installed)
    state = context.storage_state()
    context.close()
    return state


@pytest.fixture
def page(chromium: Browser, installed: Installation, signed_in: StorageState) -> Iterator[Page]:
    context = chromium.new_context(
        viewport={"width": 1280, "height": 800},
        accept_downloads=True,
        base_url=installed.url,
        storage_state=signed_in,
    )
    page = context.new_page()
    problems: list[str] = []
    page.on("pageerror", lambda error: problems.append(str(error)))
    page.on("console", lambda said: problems.append(said.text) if "Content Security Policy" in said.text else None)
    page.goto(installed.url)
    page.get_by_role("heading", name="Experiments").wait_for()
    yield page
    context.close()
    assert problems == []
