"""Answers and data of other kinds: they may fail their own request, and never the generator."""

from __future__ import annotations

import gzip
import threading
import time
import tracemalloc
from random import Random
from typing import Any

import numpy as np
import pytest

from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.engine.errors import TrialFailed
from stonekettle.engine.records import ERRORS, view
from stonekettle.engine.script import compile_plan
from stonekettle.engine.trial import try_all, try_journey
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from tests.engine.conftest import KnownServer, loop_of


def plan_of(url: str, *steps: dict[str, Any], csv: str = "rider\nx\n") -> Plan:
    return document.from_document(
        {
            "name": "test",
            "system": {"name": "s", "base_url": url},
            "journeys": [{"name": "j", "steps": [{"think": "20 ms", **step} for step in steps]}],
            "feeds": [{"name": "riders", "csv": csv}],
            "load": [{"hold": {"users": 2, "for": "1 s"}}],
        }
    )


def errors_under_load(plan: Plan) -> set[str]:
    chunks: list[bytes] = []
    loop = loop_of(plan, lambda second, data: chunks.append(data), LoadProfile((Segment.hold(2, 0.6),)))
    loop.run(time.perf_counter())
    records = np.concatenate([view(chunk) for chunk in chunks])
    assert len(records) > 3
    return {ERRORS[error] for error in records["error"]}


@pytest.mark.parametrize(
    ("path", "check", "passes"),
    [
        ("/latin", {"contains": "Zürich"}, True),
        ("/latin", {"contains": "Zurich"}, False),
        ("/deep", {"json": "$.a", "exists": True}, False),
        ("/deep", {"json": "$.a", "exists": False}, True),
    ],
)
def test_trial_and_load_judge_alike(known_server: KnownServer, path: str, check: dict[str, Any], passes: bool) -> None:
    plan = plan_of(known_server.url, {"name": "a", "request": f"GET {path}", "checks": [check]})
    if passes:
        try_all(compile_plan(plan), plan.system.base_url)
    else:
        with pytest.raises(TrialFailed, match="failed at step 'a'"):
            try_all(compile_plan(plan), plan.system.base_url)
    assert errors_under_load(plan) == ({"none"} if passes else {"check"})


WORDS = ("Zürich", "größte", "a", "12.5", '{"a": 1}', "[1, null]", "<input name=t value=7>", "é", "\x00", "")
KINDS = ("text/html", "application/json", "", "text/plain; charset=undefined", "text/plain; charset=idna")
CHARSETS = ("utf-8", "iso-8859-1", "windows-1252", "utf-16", "shift_jis", "nonsense")


def any_answer(random: Random) -> tuple[dict[str, str], bytes]:
    """Text in some encoding under some content type, perhaps a wrong one, perhaps packed, perhaps very long."""
    charset = random.choice(CHARSETS)
    text = " ".join(random.choices(WORDS, k=random.randrange(4))) * random.choice((1, 1, 1, 30_000))
    body = text.encode("utf-8" if charset == "nonsense" else charset, "replace")
    kind = random.choice((*KINDS, f"text/html; charset={charset}", f"text/html;charset={random.choice(CHARSETS)}"))
    headers = {"Content-Type": kind, "X-Place": random.choice(("Bern", "7"))}
    if random.random() < 0.2:
        return {**headers, "Content-Encoding": "gzip"}, gzip.compress(body)
    return headers, body


