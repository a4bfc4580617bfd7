"""Actions over real sockets: what is sent, what is waited for, and every way in which they fail."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from typing import Any

import pytest

from stonekettle.engine.actions import ActionFailed, Changer
from stonekettle.engine.allowance import LOOPBACK
from stonekettle.plan import signing
from stonekettle.plan.candidates import Candidate
from stonekettle.plan.credentials import Credentials
from stonekettle.plan.system import Operations
from tests.ops import Ops

KEY = "a-long-enough-key"


def changer(ops: Ops, check: Callable[[], None] = lambda: None, **operations: Any) -> Changer:
    told = Operations(address=ops.url, **operations)
    return Changer(told, LOOPBACK.refusal, {"cloud": [ops.url]}, check, commands=True)


def candidate(**told: Any) -> Candidate:
    return Candidate.model_validate({"name": "june", **told})


def test_actions_are_done_in_order_and_then_it_is_waited_for(ops: Ops) -> None:
    ops.ready_after = 2
    june = candidate(
        begin=[{"call": "PUT /one", "body": '{"a": 1}'}, {"call": "POST practice://cloud/two"}],
        ready={"ask": "/ready", "every": "0.25 s"},
        end=[{"call": "POST /end"}],
    )
    with changer(ops) as changing:
        took = changing.begin([june], ops.url)
        changing.end([june])
    assert ops.paths() == ["/one", "/two", "/ready", "/ready", "/ready", "/end"]
    assert took >= 0.5
    method, _, headers, body = ops.asked[0]
    assert (method, headers["Content-Type"], body) == ("PUT", "application/json", b'{"a": 1}')
    assert [one.what for one in changing.done] == [
        "PUT /one",
        "POST practice://cloud/two",
        "ready at /ready",
        "POST /end",
    ]
    assert changing.done[2].took_s >= 0.5


def test_calls_to_the_operations_carry_their_credentials_and_signature_and_others_do_not(ops: Ops) -> None:
    other = Ops()
    june = candidate(
        begin=[{"call": "PUT /one?x=1", "body": "b", "signed": True}, {"call": f"PUT {other.url}/two"}],
    )
    with changer(ops, credentials=Credentials(bearer="t-1"), signing_key=KEY) as changing:
        changing.begin([june], ops.url)
    _, _, headers, body = ops.asked[0]
    assert headers["Authorization"] == "Bearer t-1"
    assert signing.fault(KEY, "PUT", "/one?x=1", body, headers) is None
    _, _, plain, _ = other.asked[0]
    assert not {"Authorization", signing.SIGNATURE} & set(plain)
    other.close()


def test_an_answer_that_was_not_expected_says_so(ops: Ops) -> None:
    ops.status = 422
    with changer(ops) as changing, pytest.raises(ActionFailed, match=r"PUT /one answered with status 422.*no such"):
        changing.begin([candidate(begin=[{"call": "PUT /one"}, {"call": "PUT /two"}])], ops.url)
    assert ops.paths() == ["/one"]


def test_a_redirect_is_an_answer_and_not_followed(ops: Ops) -> None:
    with changer(ops) as changing, pytest.raises(ActionFailed, match="status 302"):
        changing.begin([candidate(begin=[{"call": "PUT /moved"}])], ops.url)
    assert ops.paths() == ["/moved"]


def test_whoever_drips_is_left(ops: Ops) -> None:
    ops.drips = True
    began = time.monotonic()
    with changer(ops) as changing, pytest.raises(ActionFailed, match=r"took over 0\.5 s|within 0\.5 s"):
        changing.begin([candidate(begin=[{"call": "PUT /one", "within": "0.5 s"}])], ops.url)
    assert time.monotonic() - began < 5


def test_what_never_gets_ready_is_given_up(ops: Ops) -> None:
    ops.ready_after = 1_000
    june = candidate(ready={"ask": "/ready", "every": "0.25 s", "within": "1 s"})
    with changer(ops) as changing, pytest.raises(ActionFailed, match="not ready within 1 s: it answered with status"):
        changing.begin([june], ops.url)


def test_nothing_is_sent_where_nothing_may_be(ops: Ops) -> None:
    june = candidate(begin=[{"call": "PUT http://169.254.169.254/latest"}])
    with changer(ops) as changing, pytest.raises(ActionFailed, match="could not be sent"):
        changing.begin([june], ops.url)
    nowhere = candidate(begin=[{"call": "PUT practice://crane/x"}])
    with changer(ops) as changing, pytest.raises(ActionFailed, match="not in the practice system"):
        changing.begin([nowhere], ops.url)


def test_whoever_stops_it_is_heard_while_it_waits(ops: Ops) -> None:
    ops.ready_after = 1_000
    until = time.monotonic() + 0.6

    def check() -> None:
        if time.monotonic() > until:
            raise ActionFailed("halted")

    with changer(ops, check) as changing, pytest.raises(ActionFailed, match="halted"):
        changing.begin([candidate(ready={"ask": "/ready", "within": "1 min"})], ops.url)


def test_ends_are_all_tried_and_the_first_fault_is_told(ops: Ops) -> None:
    ops.status = 500
    june = candidate(end=[{"call": "PUT /one"}, {"call": "PUT /two"}])
    with changer(ops) as changing, pytest.raises(ActionFailed, match="PUT /one"):
        changing.end([june])
    assert ops.paths() == ["/one", "/two"]


@pytest.mark.parametrize(
    ("command", "words"),
    [
        (f"{sys.executable} -c 'import sys; print(\"no disk\"); sys.exit(3)'", "ended with 3: 'no disk'"),
        (f"{sys.executable} -c 'import time; time.sleep(30)'", "took over 0.5 s and was ended"),
        ("no-such-command-here", "could not be started"),
    ],
)
def test_a_command_that_fails_says_how(ops: Ops, command: str, words: str) -> None:
    june = candidate(begin=[{"command": command, "within": "0.5 s" if "sleep" in command else "20 s"}])
    with changer(ops) as changing, pytest.raises(ActionFailed) as caught:
        changing.begin([june], ops.url)
    assert words in str(caught.value)


def test_the_web_application_runs_no_command(ops: Ops) -> None:
    june = candidate(begin=[{"command": "true"}])
    with changer(ops) as changing:
        changing.begin([june], ops.url)
    assert changing.done[0].outcome == "done"
    with Changer(None, LOOPBACK.refusal, {}) as changing, pytest.raises(ActionFailed, match="kettle run alone"):
        changing.begin([june], ops.url)
