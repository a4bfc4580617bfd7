"""Browser recordings become journeys, with what must be kept anew found in them."""

from __future__ import annotations

import base64
import json
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest

from stonekettle.plan import journey_document
from stonekettle.plan.imports import dynamic, har
from stonekettle.plan.problems import PlanError

ZERO = datetime(2026, 11, 23, 9, 0, tzinfo=UTC)
HOST = "http://trams.example"


def entry(
    at: float,
    request: str,
    answer: str = "",
    status: int = 200,
    kind: str = "text/html",
    form: dict[str, str] | None = None,
    body: Any = None,
    host: str = HOST,
    sent: dict[str, str] | None = None,
    **headers: str,
) -> dict[str, Any]:
    """One entry that takes a tenth of a second."""
    method, _, path = request.partition(" ")
    made: dict[str, Any] = {
        "method": method,
        "url": host + path,
        "headers": [
            {"name": n, "value": v} for n, v in {"User-Agent": "x", "sec-fetch-mode": "y", **(sent or {})}.items()
        ],
    }
    if form is not None:
        text = "&".join(f"{k}={v.replace('=', '%3D')}" for k, v in form.items())
        made["postData"] = {"mimeType": "application/x-www-form-urlencoded; charset=UTF-8", "text": text}
    if body is not None:
        made["postData"] = {"mimeType": "application/json", "text": json.dumps(body)}
    return {
        "startedDateTime": (ZERO + timedelta(seconds=at)).isoformat().replace("+00:00", "Z"),
        "time": 100,
        "request": made,
        "response": {
            "status": status,
            "headers": [{"name": n.replace("_", "-"), "value": v} for n, v in headers.items()],
            "content": {"mimeType": kind, "text": answer},
        },
    }


def recording(*entries: dict[str, Any]) -> bytes:
    return json.dumps({"log": {"version": "1.2", "entries": list(entries)}}).encode()


LOGIN = '<form action="/login"><input type="hidden" name="form_token" value="q7x=="><input name="rider"></form>'
TICKET = '<form action="/tickets/new"><input type=hidden name="purchase_token" value="zz81kk"></form>'
BOUGHT = "<title>Ticket T-000042</title><h1>Ticket T-000042</h1>"
PORTAL = (
    entry(0.0, "GET /login", LOGIN),
    entry(0.2, "GET /static/tram.css", "body{}", kind="text/css"),
    entry(0.2, "GET /favicon.ico", "", 404, "text/html"),
    entry(0.3, "GET /pixel", host="http://counter.example", kind="image/gif"),
    entry(6.3, "POST /login", "", 303, form={"rider": "r-1001", "form_token": "q7x=="}, Location="/home"),
    entry(6.4, "GET /home", "<title>Your trams</title><p>Welcome, rider r-1001</p>"),
    entry(9.5, "GET /tickets/new?zone=A&rider=r-1001", TICKET),
    entry(11.6, "POST /tickets", "", 303, form={"zone": "A", "purchase_token": "zz81kk"},
          Location=f"{HOST}/tickets/T-000042"),
    entry(11.7, "GET /tickets/T-000042", BOUGHT),
    entry(13.8, "POST /tickets/T-000042/activate", '{"ticket": "T-000042"}', kind="application/json"),
)  # fmt: skip


def test_a_recording_becomes_steps_as_a_person_would_name_them() -> None:
    found = har.read(recording(*PORTAL))
    document = found.document("Day ticket", "Quillport")
    assert [step["request"] for step in document["steps"]] == [
        "GET /login",
        "POST /login",
        "GET /tickets/new?zone=A&rider=r-1001",
        "POST /tickets",
        "POST /tickets/T-000042/activate",
    ]
    first, sign_in, page, _, last = document["steps"]
    assert first["accompanying"] == ["/static/tram.css"]
    assert sign_in["redirects"] is True
    assert sign_in["form"] == {"rider": "r-1001", "form_token": "q7x=="}
    assert "headers" not in sign_in
    assert sign_in["checks"] == [{"contains": "<title>Your trams</title>"}]
    assert "checks" not in document["steps"][3]
    assert [step.get("think") for step in document["steps"]] == [
        "exponential 6 s", "exponential 3 s", "exponential 2 s", "exponential 2 s", None,
    ]  # fmt: skip
    assert "redirects" not in page
    assert "expect_status" not in last
    journey_document.from_document(document)


