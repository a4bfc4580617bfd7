"""Jobs in processes of their own: they end by themselves, when cancelled, and when they take too much."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Iterator
from datetime import timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection
from django.test import Client
from django.utils import timezone

from stonekettle.server.access import halting, people
from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.jobs import rules, tasks
from stonekettle.server.jobs.models import Job
from stonekettle.server.journeys import rules as journeys
from stonekettle.server.problems import Conflict
from stonekettle.server.systems import rules as systems
from tests.server.acting import TESTS


class Dripping(BaseHTTPRequestHandler):
    """Answers a byte a second, for half a minute."""

    def do_GET(self) -> None:
        self.send_response(200)
        self.send_header("Content-Length", "30")
        self.end_headers()
        for _ in range(30):
            self.wfile.write(b"x")
            self.wfile.flush()
            time.sleep(1)

    def log_message(self, *args: object) -> None:
        pass


@pytest.fixture
def dripping() -> Iterator[str]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), Dripping)
    server.daemon_threads = True
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_address[1]}"
    server.shutdown()
    server.server_close()


@pytest.fixture
def apart(transactional_db: None, settings: Any, monkeypatch: pytest.MonkeyPatch) -> User:
    """Jobs are only noted; the test has them done as a worker would. The process they are forked from
    finds the test's database and spool in the environment."""
    settings.JOBS_AT_ONCE = False
    monkeypatch.setattr("stonekettle.server.queueing.ask", lambda task, queue, job_id: None)
    monkeypatch.setitem(os.environ, "KETTLE_DB_NAME", connection.settings_dict["NAME"])
    settings.SPOOL = Path(settings.DATA) / "spool"
    return people.create("anna", None, Role.PLANNER)


def trial_of(where: str, user: User) -> Job:
    systems.create(Actor.of(user), {"name": "Slow", "base_url": where})
    steps = [{"name": "Wait", "request": "GET /"}, {"name": "Wait more", "request": "GET /more"}]
    journey = journeys.drafts.create(TESTS, {"name": "Walk", "system": "Slow", "steps": steps})
    return rules.start(Actor.of(user), "trial", {"journey": journey.pk, "user": 1})


def test_a_job_is_done_apart_and_tells_its_outcome(apart: User) -> None:
    file = SimpleUploadedFile("stops.csv", b"stop;zone\nMill;A\n")
    job = rules.start(Actor.of(apart), "look at feed file", {"reading": {}}, file)
    path = rules.path_of(job)
    assert path is not None
    assert path.read_bytes() == b"stop;zone\nMill;A\n"
    assert path.stat().st_mode & 0o077 == 0
    tasks.do(job_id=job.pk)
    job.refresh_from_db()
    assert (job.state, job.outcome["found"]["columns"]) == ("done", ["stop", "zone"])
    assert not path.exists()


@pytest.mark.parametrize("end", ["cancel", "halt"])
def test_a_job_that_is_not_wanted_any_more_ends_at_once_whatever_it_waits_for(
    apart: User, dripping: str, end: str
) -> None:
    job = trial_of(dripping, apart)

    def work() -> None:
        tasks.do(job_id=job.pk)
        connection.close()

    worker = threading.Thread(target=work)
    worker.start()
    give_up = time.monotonic() + 20
    while "Trying" not in Job.objects.get(pk=job.pk).text:
        assert time.monotonic() < give_up
        time.sleep(0.05)
    assert Job.objects.get(pk=job.pk).total == 2
    if end == "cancel":
        rules.cancel(job)
    else:
        halting.halt(Actor.of(apart), "smoke")
    worker.join(10)
    assert not worker.is_alive()
    job.refresh_from_db()
    assert job.state == ("cancelled" if end == "cancel" else "refused")
    assert end == "cancel" or job.problem["detail"] == "All load was halted by anna: smoke."


def test_a_job_that_takes_too_long_is_ended_and_says_so(
    apart: User, dripping: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(tasks, "LIMIT_S", 2.0)
    job = trial_of(dripping, apart)
    tasks.do(job_id=job.pk)
    job.refresh_from_db()
    assert (job.state, job.problem["title"]) == ("refused", "Took too long")


def test_a_job_that_unfolds_in_memory_ends_alone(apart: User, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(tasks, "MEMORY", 60_000_000)
    content = b"a,b,c\n" + b"11,22,33\n" * 900_000
    job = rules.start(Actor.of(apart), "look at feed file", {"reading": {}}, SimpleUploadedFile("many.csv", content))
    tasks.do(job_id=job.pk)
    job.refresh_from_db()
    assert (job.state, job.problem and job.problem["title"]) == ("refused", "Too large"), job.problem


@pytest.mark.django_db
def test_what_is_wrong_with_a_file_is_told_like_any_refusal(client: Client) -> None:
    answer = client.post("/api/feed-files/look", {"file": SimpleUploadedFile("a.csv", b" "), "reading": "{}"})
    assert answer.status_code == 422
    assert "the file is empty" in answer.json()["detail"]


@pytest.mark.django_db
def test_a_job_belongs_to_who_asked_and_there_are_not_too_many(client: Client, planner: User, settings: Any) -> None:
    settings.JOBS_AT_ONCE = True
    other = people.create("berta", None, Role.PLANNER)
    mine, theirs = (Job.objects.create(kind="trial", given={}, requested_by=user) for user in (planner, other))
    assert client.get(f"/api/jobs/{mine.pk}").json()["state"] == "waiting"
    assert client.get(f"/api/jobs/{theirs.pk}").status_code == 404
    assert client.delete(f"/api/jobs/{theirs.pk}").status_code == 404
    assert client.delete(f"/api/jobs/{mine.pk}").status_code == 204
    assert client.get(f"/api/jobs/{mine.pk}").json()["state"] == "cancelled"
    for _ in range(rules.MOST_WAITING):
        Job.objects.create(kind="trial", given={}, requested_by=planner)
    with pytest.raises(Conflict, match="are not finished yet"):
        rules.start(Actor.of(planner), "trial", {})


@pytest.mark.django_db
def test_a_job_whose_worker_was_lost_has_ended_and_old_ones_are_forgotten(client: Client, planner: User) -> None:
    job = Job.objects.create(kind="trial", given={}, requested_by=planner, state="working")
    Job.objects.filter(pk=job.pk).update(seen_at=timezone.now() - timedelta(minutes=1))
    found = client.get(f"/api/jobs/{job.pk}").json()
    assert (found["state"], found["problem"]["status"]) == ("refused", 503)
    Job.objects.filter(pk=job.pk).update(created_at=timezone.now() - timedelta(days=2))
    rules.forget_old()
    assert not Job.objects.exists()


@pytest.mark.parametrize(("code", "title"), [(1, "Not finished"), (-9, "Too large"), (-24, "Took too long")])
def test_a_process_that_could_not_say_why_it_ended_is_judged_by_its_end(code: int, title: str) -> None:
    assert tasks._why(code)["title"] == title
