"""Feeds over HTTP: uploaded, made, written, named by journeys and experiments."""

from __future__ import annotations

import json
from typing import Any

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection
from django.test import Client
from django.test.utils import CaptureQueriesContext

from stonekettle.plan import advice, document
from stonekettle.server.experiments import rules as experiments
from stonekettle.server.feeds.models import FeedFile
from tests.server.acting import TESTS
from tests.server.conftest import QUICK

pytestmark = pytest.mark.django_db
STOPS = "Stop;Zone\nMühlentor;A\nHafen;B\n"
MADE = {"rows": 5, "columns": [{"name": "account", "sequence": {"from": 7}}]}


class Feeds:
    """The feeds' addresses through a signed-in client."""

    def __init__(self, client: Client) -> None:
        self.client = client

    def get(self, path: str, status: int = 200) -> Any:
        answer = self.client.get(f"/api/feeds{path}")
        assert answer.status_code == status, answer.content
        return answer.json()

    def make(self, name: str = "Riders") -> int:
        made = int(self.post("/api/feeds", 201, make=True)["id"])
        self.save(made, name=name, make=MADE)
        return made

    def save(self, feed: int, status: int = 200, **changes: Any) -> Any:
        held = self.get(f"/{feed}")
        body = {"document": {**held["document"], **changes}, "base": held["revision"]}
        answer = self.client.put(f"/api/feeds/{feed}", body, content_type="application/json")
        assert answer.status_code == status, answer.content
        return answer.json()

    def post(self, path: str, status: int = 200, **body: Any) -> Any:
        answer = self.client.post(path, body, content_type="application/json")
        assert answer.status_code == status, answer.content
        return answer.json()

    def send(self, path: str, content: bytes, status: int, **form: Any) -> Any:
        file = SimpleUploadedFile("stops.csv", content)
        told = {key: json.dumps(value) for key, value in form.items()}
        answer = self.client.post(f"/api/{path}", {"file": file, **told})
        assert answer.status_code == status, answer.content
        return answer.json()

    def csv(self, feed: int) -> str:
        return b"".join(self.client.get(f"/api/feeds/{feed}/rows.csv").streaming_content).decode()

    def upload(self, content: str = STOPS, status: int = 201, **use: Any) -> Any:
        wanted = {"name": "Stops", "columns": ["stop", "zone"], **use}
        return self.send("feed-files", content.encode(), status, use=wanted)


@pytest.fixture
def feeds(client: Client) -> Feeds:
    return Feeds(client)


def test_a_file_is_looked_at_and_then_kept(feeds: Feeds) -> None:
    found = feeds.send("feed-files/look", STOPS.encode("windows-1252"), 200, reading={})
    assert (found["encoding"], found["delimiter"], found["header"]) == ("windows-1252", ";", True)
    assert (found["titles"], found["columns"], found["total"]) == (["Stop", "Zone"], ["stop", "zone"], 2)
    assert found["rows"][0] == ["Mühlentor", "A"]
    assert not FeedFile.objects.exists()
    made = feeds.upload()["id"]
    line = feeds.get("")[0]
    assert {key: line[key] for key in ("source", "rows", "columns")} == {
        "source": "file",
        "rows": 2,
        "columns": ["stop", "zone"],
    }
    assert feeds.get(f"/{made}/rows")["rows"] == [["Mühlentor", "A"], ["Hafen", "B"]]
    assert feeds.csv(made) == "stop,zone\nMühlentor,A\nHafen,B\n"


def test_a_reading_that_is_told_is_followed(feeds: Feeds) -> None:
    found = feeds.send("feed-files/look", STOPS.encode(), 200, reading={"delimiter": ",", "header": False})
    assert (found["titles"], found["total"]) == (["column 1"], 3)
    answer = feeds.send("feed-files/look", "Größe\n1\n".encode("windows-1252"), 422, reading={"encoding": "utf-8"})
    assert answer["problems"][0]["mend"] == "Choose another encoding."


def test_ragged_rows_and_names_that_cannot_be_are_told_and_nothing_is_kept(feeds: Feeds) -> None:
    ragged = STOPS + "Mill\n"
    found = feeds.send("feed-files/look", ragged.encode(), 200, reading={})
    assert (found["ragged"], found["ragged_total"]) == ([4], 1)
    assert "1 rows have more or fewer" in feeds.upload(ragged, 422)["problems"][0]["message"]
    assert "stop names" in feeds.upload(columns=["stop", "stop names"], status=422)["problems"][0]["message"]
    assert (
        "two columns are named 'stop'" in feeds.upload(columns=["stop", "stop"], status=422)["problems"][0]["message"]
    )
    assert not FeedFile.objects.exists()
    assert feeds.get(f"/{feeds.upload(ragged, ragged='fill up')['id']}/rows")["rows"][-1] == ["Mill", ""]


def test_other_rows_replace_those_of_a_feed_and_undo_brings_them_back(feeds: Feeds) -> None:
    made = feeds.upload()["id"]
    feeds.save(made, take="one per user")
    use = {"name": "ignored", "columns": ["gate"]}
    feeds.send(f"feeds/{made}/file", b"gate\nNorth\n", 201, use=use)
    detail = feeds.get(f"/{made}")
    assert (detail["name"], detail["rows"], detail["document"]["take"]) == ("Stops", 1, "one per user")
    assert feeds.post(f"/api/feeds/{made}/undo")["columns"] == ["stop", "zone"]
    assert feeds.get(f"/{made}/rows")["total"] == 2


