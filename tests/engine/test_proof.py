"""A token is looked for at the host itself, and nothing else counts."""

from __future__ import annotations

import socket
import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import dns.resolver
import pytest

from stonekettle.engine import proof
from stonekettle.engine.proof import PATH, RECORD, Claim, Unproven, prove

TOKEN = "stone-kettle-abc"


class Shop(ThreadingHTTPServer):
    daemon_threads = True
    status, text, location = 200, f"other-token\n{TOKEN}\n", ""
    asked: list[tuple[str, str]]


class Handler(BaseHTTPRequestHandler):
    server: Shop

    def do_GET(self) -> None:
        self.server.asked.append((self.path, self.headers["Host"]))
        self.send_response(self.server.status)
        if self.server.location:
            self.send_header("Location", self.server.location)
        self.send_header("Content-Length", str(len(self.server.text)))
        self.end_headers()
        self.wfile.write(self.server.text.encode())

    def log_message(self, *args: object) -> None:
        pass


@pytest.fixture
def shop() -> Iterator[Shop]:
    server = Shop(("127.0.0.1", 0), Handler)
    server.asked = []
    thread = threading.Thread(target=server.serve_forever, args=(0.01,))
    thread.start()
    yield server
    server.shutdown()
    thread.join()
    server.server_close()


def claim(shop: Shop, host: str = "127.0.0.1") -> Claim:
    return Claim(host, "http", [shop.server_address[1]], TOKEN)


def test_a_token_that_is_shown_proves_the_addresses_it_was_shown_at(shop: Shop) -> None:
    found = prove(claim(shop))
    assert (found.addresses, found.by) == (("127.0.0.1",), PATH)
    assert shop.asked == [(PATH, f"127.0.0.1:{shop.server_address[1]}")]


@pytest.mark.parametrize(
    ("status", "text", "location", "certain", "message"),
    [
        (404, "", "", True, "status 404 instead of the token"),
        (200, "stone-kettle-abcd", "", True, "something else than the token"),
        (200, "xstone-kettle-abc", "", True, "something else than the token"),
        (302, TOKEN, "/elsewhere", True, "status 302 instead of the token"),
        (503, TOKEN, "", False, "status 503"),
        (429, TOKEN, "", False, "status 429"),
    ],
)
def test_anything_else_does_not(shop: Shop, status: int, text: str, location: str, certain: bool, message: str) -> None:
    shop.status, shop.text, shop.location = status, text, location
    with pytest.raises(Unproven, match=message) as caught:
        prove(claim(shop))
    assert caught.value.is_certain is certain
    assert len(shop.asked) == 1, "no redirect is followed"


def test_a_host_that_does_not_answer_has_taken_nothing_back() -> None:
    with pytest.raises(Unproven, match="does not answer") as caught:
        prove(Claim("127.0.0.1", "http", [9], TOKEN))
    assert not caught.value.is_certain


def test_a_host_that_drips_is_given_up(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(proof, "TIMEOUT_S", 0.5)
    with socket.create_server(("127.0.0.1", 0)) as listening:

        def drip() -> None:
            peer, _ = listening.accept()
            with peer:
                peer.sendall(b"HTTP/1.1 200 OK\r\n\r\n")
                try:
                    for _ in range(100):
                        peer.sendall(b".")
                        threading.Event().wait(0.05)
                except OSError:
                    pass

        threading.Thread(target=drip, daemon=True).start()
        with pytest.raises(Unproven, match="does not answer") as caught:
            prove(Claim("127.0.0.1", "http", [listening.getsockname()[1]], TOKEN))
    assert not caught.value.is_certain


def test_every_address_of_a_name_has_to_show_it(shop: Shop, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(proof, "addresses_of", lambda host: ["127.0.0.1", "127.0.0.77"])
    with pytest.raises(Unproven, match=r"127\.0\.0\.77"):
        prove(claim(shop, "shop.example"))
    assert shop.asked[0][1] == f"shop.example:{shop.server_address[1]}"


@pytest.mark.parametrize(
    ("addresses", "reason"),
    [(["169.254.169.254"], "link-local"), (["127.0.0.1", "::"], "unspecified"), (["127.0.0.1"] * 9, "9 addresses")],
)
def test_a_name_that_means_what_may_never_be_loaded_proves_nothing(
    shop: Shop, monkeypatch: pytest.MonkeyPatch, addresses: list[str], reason: str
) -> None:
    monkeypatch.setattr(proof, "addresses_of", lambda host: addresses)
    with pytest.raises(Unproven, match=reason):
        prove(claim(shop, "shop.example"))
    assert shop.asked == []


class Record:
    strings = (b"stone-kettle", b"-abc")


def test_a_txt_record_proves_public_addresses_only(shop: Shop, monkeypatch: pytest.MonkeyPatch) -> None:
    asked: list[str] = []

    def resolve(name: str, kind: str, **more: object) -> list[Record]:
        asked.append(f"{name} {kind}")
        return [Record()]

    monkeypatch.setattr(dns.resolver, "resolve", resolve)
    monkeypatch.setattr(proof, "_fetch", lambda *a: (_ for _ in ()).throw(Unproven("nothing there", is_certain=True)))
    monkeypatch.setattr(proof, "addresses_of", lambda host: ["93.184.216.34"])
    found = prove(claim(shop, "shop.example"))
    assert (found.addresses, found.by) == (("93.184.216.34",), RECORD)
    assert asked == ["_stone-kettle.shop.example TXT"]
    monkeypatch.setattr(proof, "addresses_of", lambda host: ["10.0.0.8"])
    with pytest.raises(Unproven, match=r"10\.0\.0\.8 is private"):
        prove(claim(shop, "shop.example"))
    with pytest.raises(Unproven, match="nothing there"):
        prove(claim(shop, "10.0.0.8"))
