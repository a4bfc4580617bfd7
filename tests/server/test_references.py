"""Documents know what they name, whatever it is called."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.test import Client

from stonekettle.plan.problems import PlanError
from stonekettle.server.drafts import DraftBody
from stonekettle.server.experiments import rules as experiments
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.feeds import rules as feeds
from stonekettle.server.journeys import rules as journeys
from stonekettle.server.journeys.models import Journey
from stonekettle.server.systems import rules as systems
from tests.server.acting import TESTS

pytestmark = pytest.mark.django_db
TEXT = """name: Market day   # as in Mill Lane
system: Mill   # the one at the weir
feeds: [{feed: Sacks}]
journeys:
  - {journey: Buy flour, weight: 3}
  - name: Look
    steps: [{name: Look, request: GET /}]
groups:
  - name: all
    mix: {Buy flour: 3, Look: 1}
    users: [{hold: {users: 5, for: 10 s}}]
"""


@pytest.fixture
def market(planner: User) -> Experiment:
    """An experiment that names a system, a journey and a feed; the journey names both others."""
    systems.create(TESTS, {"name": "Mill", "base_url": "http://127.0.0.1:8080"})
    feeds.drafts.create(TESTS, {"name": "Sacks", "csv": "sack\nA\nB\n"})
    step = {"name": "Buy", "request": "GET /buy?sack={{sack}}"}
    journeys.drafts.create(TESTS, {"name": "Buy flour", "system": "Mill", "feeds": ["Sacks"], "steps": [step]})
    return experiments.create(TESTS, TEXT)


def rename(kind: Any, old: str, new: str) -> None:
    draft = kind.drafts._all.get(name=old)
    kind.drafts.save(TESTS, draft, {**draft.document, "name": new})


def test_every_place_shows_the_name_of_today_and_nothing_else_changes(market: Experiment) -> None:
    for kind, old, new in (
        (systems, "Mill", "Old mill"),
        (feeds, "Sacks", "Sacks, large"),
        (journeys, "Buy flour", "Buy: flour"),
    ):
        rename(kind, old, new)
    told = TEXT.replace("system: Mill ", "system: Old mill ").replace("feed: Sacks", 'feed: "Sacks, large"')
    assert market.current.text == told.replace("Buy flour", '"Buy: flour"')
    assert market.revisions.count() == 1
    plan = market.current.plan
    assert plan == experiments.current_plan(market)
    assert (plan.system.name, plan.feeds[0].name, plan.journeys[0].name) == ("Old mill", "Sacks, large", "Buy: flour")
    assert list(plan.groups[0].mix) == ["Buy: flour", "Look"]
    assert Journey.objects.get().document["system"] == "Old mill"
    assert Journey.objects.get().draft.feeds == ("Sacks, large",)


def test_a_name_that_now_belongs_to_another_does_not_mislead(market: Experiment, planner: User) -> None:
    rename(systems, "Mill", "Old mill")
    other = systems.create(TESTS, {"name": "Mill", "base_url": "http://127.0.0.1:9090"})
    assert experiments.current_plan(market).system.base_url.endswith("8080")
    assert "system: Old mill " in market.current.text
    # Whoever writes the name now means who bears it now.
    experiments.revise(TESTS, market, market.current.text.replace("Old mill", "Mill"))
    market.refresh_from_db()
    assert market.system == other
    assert experiments.current_plan(market).system.base_url.endswith("9090")
    # And what was meant before is what undoing brings back.
    experiments.restore(TESTS, market, 1)
    market.refresh_from_db()
    assert "system: Old mill " in market.current.text
    assert experiments.current_plan(market).system.base_url.endswith("8080")


def test_who_writes_while_another_renames_loses_nothing(market: Experiment, planner: User) -> None:
    opened = market.current
    text, edit = opened.text, DraftBody(document={}, base=opened.pk)
    rename(systems, "Mill", "Old mill")
    rename(journeys, "Buy flour", "Buy")
    saved = experiments.revise(TESTS, market, text.replace("users: 5", "users: 7"), edit)
    assert "system: Old mill " in saved.text
    assert "mix: {Buy: 3, Look: 1}" in saved.text
    assert "users: 7" in saved.text
    assert saved.plan.groups[0].profile.peak == 7


def test_undoing_a_renaming_is_followed_too(market: Experiment) -> None:
    rename(feeds, "Sacks", "Bags")
    assert "feed: Bags" in market.current.text
    feeds.drafts.undo(TESTS, feeds.drafts._all.get())
    assert market.current.text == TEXT


def test_a_journey_undone_past_a_renaming_finds_its_feed(market: Experiment) -> None:
    journey = Journey.objects.get()
    journeys.drafts.save(TESTS, journey, {**journey.document, "notes": "fine"})
    rename(feeds, "Sacks", "Bags")
    journeys.drafts.undo(TESTS, Journey.objects.get())
    assert Journey.objects.get().draft.feeds == ("Bags",)
    assert journeys.fed(Journey.objects.get().draft) == {"sack"}


def test_uses_are_told_by_what_is_meant(market: Experiment, client: Client) -> None:
    rename(feeds, "Sacks", "Bags")
    feed = feeds.drafts._all.get()
    uses = client.get(f"/api/feeds/{feed.pk}").json()["uses"]
    assert [(use["kind"], use["name"]) for use in uses] == [("journey", "Buy flour"), ("experiment", "Market day")]
    (line,) = client.get("/api/journeys").json()
    assert [use["name"] for use in line["experiments"]] == ["Market day"]


def test_a_name_that_nothing_bears_is_refused(market: Experiment, planner: User) -> None:
    with pytest.raises(PlanError, match="no system named 'Windmill'"):
        experiments.revise(TESTS, market, TEXT.replace("system: Mill", "system: Windmill"))


@pytest.fixture
def before_references(transactional_db: None) -> Iterator[Any]:
    executor = MigrationExecutor(connection)
    newest = executor.loader.graph.leaf_nodes()
    before = [
        ("journeys", "0005_editor"),
        ("experiments", "0004_swept"),
        ("systems", "0006_keeping"),
        ("feeds", "0004_editor"),
    ]
    executor.migrate(before)
    yield executor.loader.project_state(before).apps
    MigrationExecutor(connection).migrate(newest)


def test_documents_of_the_version_before_are_told_what_they_name(before_references: Any) -> None:
    get = before_references.get_model
    mill = get("systems", "System").objects.create(name="Mill")
    sacks = get("feeds", "Feed").objects.create(name="Sacks")
    journey = get("journeys", "Journey").objects.create(name="Buy flour")
    named = {"name": "Buy flour", "system": "Mill", "feeds": ["Sacks", "Gone"]}
    get("journeys", "JourneyRevision").objects.create(journey=journey, number=1, document=named)
    experiment = get("experiments", "Experiment").objects.create(name="Market day", system=mill)
    for number, text in ((1, TEXT), (2, "not: [a plan")):
        get("experiments", "Revision").objects.create(experiment=experiment, number=number, source=text, document={})
    MigrationExecutor(connection).migrate(MigrationExecutor(connection).loader.graph.leaf_nodes())
    assert Journey.objects.get().named == {"system": {"Mill": mill.pk}, "feed": {"Sacks": sacks.pk}}
    told = {r.number: r.references for r in Experiment.objects.get().revisions.all()}
    assert told == {
        1: {"system": {"Mill": mill.pk}, "feed": {"Sacks": sacks.pk}, "journey": {"Buy flour": journey.pk}},
        2: {},
    }