def test_what_is_left_out_is_said() -> None:
    found = har.read(recording(*PORTAL))
    assert found.hosts == {"trams.example": 9, "counter.example": 1}
    assert any("counter.example (1)" in note for note in found.notes)
    assert any("/favicon.ico" in note for note in found.notes)


def test_exactly_the_values_of_one_visit_are_proposed() -> None:
    found = dynamic.proposals(har.read(recording(*PORTAL)).steps)
    assert [(p.name, p.step, p.value) for p in found] == [
        ("form_token", 0, "q7x=="),
        ("purchase_token", 2, "zz81kk"),
        ("number", 3, "T-000042"),
    ]
    assert found[0].keep == {"field": "form_token"}
    assert [(place.step, place.where) for place in found[2].used] == [(4, "address")]


def test_accepted_values_are_kept_and_used() -> None:
    read = har.read(recording(*PORTAL))
    made = dynamic.accepted(read.document("Day ticket", ""), dynamic.proposals(read.steps))
    assert made["steps"][1]["form"] == {"rider": "r-1001", "form_token": "{{form_token}}"}
    assert made["steps"][4]["request"] == "POST /tickets/{{number}}/activate"
    assert made["steps"][3]["keep"][0]["name"] == "number"
    draft = journey_document.from_document(made)
    assert draft.missing() == ()
    untouched = dynamic.accepted(read.document("Day ticket", ""), [])
    assert untouched["steps"][4]["request"] == "POST /tickets/T-000042/activate"


def test_identifiers_in_json_are_followed() -> None:
    cart = {"cart": {"id": 981273, "lines": [{"sku": "A-1"}]}, "open": True}
    read = har.read(
        recording(
            entry(0, "POST /api/carts", json.dumps(cart), 201, "application/json", body={"zone": "A"}),
            entry(1, "POST /api/pay", "{}", kind="application/json", body={"cart": 981273, "open": True}),
            entry(2, "GET /api/carts/981273", "{}", kind="application/json"),
        )
    )
    (proposal,) = dynamic.proposals(read.steps)
    assert proposal.keep == {"json": "$.cart.id"}
    assert [(p.step, p.where) for p in proposal.used] == [(1, "JSON $.cart"), (2, "address")]
    made = dynamic.accepted(read.document("x", ""), [proposal])
    assert made["steps"][0]["expect_status"] == [201]
    assert made["steps"][1]["json"] == {"cart": "{{cart}}", "open": True}


def test_what_a_person_typed_is_theirs_even_when_it_comes_back() -> None:
    read = har.read(
        recording(
            entry(0, "GET /search?q=platform9", "<p>platform9 is closed</p>"),
            entry(1, "GET /stops?name=platform9", "ok"),
        )
    )
    assert dynamic.proposals(read.steps) == ()


@pytest.mark.parametrize(
    ("sent", "credentials"),
    [
        ({"Authorization": "Bearer abc.def"}, {"bearer": "abc.def"}),
        ({"Authorization": "Basic " + base64.b64encode(b"anna:p:w").decode()}, {"user": "anna", "password": "p:w"}),
        ({"Authorization": "Digest x"}, None),
    ],
)
def test_credentials_become_the_sessions(sent: dict[str, str], credentials: dict[str, str] | None) -> None:
    read = har.read(recording(entry(0, "GET /", "x", sent=sent), entry(1, "GET /a", "x", sent=sent)))
    made, notes = har.literal_credentials(read.document("x", ""))
    assert made.get("session") == ({"credentials": credentials} if credentials else None)
    assert all("headers" not in step for step in made["steps"]) == bool(credentials)
    assert "A literal credential (Authorization) goes with 2 of 2 requests" in notes[0]


def test_a_credential_that_only_some_requests_send_stays_with_them() -> None:
    sent = {"Authorization": "Bearer abc.def"}
    read = har.read(recording(entry(0, "GET /", "x"), entry(1, "GET /a", "x", sent=sent)))
    made, notes = har.literal_credentials(read.document("x", ""))
    assert "session" not in made
    assert made["steps"][1]["headers"] == {"authorization": "Bearer abc.def"}
    assert "1 of 2 requests" in notes[0]


TOKEN = "eyJhbGciOiJIUzI1NiJ9.c2VjcmV0.x1"


