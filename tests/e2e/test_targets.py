"""Targets end to end: claimed, proven, loaded, taken back; under a name of their own."""

from __future__ import annotations

import tempfile
from pathlib import Path

import pytest

from tests.network import run_inside

pytestmark = pytest.mark.e2e


def test_a_server_of_ones_own_is_proven_loaded_and_taken_back() -> None:
    with tempfile.TemporaryDirectory(prefix="kettle-name-", dir="/tmp", ignore_cleanup_errors=True) as folder:
        Path(folder).chmod(0o755)
        run_inside("tests.e2e.own_name", folder, limit_s=420)
