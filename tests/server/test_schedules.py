"""Experiments that run by themselves: on time, again by the clock of their place, or told why not."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from django.contrib.auth.models import User
from django.test import Client
from django.utils import timezone

from stonekettle.server.access import people
from stonekettle.server.access.models import Person
from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import rules, schedules
from stonekettle.server.runs.models import Run, Schedule
from tests.server.acting import TESTS
from tests.server.test_experiments import send

pytestmark = pytest.mark.django_db
NOON = datetime(2026, 12, 3, 12, 0, tzinfo=UTC)
"""A Thursday."""


@pytest.fixture
def now(monkeypatch: pytest.MonkeyPatch) -> list[datetime]:
    """The time, which tests turn."""
    clock = [NOON]
    monkeypatch.setattr(timezone, "now", lambda: clock[0])
    return clock


def scheduled(user: User, experiment: Experiment, at: str, zone: str = "UTC", every: schedules.Every = "") -> Schedule:
    return schedules.schedule(Actor.of(user), experiment, datetime.fromisoformat(at), zone, every)


def told(schedule: Schedule) -> list[str]:
    return [start.told or "run" for start in schedule.starts.all()]


def next_at(schedule: Schedule) -> datetime | None:
    schedule.refresh_from_db()
    return schedule.next_at


def test_a_run_gets_ready_before_its_time(planner: User, experiment: Experiment, now: list[datetime]) -> None:
    made = scheduled(planner, experiment, "2026-12-03T14:00", "Europe/Berlin")
    assert made.next_at == datetime(2026, 12, 3, 13, 0, tzinfo=UTC)
    now[0] = NOON + timedelta(minutes=58)
    schedules.keep()
    assert not Run.objects.exists()
    now[0] = NOON + timedelta(minutes=59, seconds=1)
    schedules.keep()
    schedules.keep()
    run = Run.objects.get()
    assert (run.begins_at, run.requested_by) == (made.first_at, planner)
    assert next_at(made) is None
    assert told(made) == ["run"]


@pytest.mark.parametrize(
    ("every", "expected"),
    [("day", [4, 5, 6, 7]), ("weekday", [4, 7, 8, 9]), ("week", [10, 17, 24, 31])],
)
def test_it_comes_again(
    planner: User, experiment: Experiment, now: list[datetime], every: schedules.Every, expected: list[int]
) -> None:
    made = scheduled(planner, experiment, "2026-12-03T13:00", every=every)
    days = []
    for _ in expected:
        due = next_at(made)
        assert due is not None
        now[0] = due
        schedules.keep()
        Run.objects.update(state="finished")
        following = next_at(made)
        assert following is not None
        days.append(following.day)
    assert days == expected
    assert told(made) == ["run"] * 4


def test_the_clock_of_the_place_is_put_forward_and_back(
    planner: User, experiment: Experiment, now: list[datetime]
) -> None:
    """Half past two does not exist on the last Sunday of March; on the days around it does."""
    now[0] = datetime(2027, 3, 26, 12, 0, tzinfo=UTC)
    made = scheduled(planner, experiment, "2027-03-27T02:30", "Europe/Berlin", "day")
    found = []
    for _ in range(3):
        due = next_at(made)
        assert due is not None
        found.append(due)
        now[0] = due
        schedules.keep()
        Run.objects.update(state="finished")
    assert [(at.day, at.hour, at.minute) for at in found] == [(27, 1, 30), (28, 1, 30), (29, 0, 30)]


def test_what_was_missed_is_told_and_not_made_up_for(
    planner: User, experiment: Experiment, now: list[datetime]
) -> None:
    made = scheduled(planner, experiment, "2026-12-03T13:00", every="day")
    now[0] = NOON + timedelta(days=2, hours=5)
    schedules.keep()
    assert not Run.objects.exists()
    assert told(made) == ["Missed: Stone Kettle did not run at that time."]
    assert next_at(made) == datetime(2026, 12, 6, 13, 0, tzinfo=UTC)


def test_a_start_that_is_refused_says_why_and_the_next_one_comes(
    planner: User, experiment: Experiment, now: list[datetime]
) -> None:
    made = scheduled(planner, experiment, "2026-12-03T13:00", every="day")
    busy = rules.start(TESTS, experiment)
    now[0] = NOON + timedelta(hours=1)
    schedules.keep()
    assert told(made) == [
        f"Could not start: Run {busy.pk} is still queued on Quillport Tramways. Wait for its end, or stop it first."
    ]
    assert next_at(made) == datetime(2026, 12, 4, 13, 0, tzinfo=UTC)


def test_whoever_may_no_more_has_no_runs_started(experiment: Experiment, now: list[datetime]) -> None:
    person = people.create("leaver", None, Role.PLANNER)
    made = scheduled(person, experiment, "2026-12-03T13:00")
    Person.objects.filter(user=person).update(role=Role.READER.value)
    now[0] = NOON + timedelta(hours=1)
    schedules.keep()
    assert not Run.objects.exists()
    assert "Could not start: Only planners and administrators may do this" in told(made)[0]


def test_what_was_taken_off_does_not_begin(planner: User, experiment: Experiment, now: list[datetime]) -> None:
    made = scheduled(planner, experiment, "2026-12-03T13:00")
    schedules.unschedule(Actor.of(planner), made)
    now[0] = NOON + timedelta(hours=1)
    schedules.keep()
    assert not Run.objects.exists()


@pytest.mark.parametrize(
    ("at", "zone", "part"),
    [
        ("2026-12-03T11:59", "UTC", "not within the coming year"),
        ("2026-12-03T12:30", "Europe/Berlin", "not within the coming year"),
        ("2028-01-01T00:00", "UTC", "not within the coming year"),
        ("2026-12-04T00:00", "Nowhere/Atall", "no time zone known here"),
    ],
)
def test_a_time_that_cannot_be_is_refused(
    planner: User, experiment: Experiment, now: list[datetime], at: str, zone: str, part: str
) -> None:
    with pytest.raises(Conflict, match=part):
        scheduled(planner, experiment, at, zone)


def test_no_more_than_a_few_at_once(planner: User, experiment: Experiment, now: list[datetime]) -> None:
    for hour in range(schedules.MOST_SCHEDULES):
        scheduled(planner, experiment, f"2026-12-04T{hour:02}:00")
    with pytest.raises(Conflict, match="as many as may be"):
        scheduled(planner, experiment, "2026-12-05T00:00")


def test_over_http(client: Client, experiment: Experiment) -> None:
    there = f"/api/experiments/{experiment.pk}/schedules"
    at = (timezone.now() + timedelta(days=1)).strftime("%Y-%m-%dT06:30")
    made = send(client, "POST", there, at=at, zone="UTC", every="weekday")
    assert made.status_code == 201, made.json()
    (line,) = client.get(there).json()
    assert (line["every"], line["zone"], line["by"], line["starts"]) == ("weekday", "UTC", "planner", [])
    assert line["next_at"].startswith(at)
    assert client.delete(f"/api/schedules/{line['id']}").json()["next_at"] is None
    assert send(client, "POST", there, at=at, zone="UTC", every="often").status_code == 422
    assert send(client, "POST", there, at=f"{at}+02:00", zone="UTC").status_code == 422


def test_what_is_to_come_of_all_experiments_stands_in_one_list(
    client: Client, planner: User, experiment: Experiment
) -> None:
    days = [(timezone.now() + timedelta(days=n)).strftime("%Y-%m-%dT06:30") for n in (3, 2)]
    later, sooner = (scheduled(planner, experiment, day) for day in days)

    def coming() -> list[tuple[int, str]]:
        return [(one["id"], one["experiment"]) for one in client.get("/api/schedules").json()]

    assert coming() == [(sooner.pk, experiment.name), (later.pk, experiment.name)]
    schedules.unschedule(Actor.of(planner), sooner)
    assert coming() == [(later.pk, experiment.name)]
    Experiment.objects.update(archived_at=timezone.now())
    assert coming() == []
