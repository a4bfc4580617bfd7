"""Signing in by OpenID Connect, against a small stand-in for the other service, over real sockets."""

from __future__ import annotations

import base64
import hashlib
import json
import threading
import time
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, urlencode, urlsplit

import pytest
from django.contrib.auth.models import User
from django.test import Client
from joserfc import jwt
from joserfc.jwk import RSAKey

from stonekettle.server.access import openid, people
from stonekettle.server.access.models import Identity, Person
from stonekettle.server.access.roles import Role
from stonekettle.server.history.models import Deed

pytestmark = pytest.mark.django_db
KEY, STRANGER = (RSAKey.generate_key(2048, {"kid": "one"}, private=True) for _ in range(2))


class Service(ThreadingHTTPServer):
    """Says whom ``claims`` tell, of whom it is asked; signs by ``key``."""

    daemon_threads = True
    key = KEY

    def __init__(self) -> None:
        super().__init__(("127.0.0.1", 0), Handler)
        self.issuer = f"http://127.0.0.1:{self.server_address[1]}"
        self.claims: dict[str, Any] = {"sub": "17", "preferred_username": "anna"}
        self.asked: dict[str, dict[str, str]] = {}
        self.denies = False

    def authorize(self, query: dict[str, str]) -> str:
        """Where the browser is sent back."""
        code = f"code-{len(self.asked)}"
        self.asked[code] = query
        told = {"error": "access_denied"} if self.denies else {"code": code}
        return f"{query['redirect_uri']}?{urlencode({**told, 'state': query['state']})}"

    def token(self, form: dict[str, str]) -> dict[str, Any]:
        query = self.asked[form["code"]]
        proof = hashlib.sha256(form["code_verifier"].encode()).digest()
        assert base64.urlsafe_b64encode(proof).decode().rstrip("=") == query["code_challenge"]
        claims = {"iss": self.issuer, "aud": query["client_id"], "nonce": query["nonce"], "exp": time.time() + 60}
        claims |= {"iat": time.time(), **self.claims}
        signed = jwt.encode({"alg": "RS256", "kid": "one"}, claims, self.key)
        return {"access_token": "x", "token_type": "Bearer", "id_token": signed}


class Handler(BaseHTTPRequestHandler):
    server: Service

    def do_GET(self) -> None:
        issuer = self.server.issuer
        pages: dict[str, Any] = {
            "/.well-known/openid-configuration": {
                "issuer": issuer,
                "authorization_endpoint": f"{issuer}/authorize",
                "token_endpoint": f"{issuer}/token",
                "jwks_uri": f"{issuer}/keys",
                "id_token_signing_alg_values_supported": ["RS256"],
            },
            "/keys": {"keys": [KEY.as_dict(private=False)]},
        }
        self._answer(pages[urlsplit(self.path).path])

    def do_POST(self) -> None:
        form = parse_qs(self.rfile.read(int(self.headers["Content-Length"])).decode())
        self._answer(self.server.token({name: values[0] for name, values in form.items()}))

    def _answer(self, page: Any) -> None:
        body = json.dumps(page).encode()
        self.send_response(200)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *args: object) -> None:
        pass


@pytest.fixture
def service(settings: Any) -> Iterator[Service]:
    made = Service()
    thread = threading.Thread(target=made.serve_forever, args=(0.01,))
    thread.start()
    settings.OPENID_ISSUER, settings.OPENID_CLIENT, settings.OPENID_SECRET = made.issuer, "kettle", "a secret"
    settings.OPENID_NAME, settings.OPENID_ROLE = "the harbour's sign-in", "reader"
    yield made
    made.shutdown()
    thread.join()
    made.server_close()


def walk(service: Service, browser: Client) -> str:
    """There and back again; where the browser is at the end."""
    begun = browser.get("/api/openid/begin")
    assert begun.status_code == 302
    query = {name: values[0] for name, values in parse_qs(urlsplit(begun["Location"]).query).items()}
    assert begun["Location"].startswith(f"{service.issuer}/authorize?")
    back = service.authorize(query)
    assert back.startswith("http://testserver/api/openid/return?")
    return str(browser.get(back.removeprefix("http://testserver"))["Location"])


def who(browser: Client) -> str | None:
    found: str | None = browser.get("/api/me").json()["name"]
    return found