@pytest.mark.parametrize(
    ("answer", "kind", "sent", "keep", "becomes"),
    [
        (
            json.dumps({"access": TOKEN}),
            "application/json",
            f"Bearer {TOKEN}",
            {"json": "$.access"},
            "Bearer {{access}}",
        ),
        (f'<script>let t = "{TOKEN}";</script>', "text/html", f"Bearer {TOKEN}", None, "Bearer {{number}}"),
        ('{"key": "a\\/b-c-d-e-f-1"}', "application/json", "a/b-c-d-e-f-1", {"json": "$.key"}, "{{x_key}}"),
        ("<a href='/x?k=a%2Fb-c-d-e-f-1'>x</a>", "text/html", "a/b-c-d-e-f-1", {"decode": "url"}, "{{x_key}}"),
        ("<p data-key='a&amp;b-c-d-e-f-1'>x</p>", "text/html", "a&b-c-d-e-f-1", {"decode": "html"}, "{{x_key}}"),
        ("var key = 'YWJjLTEyMy1kZWY=';", "text/html", "abc-123-def", {"decode": "base64"}, "{{x_key}}"),
        ('{"key": "abc-123-def"}', "application/json", "YWJjLTEyMy1kZWY=", {"json": "$.key"}, "{{x_key | base64}}"),
    ],
)
def test_values_in_headers_are_found_in_whatever_writing(
    answer: str, kind: str, sent: str, keep: dict[str, str] | None, becomes: str
) -> None:
    name = "Authorization" if sent.startswith("Bearer") else "X-Key"
    read = har.read(recording(entry(0, "POST /in", answer, kind=kind), entry(1, "GET /me", "x", sent={name: sent})))
    (proposal,) = dynamic.proposals(read.steps)
    assert keep is None or keep.items() <= proposal.keep.items()
    made = dynamic.accepted(read.document("x", ""), [proposal])
    assert made["steps"][1]["headers"] == {name.lower(): becomes}
    journey_document.from_document(made)


def test_a_cookie_a_script_made_of_an_answer_is_carried_and_proposed() -> None:
    read = har.read(
        recording(
            entry(0, "GET /", "x", sent={"Cookie": "old=1"}),
            entry(1, "POST /in", '{"ticket": "tk-4711-x"}', kind="application/json", set_cookie="sid=s1234; Path=/"),
            entry(2, "GET /me", "x", sent={"Cookie": "sid=s1234; old=1; ticket=tk-4711-x; theme=dark7"}),
        )
    )
    (proposal,) = dynamic.proposals(read.steps)
    assert (proposal.name, proposal.keep) == ("ticket", {"json": "$.ticket"})
    made = dynamic.accepted(read.document("x", ""), [proposal])
    assert made["steps"][2]["headers"] == {"cookie": "ticket={{ticket}}"}
    assert "earlier visit, which are not sent: old." in read.notes[0]
    assert read.notes[1] == "Cookies set by scripts are left out: theme."


def test_a_cookies_value_sent_in_a_header_is_kept_from_the_cookie() -> None:
    read = har.read(
        recording(
            entry(0, "GET /", "x", set_cookie="csrf=c0ffee99; Path=/"),
            entry(1, "POST /buy", "x", sent={"Cookie": "csrf=c0ffee99", "X-CSRF": "c0ffee99"}),
        )
    )
    (proposal,) = dynamic.proposals(read.steps)
    assert (proposal.keep, proposal.used[0].where) == ({"cookie": "csrf"}, "header x-csrf")


def test_a_word_that_merely_occurs_in_a_script_is_not_sure() -> None:
    page = '<script>start({book: "B-204"})</script><a href="/books/C-17">next</a>'
    read = har.read(
        recording(entry(0, "GET /", page), entry(1, "GET /books/B-204", "x"), entry(2, "GET /books/C-17", "x"))
    )
    assert [(p.value, p.sure) for p in dynamic.proposals(read.steps)] == [("B-204", False), ("C-17", True)]


def test_steps_are_called_what_the_person_pressed_or_saw() -> None:
    names = [step["name"] for step in har.read(recording(*PORTAL)).document("x", "")["steps"]]
    assert names == ["GET /login", "Your trams", "GET /tickets/new", "POST /tickets", "POST /tickets/T-000042/activate"]
    home = "<title>Trams</title><a href='/tickets?zone=A'><img> Buy&nbsp;a <b>ticket</b></a>"
    form = "<form method=post action='buy'><input type=submit value='Pay now'></form>"
    read = har.read(
        recording(
            entry(0, "GET /", home),
            entry(1, "GET /tickets?zone=A", f"<title>Ticket 17</title>{form}"),
            entry(2, "POST /buy", "<title>Thanks</title>", form={"a": "b"}),
            entry(3, "POST /api/log", "{}", kind="application/json", body={}),
        )
    )
    assert [step["name"] for step in read.document("x", "")["steps"]] == [
        "Trams",
        "Buy a ticket",
        "Pay now",
        "POST /api/log",
    ]


