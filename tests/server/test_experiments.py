"""Experiments over the API: created, revised, restored, and refused with reasons."""

from __future__ import annotations

import json
from typing import Any

import pytest
from django.test import Client
from pytest_django import DjangoAssertNumQueries

from stonekettle.server.experiments import rules
from stonekettle.server.experiments.models import Experiment, Revision
from stonekettle.server.runs import rules as runs
from stonekettle.server.runs.models import Run
from tests.server.acting import TESTS
from tests.server.conftest import QUICK


def send(client: Client, method: str, path: str, **body: Any) -> Any:
    return client.generic(method, path, json.dumps(body), content_type="application/json")


def save(client: Client, experiment: Experiment, source: str, *, continues: bool = False) -> Any:
    """As an open page saves it."""
    address = f"/api/experiments/{experiment.pk}"
    base = client.get(address).json()["revision"]
    body = {"document": {"source": source}, "base": base, "editor": "page", "continues": continues}
    return send(client, "PUT", address, **body)


def test_a_document_becomes_an_experiment(client: Client) -> None:
    answer = send(client, "POST", "/api/experiments", source=QUICK)
    assert answer.status_code == 201
    detail = client.get(f"/api/experiments/{answer.json()['id']}").json()
    assert detail["name"] == "Quick look"
    assert detail["document"] == {"source": QUICK}
    assert detail["revisions"][0]["author"] == "planner"
    outline = detail["outline"]
    assert outline["profile"]["peak_users"] == 180
    assert [level["users"] for level in outline["profile"]["levels"]] == [30, 60, 90, 120, 150, 180, 45]
    assert outline["objectives"][0] == "95 % of Departures board within 200 ms"
    assert outline["goals"][0] == {"label": "95 % of Departures board", "limit_s": 0.2, "of": "step:1"}
    assert sum(j["share"] for j in outline["journeys"]) == pytest.approx(1)


@pytest.mark.parametrize(
    ("old", "new", "path", "part"),
    [
        ("every: 12 s", "every: 12 sek", "load[0].climb.every", "'sek'"),
        ("{{goal}}", "{{gaol}}", "journeys[1].steps[1]", "{{gaol}}"),
        ("practice://gateway\n", "http://169.254.1.9\n", "system.base_url", "a link-local address"),
        ("name: Quick look", "nmae: Quick look", "name", "missing"),
    ],
)
def test_mistakes_are_problems_with_path_and_mend(client: Client, old: str, new: str, path: str, part: str) -> None:
    for address in ("/api/experiments", "/api/plans/check"):
        answer = send(client, "POST", address, source=QUICK.replace(old, new))
        assert answer.status_code == 422
        assert answer["Content-Type"] == "application/problem+json"
        found = {p["path"]: p for p in answer.json()["problems"]}
        assert part in found[path]["message"]
        assert found[path]["mend"]
    assert not Experiment.objects.exists()


def test_revisions_pile_up_and_can_be_restored(client: Client, experiment: Experiment) -> None:
    address = f"/api/experiments/{experiment.pk}"
    assert save(client, experiment, QUICK.replace("Quick look", "Second look")).json()["number"] == 2
    assert client.get(address).json()["name"] == "Second look"
    restored = send(client, "POST", f"{address}/restore", revision=1).json()
    assert (restored["number"], restored["name"]) == (3, "Quick look")
    assert Revision.objects.filter(experiment=experiment).count() == 3
    assert [line["changes"] for line in restored["revisions"]] == [
        ["name Second look → Quick look"],
        ["name Quick look → Second look"],
        [],
    ]


def test_saving_without_a_change_makes_no_revision(client: Client, experiment: Experiment) -> None:
    assert save(client, experiment, QUICK).json()["number"] == 1


def test_what_is_typed_in_one_go_is_one_revision_and_can_be_undone(client: Client, experiment: Experiment) -> None:
    for users, continues in ((7, False), (72, True), (720, True)):
        text = QUICK.replace("users: 45", f"users: {users}")
        assert save(client, experiment, text, continues=continues).json()["number"] == 2
    saved = client.get(f"/api/experiments/{experiment.pk}").json()
    assert saved["revisions"][0]["changes"] == ["peak 180 → 720 users"]
    undone = send(client, "POST", f"/api/experiments/{experiment.pk}/undo", base=saved["revision"]).json()
    assert (undone["document"]["source"], undone["can_undo"], undone["can_redo"]) == (QUICK, False, True)
    assert [(line["in_force"], line["undone"]) for line in undone["revisions"]] == [(False, True), (True, False)]
    redone = send(client, "POST", f"/api/experiments/{experiment.pk}/redo", base=undone["revision"]).json()
    assert redone["outline"]["profile"]["peak_users"] == 720