def test_somebody_new_comes_in_with_the_role_for_newcomers_and_is_known_the_next_time(service: Service) -> None:
    browser = Client()
    assert browser.get("/api/me").json()["outside"] == "the harbour's sign-in"
    assert walk(service, browser) == "/"
    assert who(browser) == "anna"
    assert Person.objects.get(user__username="anna").role == Role.READER
    service.claims["preferred_username"] = "anna.of.the.ferries"
    again = Client()
    assert walk(service, again) == "/"
    assert who(again) == "anna", "known by what does not change"
    told = list(Deed.objects.order_by("pk").values_list("who", "did"))
    assert told == [("the harbour's sign-in", "let in"), ("anna", "signed in"), ("anna", "signed in")]


def test_without_a_role_for_newcomers_only_who_connected_it_comes_in(
    service: Service, settings: Any, planner: User, client: Client
) -> None:
    settings.OPENID_ROLE = ""
    stranger = Client()
    assert walk(service, stranger) == "/sign-in?refused=unknown"
    assert who(stranger) is None
    assert client.post("/api/openid").json() == {"name": "the harbour's sign-in", "connected": False}
    assert walk(service, client) == "/you"
    assert client.get("/api/openid").json()["connected"]
    assert walk(service, stranger) == "/"
    assert who(stranger) == "planner"
    assert client.delete("/api/openid").json()["connected"] is False
    assert walk(service, Client()) == "/sign-in?refused=unknown"


def test_a_name_that_is_somebodys_here_connects_nobody(service: Service) -> None:
    people.create("anna", None, Role.ADMINISTRATOR)
    browser = Client()
    assert walk(service, browser) == "/sign-in?refused=taken"
    assert who(browser) is None
    assert not Identity.objects.exists()


def test_signing_in_while_somebody_else_is_connects_nothing_unasked(service: Service, client: Client) -> None:
    assert walk(service, client) == "/"
    assert who(client) == "anna", "another person, who signed in"
    assert Identity.objects.get().user.username == "anna"


def test_an_identity_of_somebody_else_is_not_taken_over(service: Service, client: Client) -> None:
    walk(service, Client())
    client.post("/api/openid")
    assert walk(service, client) == "/you?refused=others"


def test_who_is_locked_out_stays_outside(service: Service) -> None:
    walk(service, Client())
    User.objects.filter(username="anna").update(is_active=False)
    browser = Client()
    assert walk(service, browser) == "/sign-in?refused=locked"
    assert who(browser) is None


@pytest.mark.parametrize(
    "claims", [{"aud": "another"}, {"nonce": "another"}, {"exp": 1.0}, {"iss": "http://another"}, {"sub": ""}]
)
def test_what_was_not_said_to_us_now_is_refused(service: Service, claims: dict[str, Any]) -> None:
    service.claims |= claims
    browser = Client()
    assert walk(service, browser) == "/sign-in?refused=failed"
    assert who(browser) is None
    assert not User.objects.filter(username="anna").exists()


def test_what_somebody_else_signed_is_refused(service: Service) -> None:
    service.key = STRANGER
    assert walk(service, Client()) == "/sign-in?refused=failed"


def test_a_return_that_was_not_begun_here_is_refused(service: Service) -> None:
    begun = Client().get("/api/openid/begin")
    query = {name: values[0] for name, values in parse_qs(urlsplit(begun["Location"]).query).items()}
    back = service.authorize(query).removeprefix("http://testserver")
    other = Client()
    assert other.get(back)["Location"] == "/sign-in?refused=failed"
    assert who(other) is None


def test_a_no_over_there_and_a_service_that_is_away_are_told(service: Service, settings: Any) -> None:
    service.denies = True
    assert walk(service, Client()) == "/sign-in?refused=cancelled"
    settings.OPENID_ISSUER = "http://127.0.0.1:9"
    assert Client().get("/api/openid/begin")["Location"] == "/sign-in?refused=away"


def test_a_person_without_a_password_keeps_their_way_in(service: Service) -> None:
    browser = Client()
    walk(service, browser)
    assert browser.delete("/api/openid").status_code == 409


def test_without_a_service_there_is_none(client: Client) -> None:
    assert client.get("/api/openid").json() == {"name": None, "connected": False}
    assert client.get("/api/openid/begin").status_code == 404
    assert openid.name() is None