def test_the_same_rows_are_kept_once(feeds: Feeds) -> None:
    feeds.upload()
    feeds.upload(STOPS.replace(";", ","), name="Again")
    assert FeedFile.objects.count() == 1


def test_rows_are_made_page_by_page(feeds: Feeds) -> None:
    made = feeds.make()
    page = feeds.get(f"/{made}/rows?start=3&count=10")
    assert (page["rows"], page["start"], page["total"]) == ([["10"], ["11"]], 3, 5)
    answer = feeds.save(made, 422, make={**MADE, "rows": 0})
    assert answer["problems"][0]["path"] == "make.rows"
    assert feeds.get(f"/{made}/rows")["total"] == 5


def test_a_file_that_is_not_kept_here_is_refused(feeds: Feeds) -> None:
    made = feeds.make()
    unknown = {"digest": "0" * 64, "columns": ["stop"], "rows": 1}
    body = {"document": {"name": "Riders", "file": unknown}, "base": feeds.get(f"/{made}")["revision"]}
    answer = feeds.client.put(f"/api/feeds/{made}", body, content_type="application/json")
    assert "not kept here" in answer.json()["problems"][0]["message"]


def journey_with(feeds: Feeds, name: str) -> int:
    made = int(feeds.post("/api/journeys", 201)["id"])
    base = feeds.client.get(f"/api/journeys/{made}").json()["revision"]
    step = {"name": "Look", "request": "GET /departures?stop={{stop}}", "think": "1 s"}
    body = {"document": {"name": "Look up", "feeds": [name], "steps": [step]}, "base": base}
    assert feeds.client.put(f"/api/journeys/{made}", body, content_type="application/json").status_code == 200
    return made


def experiment_with(name: str) -> experiments.Experiment:
    head, rest = QUICK.split("journeys:")
    tail = rest[rest.index("load:") :]
    objectives = tail.index("objectives:")
    named = f"feeds:\n  - {{feed: {name}, take: one per user}}\n"
    whole = f"{head.split('feeds:')[0]}{named}journeys:\n  - {{journey: Look up}}\n\n{tail[:objectives]}"
    return experiments.create(TESTS, whole)


def test_a_journey_and_an_experiment_use_a_feed_and_follow_its_name(feeds: Feeds) -> None:
    made = feeds.upload()["id"]
    journey = journey_with(feeds, "Stops")
    assert feeds.client.get(f"/api/journeys/{journey}").json()["missing"] == []
    experiment = experiment_with("Stops")
    plan = experiment.current.plan
    assert [(feed.name, feed.take, len(feed)) for feed in plan.feeds] == [("Stops", "one per user", 2)]
    assert any("2 rows for" in line and "share a row" in line for line in advice.of(plan))
    uses = feeds.get(f"/{made}")["uses"]
    assert [(use["kind"], use["name"]) for use in uses] == [("journey", "Look up"), ("experiment", plan.name)]
    assert uses[1]["peak_users"] == plan.planned.peak_users
    feeds.save(made, name="Tram stops")
    assert feeds.client.get(f"/api/journeys/{journey}").json()["document"]["feeds"] == ["Tram stops"]
    assert "{feed: Tram stops, take: one per user}" in experiment.current.text
    assert [feed.name for feed in experiment.current.plan.feeds] == ["Tram stops"]
    assert experiments.current_plan(experiment).feeds[0].name == "Tram stops"


def test_a_run_keeps_the_rows_it_was_begun_with(feeds: Feeds) -> None:
    made = feeds.upload()["id"]
    journey_with(feeds, "Stops")
    plan = experiments.current_plan(experiment_with("Stops"))
    feeds.send(f"feeds/{made}/file", b"stop\nElsewhere\n", 201, use={"name": "x", "columns": ["stop"]})
    assert document.with_files(plan, FeedFile.text_of).feeds[0].rows.row(0) == {"stop": "Mühlentor", "zone": "A"}


def test_archiving_and_copying(feeds: Feeds) -> None:
    made = feeds.make()
    copy = feeds.post(f"/api/feeds/{made}/duplicate", 201)["id"]
    assert feeds.get(f"/{copy}")["name"] == "Riders copy"
    feeds.post(f"/api/feeds/{made}/archive", archived=True)
    assert [feed["name"] for feed in feeds.get("")] == ["Riders copy"]
    assert [feed["name"] for feed in feeds.get("?archived=true")] == ["Riders"]
    assert "archived" in feeds.save(made, 409, notes="x")["title"].lower() + feeds.save(made, 409, notes="x")["detail"]


def test_pages_of_a_large_feed_are_read_from_their_pieces_and_the_whole_is_streamed(
    feeds: Feeds, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("stonekettle.server.feeds.models.PIECE_ROWS", 7)
    text = "stop,zone\n" + "".join(f'"Mühlentor\n{i}",{i % 3}\n' for i in range(50))
    made = feeds.upload(text)["id"]
    for start in (0, 5, 6, 7, 40, 48):
        page = feeds.get(f"/{made}/rows?start={start}&count=5")
        assert page["total"] == 50
        assert [row[0].split("\n")[1] for row in page["rows"]] == [str(i) for i in range(start, min(50, start + 5))]
    assert feeds.csv(made) == text
    with CaptureQueriesContext(connection) as asked:
        feeds.get(f"/{made}/rows?start=30&count=5")
    assert not any("feedpiece" in query["sql"] and "number" not in query["sql"] for query in asked.captured_queries)
