"""Whose systems may be loaded: entered, proven, taken back; and that a run keeps to it."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.db import OperationalError
from django.test import Client
from django.utils import timezone

from stonekettle.engine.allowance import Allowance, Ceilings
from stonekettle.engine.errors import TargetError
from stonekettle.engine.proof import PATH, Claim, Proof, Unproven
from stonekettle.plan import document
from stonekettle.plan.problems import PlanError
from stonekettle.server.access import people
from stonekettle.server.access.roles import Actor, Forbidden, Role
from stonekettle.server.history.models import Deed
from stonekettle.server.runs.models import Generator, Run, RunWish
from stonekettle.server.targets import allowances, guarding, rules, shares
from stonekettle.server.targets.guarding import Guarding
from stonekettle.server.targets.models import Target
from tests.server.acting import TESTS
from tests.server.conftest import QUICK
from tests.server.test_experiments import send

TERMS = {"host": "10.9.8.7", "ports": "8080", "scheme": "http", "contact": "Anna, 123"}
ENTRY = {**TERMS, "reason": "the test shop", "users": 400}
BASE = ("system.base_url", "http://10.9.8.7:8080")


@pytest.fixture
def token(monkeypatch: pytest.MonkeyPatch) -> dict[str, str]:
    """What is found where a token is looked for: ``fault`` and ``certain`` say what is there instead."""
    there = {"fault": "", "certain": "yes"}

    def prove(claim: Claim) -> Proof:
        if there["fault"]:
            raise Unproven(there["fault"], is_certain=there["certain"] == "yes")
        return Proof((claim.host,), PATH)

    monkeypatch.setattr(rules, "prove", prove)
    return there


@pytest.fixture
def entered(db: None) -> Target:
    return rules.enter(TESTS, ENTRY, timezone.now() + timedelta(days=9))


@pytest.fixture
def proven(db: None, token: dict[str, str]) -> Target:
    made = rules.claim(TESTS, TERMS)
    rules.look(TESTS, made)
    made.refresh_from_db()
    return made


def may(target: Target) -> str | None:
    return Target.objects.get(pk=target.pk).why_not()


def test_an_entry_opens_a_host_up_to_its_end(entered: Target) -> None:
    assert allowances.current([BASE]).refusal("10.9.8.7", 8080) is None
    assert allowances.current([BASE]).refusal("10.9.8.7", 8081) == "is not an allowed target at port 8081"
    assert allowances.current([BASE]).refusal("10.9.8.8", 8080) == "is not an allowed target"
    Target.objects.update(ends_at=timezone.now() - timedelta(seconds=1))
    assert "was allowed until" in (may(entered) or "")
    assert allowances.current([BASE]).refusal("10.9.8.7", 8080) == "is not an allowed target"


@pytest.mark.parametrize(
    ("changes", "days", "path"),
    [
        ({"reason": " "}, 9, "reason"),
        ({"users": None}, 9, "users"),
        ({}, -1, "ends_at"),
        ({}, 500, "ends_at"),
        ({"host": "169.254.169.254"}, 9, "host"),
        ({"host": "100.100.0.0/16"}, 9, "host"),
        ({"host": "64:ff9b::/96"}, 9, "host"),
        ({"host": "::ffff:10.0.0.1"}, 9, "host"),
        ({"host": "surely.nowhere.invalid"}, 9, "host"),
    ],
)
def test_an_entry_that_is_not_complete_or_safe_is_refused(
    db: None, changes: dict[str, Any], days: int, path: str
) -> None:
    written = {key: value for key, value in {**ENTRY, **changes}.items() if value is not None}
    with pytest.raises(PlanError) as caught:
        rules.enter(TESTS, written, timezone.now() + timedelta(days=days))
    assert [problem.path for problem in caught.value.problems] == [path]
    assert not Target.objects.exists()


@pytest.mark.parametrize(
    ("changes", "path"),
    [
        ({"host": "10.9.0.0/24"}, "host"),
        ({"ports": ""}, "ports"),
        ({"ports": "80-90"}, "ports"),
        ({"scheme": ""}, "scheme"),
    ],
)
def test_only_what_can_show_a_token_is_claimed(db: None, changes: dict[str, str], path: str) -> None:
    with pytest.raises(PlanError) as caught:
        rules.claim(TESTS, {**TERMS, **changes})
    assert caught.value.problems[0].path == path


def test_a_claim_opens_nothing_before_its_token_is_found(db: None, token: dict[str, str]) -> None:
    made = rules.claim(TESTS, TERMS)
    assert may(made) == "has not been proven yet"
    token["fault"] = "it answers with status 404 instead of the token"
    assert rules.look(TESTS, made) == token["fault"]
    assert may(made) == "has not been proven yet"
    assert allowances.current([BASE]).permits == ()
    token["fault"] = ""
    assert rules.look(TESTS, made) is None
    assert may(made) is None
    assert allowances.current([BASE]).refusal("10.9.8.7", 8080) is None


def test_a_proof_is_lost_by_the_hosts_own_no_and_not_by_its_silence(proven: Target, token: dict[str, str]) -> None:
    token |= {"fault": "it does not answer", "certain": ""}
    assert "could not be proven now" in (rules.confirm(proven) or "")
    assert may(proven) is None, "an overloaded host has taken nothing back"
    Target.objects.update(proven_at=timezone.now() - timedelta(hours=26))
    assert "could not be proven since" in (may(proven) or "")
    Target.objects.update(proven_at=timezone.now())
    token |= {"fault": "it answers with status 404 instead of the token", "certain": "yes"}
    rules.confirm(proven)
    assert may(proven) == "is no longer proven: it answers with status 404 instead of the token"
    token["fault"] = ""
    rules.look(TESTS, proven)
    assert may(proven) is None


def test_proofs_are_a_day_old_at_most(proven: Target, token: dict[str, str]) -> None:
    token["fault"] = "it answers something else"
    rules.confirm_all()
    assert may(proven) is None, "it was proven just now"
    Target.objects.update(
        proven_at=timezone.now() - timedelta(hours=24), looked_at=timezone.now() - timedelta(hours=24)
    )
    rules.confirm_all()
    assert "no longer proven" in (may(proven) or "")


def test_who_may_what(entered: Target, proven: Target) -> None:
    planner = Actor.of(people.create("pia", None, Role.PLANNER))
    with pytest.raises(Forbidden):
        rules.enter(planner, ENTRY, timezone.now() + timedelta(days=1))
    with pytest.raises(Forbidden):
        rules.change(planner, entered, {**ENTRY, "users": 9_000}, timezone.now() + timedelta(days=1))
    with pytest.raises(Forbidden):
        rules.remove(planner, entered)
    rules.change(planner, proven, {**TERMS, "requests": 50})
    with pytest.raises(PlanError, match="Enter the other one as a target of its own"):
        rules.change(planner, proven, {**TERMS, "host": "10.9.8.6"})
    rules.remove(planner, proven)
    assert may(proven) == "was removed from the targets"
    rules.bring_back(planner, proven)
    assert may(proven) is None


def test_what_happened_is_told(entered: Target, proven: Target, token: dict[str, str]) -> None:
    rules.confirm(proven)
    token["fault"] = "gone"
    rules.confirm(proven)
    rules.confirm(proven)
    told = list(Deed.objects.filter(kind="target").order_by("pk").values_list("did", "object_name"))
    name = "10.9.8.7 port 8080"
    assert told == [("entered", name), ("claimed", name), ("proved", name), ("found no proof of", name)]


def test_a_name_may_not_come_to_mean_another_private_host(db: None, monkeypatch: pytest.MonkeyPatch) -> None:
    meaning = ["10.9.8.7"]
    monkeypatch.setattr(rules, "addresses_of", lambda host: list(meaning))
    monkeypatch.setattr(allowances, "addresses_of", lambda host: list(meaning))
    monkeypatch.setattr("stonekettle.engine.targets.addresses_of", lambda host: list(meaning))
    made = rules.enter(TESTS, {**ENTRY, "host": "shop.example"}, timezone.now() + timedelta(days=1))
    meaning[:] = ["8.8.4.4"]
    assert rules.confirm(made) is None
    assert made.addresses == ["10.9.8.7", "8.8.4.4"]
    meaning[:] = ["8.8.4.5"]
    allowances.check_start(document.read(at("http://shop.example:8080")))
    assert "8.8.4.5" in Target.objects.get(pk=made.pk).addresses, "a name that moved is looked at before a start"
    meaning[:] = ["10.9.8.99"]
    assert "10.9.8.99 now, which is private" in (rules.confirm(made) or "")
    meaning[:] = ["169.254.169.254"]
    assert "link-local" in (rules.confirm(made) or "")
    with pytest.raises(TargetError, match=r"shop\.example"):
        allowances.confirmed([("system.base_url", "http://shop.example:8080")])


def test_before_a_run_it_is_proven_anew(proven: Target, token: dict[str, str]) -> None:
    assert allowances.confirmed([BASE]).permits[0].number == proven.pk
    token |= {"fault": "it does not answer", "certain": ""}
    with pytest.raises(TargetError, match=r"system.base_url: the target 10\.9\.8\.7 could not be proven now"):
        allowances.confirmed([BASE])


def test_ceilings_of_others_are_not_ours(entered: Target) -> None:
    elsewhere = [("system.base_url", "http://127.0.0.1:9")]
    assert allowances.current(elsewhere).permits == (), "it has ceilings, and is not named"
    assert allowances.current([BASE]).permits[0].ceilings == Ceilings(users=400)


def test_a_scheme_that_was_not_allowed_is_refused(entered: Target) -> None:
    with pytest.raises(TargetError, match="not an allowed target by https"):
        allowances.confirmed([("system.base_url", "https://10.9.8.7:8080")])


# Runs


def at(host: str) -> str:
    return QUICK.replace("base_url: practice://gateway", f"base_url: {host}")


def started(client: Client, source: str) -> Any:
    made = send(client, "POST", "/api/experiments", source=source)
    assert made.status_code == 201, made.json()
    return client.post(f"/api/experiments/{made.json()['id']}/runs")


@pytest.mark.django_db
def test_an_experiment_is_kept_and_not_run_where_load_may_not_go(client: Client) -> None:
    (problem,) = started(client, at("http://10.9.8.7:8080")).json()["problems"]
    assert problem["path"] == "system.base_url"
    assert problem["message"] == "10.9.8.7 (10.9.8.7) is not an allowed target."
    assert "Targets" in problem["mend"]


def test_a_run_keeps_to_what_the_target_bears(client: Client, entered: Target) -> None:
    assert started(client, at(BASE[1])).status_code == 201
    Run.objects.all().delete()
    rules.change(TESTS, entered, {**ENTRY, "users": 100}, timezone.now() + timedelta(days=1))
    (problem,) = started(client, at(BASE[1]).replace("Quick look", "Too many")).json()["problems"]
    assert "180 users are more than 10.9.8.7 bears: 100 of everybody together." in problem["message"]
    assert "Anna, 123" in problem["mend"]


def test_a_run_begins_in_no_closed_hours_and_does_not_reach_into_them(
    client: Client, entered: Target, monkeypatch: pytest.MonkeyPatch
) -> None:
    hours = {"days": ["Mon"], "start": "07:00", "end": "09:00"}
    rules.change(TESTS, entered, {**ENTRY, "closed": [hours]}, timezone.now() + timedelta(days=30))
    Target.objects.update(ends_at=datetime(2027, 1, 1, tzinfo=UTC))
    for now, reason in (
        (datetime(2026, 7, 6, 8, 0, tzinfo=UTC), "is closed to load until Mon 09:00 (UTC)"),
        (datetime(2026, 7, 6, 6, 59, tzinfo=UTC), "10.9.8.7 is closed from Mon 07:00 UTC on"),
    ):
        monkeypatch.setattr(timezone, "now", lambda now=now: now)
        with pytest.raises(PlanError, match="closed") as caught:
            allowances.check_start(the_plan())
        assert reason in caught.value.problems[0].message
    monkeypatch.setattr(timezone, "now", lambda: datetime(2026, 7, 6, 9, 0, tzinfo=UTC))
    allowances.check_start(the_plan())


def the_plan() -> Any:
    return document.read(at(BASE[1]))


def test_generators_share_what_a_target_bears(entered: Target, make_run: Callable[..., Run]) -> None:
    rules.change(TESTS, entered, {**ENTRY, "users": 10, "requests": 7}, timezone.now() + timedelta(days=1))
    allowance = allowances.current([BASE])
    runs = [make_run(0, state=state, allowance=allowance.as_dict()) for state in ("running", "preparing", "finished")]
    elsewhere = make_run(0, state="running", allowance=Allowance().as_dict())
    Generator.objects.all().delete()
    made = [
        Generator.objects.create(run=run, name=f"g-{n}", region="local", slot=n, state=state)
        for run in (*runs, elsewhere)
        for n, state in ((8, "ready"), (9, "starting"))
    ]
    told = [shares.of(generator, allowance)[0] for generator in made[:4]]
    assert [one.users for one in told] == [3, 3, 2, 2]
    assert [one.requests for one in told] == [2, 2, 2, 1]
    Generator.objects.filter(pk=made[0].pk).update(state="lost", seen_at=timezone.now())
    assert shares.of(made[1], allowance)[0].users == 3, "the lost one may go on for some seconds"
    Generator.objects.filter(pk=made[0].pk).update(seen_at=timezone.now() - timedelta(seconds=30))
    assert shares.of(made[1], allowance)[0].users == 4


@pytest.mark.parametrize("what", ["taken back", "removed", "ended"])
def test_a_run_under_way_ends_where_its_target_is_no_longer_allowed(
    proven: Target, token: dict[str, str], make_run: Callable[..., Run], settings: Any, what: str
) -> None:
    settings.PROOF_EVERY_S = 0.0
    run = make_run(0, state="running", allowance=allowances.current([BASE]).as_dict())
    guard = Guarding(run.pk)
    assert guard._why_ended() is None
    if what == "taken back":
        token["fault"] = "it answers with status 404 instead of the token"
        expected = f"is no longer proven: {token['fault']}"
    elif what == "removed":
        rules.remove(TESTS, proven)
        expected = "was removed from the targets"
    else:
        Target.objects.update(ends_at=timezone.now())
        expected = "was allowed until"
    why = guard._why_ended()
    assert expected in (why or "")
    guard._end(why or "")
    wish = RunWish.objects.get(run=run)
    assert (wish.verb, wish.who) == ("stop", "the guard of targets")
    assert "10.9.8.7" in wish.why


def test_the_guard_outlasts_a_database_that_is_away(
    proven: Target, make_run: Callable[..., Run], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(guarding, "LOOK_S", 0.01)
    told: list[str] = []
    answers = iter([OperationalError("away"), None, "The target is gone."])

    def why(self: Guarding) -> str | None:
        answer = next(answers)
        if isinstance(answer, Exception):
            raise answer
        return answer

    monkeypatch.setattr(Guarding, "_why_ended", why)
    monkeypatch.setattr(Guarding, "_end", lambda self, text: told.append(text))
    Guarding(make_run(0).pk)._run()
    assert told == ["The target is gone."]


def test_a_silent_host_ends_no_run(
    proven: Target, token: dict[str, str], make_run: Callable[..., Run], settings: Any
) -> None:
    settings.PROOF_EVERY_S = 0.0
    token |= {"fault": "it does not answer", "certain": ""}
    run = make_run(0, state="running", allowance=allowances.current([BASE]).as_dict())
    assert Guarding(run.pk)._why_ended() is None


# Through the API


def test_targets_are_told_with_how_they_stand(client: Client, entered: Target, proven: Target) -> None:
    told = client.get("/api/targets").json()
    assert told["proof_path"] == "/.well-known/stone-kettle"
    first, second = told["targets"]
    assert (first["way"], first["state"], first["ceilings"]) == ("entered", "open", "400 users")
    assert (second["way"], second["state"], second["text"]) == ("proven", "open", "Load may go there.")
    assert second["token"].startswith("stone-kettle-")
    assert first["token"] == ""


def test_whoever_starts_a_run_is_told_whose_system_it_is(client: Client, planner: User) -> None:
    made = send(client, "POST", "/api/experiments", source=at(BASE[1])).json()["id"]
    (before,) = client.get(f"/api/experiments/{made}/targets").json()
    assert (before["host"], before["port"], before["allowed"]) == ("10.9.8.7", 8080, False)
    assert before["text"] == "10.9.8.7 is not an allowed target."
    ends_at = (timezone.now() + timedelta(days=3)).isoformat()
    entry = send(client, "POST", "/api/targets/entries", terms=ENTRY, ends_at=ends_at)
    assert entry.status_code == 201
    (after,) = client.get(f"/api/experiments/{made}/targets").json()
    assert after["allowed"]
    assert after["target"]["terms"]["contact"] == "Anna, 123"
    assert client.delete(f"/api/targets/{entry.json()['id']}").json()["removed"]
    (gone,) = client.get(f"/api/experiments/{made}/targets").json()
    assert not gone["allowed"]
    here = send(client, "POST", "/api/experiments", source=at("http://127.0.0.1:9").replace("Quick look", "Here"))
    assert client.get(f"/api/experiments/{here.json()['id']}/targets").json() == []