@pytest.mark.parametrize("place", ["request", "response"])
@pytest.mark.parametrize("odd", [None, 5, "x", [], [5], {"headers": 7}, {"postData": [1]}, {"content": {"text": 5}}])
def test_wrong_types_inside_a_recording_do_no_harm(place: str, odd: Any) -> None:
    broken = entry(1, "POST /odd", "ok", body={})
    broken[place] = {**broken[place], **odd} if isinstance(odd, dict) else odd
    try:
        har.read(recording(entry(0, "GET /", "x"), broken))
    except PlanError as refused:
        assert "recording" in str(refused)  # noqa: PT017


def test_binary_and_odd_bodies_do_no_harm() -> None:
    picture = entry(0, "GET /map", kind="application/octet-stream")
    picture["response"]["content"] = {
        "mimeType": "application/octet-stream",
        "encoding": "base64",
        "text": "iVBORw0KGgo=",
    }
    upload = entry(1, "POST /scan", "ok", body={})
    upload["request"]["postData"] = {"mimeType": "text/csv", "text": "a,b"}
    upload["request"]["headers"].append({"name": "X-Zone", "value": "A"})
    broken = entry(2, "POST /odd", "ok", body={})
    broken["request"]["postData"] = {"mimeType": "application/json", "text": "{half"}
    broken["startedDateTime"] = "yesterday"
    steps = har.read(recording(picture, upload, broken)).document("x", "")["steps"]
    assert {"body": "a,b", "headers": {"x-zone": "A", "content-type": "text/csv"}}.items() <= steps[-1].items()
    assert any(step.get("body") == "{half" for step in steps)


@pytest.mark.parametrize(
    ("content", "part"),
    [
        (b"{", "not JSON"),
        (b"[]", "no browser recording"),
        (b'{"log": {}}', "no browser recording"),
        (recording(), "no request"),
        (b"\xff\xfe\x00", "not JSON"),
        (b" " * 40_000_001, "over 40 MB"),
    ],
)
def test_what_is_no_recording_is_refused(content: bytes, part: str) -> None:
    with pytest.raises(PlanError, match=part):
        har.read(content)


def test_names_that_repeat_are_numbered() -> None:
    read = har.read(recording(entry(0, "GET /", "a"), entry(1, "GET /", "b")))
    assert [step["name"] for step in read.document("x", "")["steps"]] == ["GET /", "GET / (2)"]


def test_other_hosts_are_taken_where_they_are_wanted() -> None:
    api, ads = "https://api.trams.example", "https://ads.example"
    content = recording(
        entry(0, "GET /", "<p>page</p>"),
        entry(0.2, "GET /pixel.png", kind="image/png", host=ads),
        entry(0.2, "GET /map.svg", kind="image/svg+xml", host=api),
        entry(3, "GET /v1/stops?q=2", "[]", kind="application/json", host=api),
        entry(4, "POST /v1/leave", status=302, host=api, location=f"{HOST}/bye"),
        entry(4.1, "GET /bye", "<p>bye</p>"),
    )
    alone = har.read(content)
    assert [step.document["request"] for step in alone.steps] == ["GET /", "GET /bye"]
    assert alone.notes[0].startswith("Requests to other hosts are left out: api.trams.example (3), ads.example (1)")
    both = har.read(content, ["api.trams.example"])
    assert [step.document["request"] for step in both.steps] == [
        "GET /",
        f"GET {api}/v1/stops?q=2",
        f"POST {api}/v1/leave",
    ]
    assert both.steps[0].document["accompanying"] == [f"{api}/map.svg"]
    assert both.steps[2].document["redirects"]
    assert both.notes == ("Requests to other hosts are left out: ads.example (1).",)
    journey_document.from_document(both.document("Both", ""))


def test_answers_are_kept_with_the_number_of_their_step() -> None:
    found = har.read(recording(*PORTAL))
    steps = found.document("Day ticket", "")["steps"]
    assert [step["recorded"] for step in steps] == list(range(len(steps)))
    assert len(found.answers) == len(steps)
    # The answer a redirect led to is the one that a person saw.
    assert (found.answers[1].status, found.answers[1].content_type) == (200, "text/html")
    long = har.read(recording(entry(0, "GET /", "x" * 200_000)))
    assert len(long.answers[0].body) == har.MAX_KEPT