def any_demand(random: Random) -> dict[str, Any]:
    """A check or a kept value."""
    word, size = (
        random.choice([word for word in WORDS if word.isprintable() and word]),
        random.choice((0, 5, 40, 10**6)),
    )
    checks: list[dict[str, Any]] = [
        {"contains": word},
        {"lacks": word},
        {"matches": random.choice((r"Z.rich", r"^$", r"[0-9]+\.[0-9]", r"(a+)+$"))},
        {"json": random.choice(("$.a", "$[0]", "$[1]")), "exists": random.random() < 0.5},
        {"json": "$.a", "equals": random.choice((1, "1"))},
        {"header": "X-Place", "equals": random.choice(("Bern", 7))},
        {"at_least_bytes": size},
        {"at_most_bytes": size},
    ]
    keeps = [{"json": "$[1]"}, {"regex": "([0-9]+)"}, {"field": "t"}, {"header": "X-Place"}, {"cookie": "visit"}]
    if random.random() < 0.3:
        return {"keep": [{"name": "v", **random.choice(keeps)}]}
    return {"checks": random.sample(checks, 2)}


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_trial_and_load_judge_any_answer_alike(known_server: KnownServer, seed: int) -> None:
    random, count = Random(seed), 90
    known_server.answers = {f"/{i}": any_answer(random) for i in range(count)}
    journeys = [
        {"name": f"j{i}", "steps": [{"name": f"s{i}", "request": f"GET /{i}", **any_demand(random)}]}
        for i in range(count)
    ]
    plan = document.from_document(
        {
            "name": "test",
            "system": {"name": "s", "base_url": known_server.url},
            "journeys": journeys,
            "load": [{"hold": {"users": 4, "for": "30 s"}}],
        }
    )
    script = compile_plan(plan)
    tried = [try_journey(script, known_server.url, number).passed for number in range(count)]
    asked = known_server.seen.total()
    chunks: list[bytes] = []
    loop = loop_of(plan, lambda second, data: chunks.append(data))

    # A shuffled deck deals every journey once before any a second time.
    def hear() -> None:
        if known_server.seen.total() > asked + 2 * count and not loop.book.closed:
            loop.book.close(time.perf_counter() - start)

    start = time.perf_counter()
    loop.run(start, hear)
    records = np.concatenate([view(chunk) for chunk in chunks])
    loaded = [set(records["error"][records["step"] == number] == 0) for number in range(count)]
    assert loaded == [{passed} for passed in tried]
    assert 0.2 < np.mean(tried) < 0.8


def test_an_unpacked_flood_is_counted_and_not_kept(known_server: KnownServer) -> None:
    flood = gzip.compress(bytes(50_000_000), 9)
    known_server.answers["/flood"] = ({"Content-Type": "text/plain", "Content-Encoding": "gzip"}, flood)
    plan = plan_of(known_server.url, {"name": "a", "request": "GET /flood"})
    tracemalloc.start()
    trial = try_journey(compile_plan(plan), known_server.url, 0)
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert trial.steps[0].exchanges[0].size == 50_000_000
    assert peak < 10_000_000


def test_names_of_any_language_go_into_headers_and_never_end_their_line(known_server: KnownServer) -> None:
    plan = plan_of(
        known_server.url,
        {"name": "a", "request": "GET /", "headers": {"X-Rider": "{{rider}}"}},
        csv='rider\nJörg\n"Ana\r\nX-Rider: evil"\n',
    )
    assert errors_under_load(plan) == {"none"}
    seen = {value.encode("latin-1").decode() for values in known_server.names for value in values or ()}
    assert seen == {"Jörg", "Ana  X-Rider: evil"}
    assert all(len(values or ()) == 1 for values in known_server.names)


def test_half_a_character_in_an_answer_can_be_kept_and_sent_again(known_server: KnownServer) -> None:
    plan = plan_of(
        known_server.url,
        {"name": "a", "request": "GET /half", "keep": [{"name": "token", "json": "$.token"}]},
        {"name": "b", "request": "POST /?t={{token}}", "json": {"t": "{{token}}"}},
    )
    assert errors_under_load(plan) == {"none"}


def test_a_redirect_does_not_take_a_secret_header_elsewhere(known_server: KnownServer) -> None:
    other = KnownServer()
    threading.Thread(target=other.serve_forever, daemon=True).start()
    known_server.answers["/go"] = ({"Location": f"{other.url}/taken"}, b"")
    known_server.answers["/home"] = ({"Location": "/"}, b"")
    for path, headers, passes in (
        ("/go", {"X-Api-Key": "hush-hush"}, False),
        ("/go", {"X-Zone": "A"}, True),
        ("/home", {"X-Api-Key": "hush-hush"}, True),
    ):
        step = {"name": "a", "request": f"GET {path}", "headers": headers, "redirects": True}
        plan = plan_of(known_server.url, step)
        trial = try_journey(compile_plan(plan), known_server.url, 0)
        assert trial.passed == passes, trial.reason
        assert passes or "where its secrets may not go" in trial.reason
        assert errors_under_load(plan) == ({"none"} if passes else {"target not allowed"})
        if not passes:
            assert other.seen.total() == 0
    other.shutdown()
    other.server_close()