def test_a_revision_that_was_run_stays_whatever_becomes_of_the_text(client: Client, experiment: Experiment) -> None:
    """Neither typing on nor undoing and typing something else takes away what a run used."""
    used = save(client, experiment, QUICK.replace("users: 45", "users: 40")).json()
    run = runs.start(TESTS, Experiment.objects.get(pk=experiment.pk))
    typed = save(client, experiment, QUICK.replace("users: 45", "users: 41"), continues=True).json()
    assert typed["number"] == used["number"] + 1
    for _ in range(2):
        send(client, "POST", f"/api/experiments/{experiment.pk}/undo")
    other = save(client, experiment, QUICK.replace("users: 45", "users: 39")).json()
    assert Run.objects.get(pk=run.pk).revision.text == QUICK.replace("users: 45", "users: 40")
    assert [(line["number"], line["undone"]) for line in other["revisions"]] == [(3, False), (2, True), (1, False)]
    undone = send(client, "POST", f"/api/experiments/{experiment.pk}/undo").json()
    assert (undone["number"], undone["can_undo"]) == (1, False)
    assert send(client, "POST", f"/api/experiments/{experiment.pk}/redo").json()["number"] == 3


def test_a_copy_has_another_name_in_its_text_and_no_runs(client: Client, experiment: Experiment) -> None:
    made = send(client, "POST", f"/api/experiments/{experiment.pk}/duplicate").json()["id"]
    copy = client.get(f"/api/experiments/{made}").json()
    assert copy["document"]["source"] == QUICK.replace("name: Quick look", "name: Quick look copy")
    assert client.get(f"/api/experiments/{made}/experiment.yaml").content.decode() == copy["document"]["source"]


def test_an_archived_experiment_is_out_of_the_way_and_is_not_run(client: Client, experiment: Experiment) -> None:
    address = f"/api/experiments/{experiment.pk}"
    assert send(client, "POST", f"{address}/archive", archived=True).json()["archived"]
    assert client.get("/api/experiments").json() == []
    assert [line["id"] for line in client.get("/api/experiments?archived=true").json()] == [experiment.pk]
    for refused in (save(client, experiment, QUICK + "\n"), send(client, "POST", f"{address}/runs")):
        assert refused.status_code == 409
        assert "Bring it back" in refused.json()["detail"]
    assert not send(client, "POST", f"{address}/archive", archived=False).json()["archived"]


def test_a_text_that_is_none_is_refused(client: Client, experiment: Experiment) -> None:
    for document in ({}, {"source": 5}, {"source": QUICK, "plan": {}}):
        answer = send(client, "PUT", f"/api/experiments/{experiment.pk}", document=document, base=1)
        assert answer.status_code == 422
        assert answer.json()["problems"][0]["mend"]


def test_two_people_who_change_one_experiment_do_not_overwrite_each_other(
    client: Client, experiment: Experiment
) -> None:
    address = f"/api/experiments/{experiment.pk}"
    mine, theirs = (QUICK.replace("Quick look", name) for name in ("Mine", "Theirs"))
    base = client.get(address).json()["revision"]
    assert send(client, "PUT", address, document={"source": theirs}, base=base, editor="a").status_code == 200
    refused = send(client, "PUT", address, document={"source": mine}, base=base, editor="b")
    assert refused.status_code == 409
    told = refused.json()
    assert told["detail"] == "planner saved this while you changed it."
    assert (told["theirs"], told["base"]) == ({"source": theirs}, {"source": QUICK})
    assert client.get(address).json()["name"] == "Theirs"
    assert send(client, "PUT", address, document={"source": mine}, base=told["revision"]).json()["name"] == "Mine"


def test_a_refused_revision_changes_nothing(client: Client, experiment: Experiment) -> None:
    answer = save(client, experiment, "name: [")
    assert answer.status_code == 422
    assert experiment.revisions.count() == 1


def test_checking_saves_nothing(client: Client) -> None:
    assert send(client, "POST", "/api/plans/check", source=QUICK).json()["name"] == "Quick look"
    assert not Experiment.objects.exists()


def test_what_is_not_there_is_a_problem_too(client: Client) -> None:
    answer = client.get("/api/experiments/999")
    assert (answer.status_code, answer.json()["status"]) == (404, 404)


def test_the_list_takes_the_same_queries_for_any_number(
    client: Client, experiment: Experiment, django_assert_max_num_queries: DjangoAssertNumQueries
) -> None:
    for i in range(5):
        rules.create(TESTS, QUICK.replace("Quick look", f"Look {i}"))
    with django_assert_max_num_queries(3):
        assert len(client.get("/api/experiments").json()) == 6


def test_one_broken_document_does_not_take_the_list_away(client: Client, experiment: Experiment) -> None:
    whole = rules.create(TESTS, QUICK.replace("Quick look", "Whole"))
    revision = experiment.current
    revision.document = {**revision.document, "load": [{"hold": {"users": 5, "for": "9" * 400 + " h"}}]}
    revision.save()
    lines = {line["id"]: line for line in client.get("/api/experiments").json()}
    assert lines[whole.pk]["fault"] is None
    assert lines[whole.pk]["peak_users"] == 180
    assert "longer than 31 days" in lines[experiment.pk]["fault"]
    assert lines[experiment.pk]["name"] == "Quick look"
