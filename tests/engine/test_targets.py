"""Load goes to this machine only."""

from __future__ import annotations

import socket

import pytest

from stonekettle.engine import targets
from stonekettle.engine.allowance import LOOPBACK
from stonekettle.engine.errors import TargetError


@pytest.mark.parametrize("address", ["127.0.0.1", "127.8.9.1", "::1", "::ffff:127.0.0.1"])
def test_loopback_is_allowed(address: str) -> None:
    assert LOOPBACK.refusal(address, 80) is None


@pytest.mark.parametrize(
    "address", ["10.0.0.1", "192.168.1.1", "169.254.169.254", "8.8.8.8", "0.0.0.0", "fe80::1%eth0"]
)
def test_everything_else_is_not(address: str) -> None:
    assert LOOPBACK.refusal(address, 80) is not None


def test_a_forbidden_host_is_named_with_its_place_and_the_mend() -> None:
    (error,) = targets.check_allowed([("system.base_url", "http://192.168.7.7:80")])
    assert error.path == "system.base_url"
    assert "192.168.7.7" in error.message
    assert "Targets" in error.mend


def test_a_name_is_judged_by_its_addresses(monkeypatch: pytest.MonkeyPatch) -> None:
    answer = [(socket.AF_INET, socket.SOCK_STREAM, 6, "", (ip, 80)) for ip in ("127.0.0.1", "10.9.8.7")]
    monkeypatch.setattr(socket, "getaddrinfo", lambda *a, **k: answer)
    with pytest.raises(TargetError, match=r"10\.9\.8\.7"):
        targets.resolve("system.base_url", "http://twofaced.example", LOOPBACK)


def test_a_name_that_does_not_exist_is_told(monkeypatch: pytest.MonkeyPatch) -> None:
    def fail(*args: object, **kwargs: object) -> None:
        raise socket.gaierror("no such name")

    monkeypatch.setattr(socket, "getaddrinfo", fail)
    with pytest.raises(TargetError, match="cannot be found"):
        targets.resolve("system.base_url", "http://nowhere.invalid", LOOPBACK)


def test_an_unusable_port_is_told() -> None:
    with pytest.raises(TargetError, match="port"):
        targets.resolve("system.base_url", "http://127.0.0.1:99999", LOOPBACK)


def test_practice_addresses_need_no_check() -> None:
    assert targets.check_allowed([("system.base_url", "practice://gateway")]) == []


def test_nothing_listening_is_told_as_such() -> None:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    with pytest.raises(TargetError, match=rf"nothing answers at http://127\.0\.0\.1:{port}: connection refused"):
        targets.check_reachable("system.base_url", f"http://127.0.0.1:{port}")
