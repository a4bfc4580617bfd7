"""Documents are encrypted at rest, from the migration on, and keys can be changed."""

from __future__ import annotations

import gzip
import hashlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from cryptography.fernet import Fernet
from django.apps import apps
from django.core.exceptions import ImproperlyConfigured
from django.db import connection
from django.db.migrations.executor import MigrationExecutor

from stonekettle.server.experiments import rules
from stonekettle.server.experiments.models import Revision
from stonekettle.server.feeds.models import FeedFile
from stonekettle.server.sealed import SealedField, seal_anew
from tests.server.acting import TESTS
from tests.server.conftest import QUICK


def at_rest(table: str) -> bytes:
    """Everything that stands in a table, as it does."""
    with connection.cursor() as cursor:
        cursor.execute(f"SELECT * FROM {table}")
        return b"\n".join(
            bytes(cell) if isinstance(cell, memoryview) else str(cell).encode() for row in cursor for cell in row
        )


@pytest.mark.django_db
def test_what_is_kept_of_a_document_cannot_be_read_without_the_key(settings: Any, tmp_path: Path) -> None:
    experiment = rules.create(TESTS, QUICK)
    assert experiment.current.source == QUICK
    assert experiment.current.plan.name in QUICK
    assert b"departures" in QUICK.encode()
    assert b"departures" not in at_rest("experiments_revision")
    settings.KEY_FILE = tmp_path / "other"
    settings.KEY_FILE.write_text(Fernet.generate_key().decode())
    with pytest.raises(ImproperlyConfigured, match="opens with none of the keys"):
        _ = experiment.current
    settings.KEY_FILE = tmp_path / "none"
    with pytest.raises(ImproperlyConfigured, match="cannot be read"):
        _ = experiment.current


@pytest.mark.django_db
def test_everything_is_sealed_anew_with_the_newest_key(settings: Any, tmp_path: Path) -> None:
    experiment = rules.create(TESTS, QUICK)
    old, fresh = Path(settings.KEY_FILE).read_text(), Fernet.generate_key().decode()
    settings.KEY_FILE = tmp_path / "both"
    settings.KEY_FILE.write_text(f"{fresh}\n{old}")
    assert seal_anew() == 2
    settings.KEY_FILE = tmp_path / "fresh"
    settings.KEY_FILE.write_text(fresh)
    assert Revision.objects.get(experiment=experiment).source == QUICK


def test_every_column_that_may_hold_a_secret_is_sealed() -> None:
    sealed = {
        f"{model._meta.label}.{field.name}"
        for model in apps.get_models()
        for field in model._meta.local_concrete_fields
        if isinstance(field, SealedField)
    }
    assert sealed >= {
        "systems.SystemRevision.document",
        "journeys.JourneyRevision.document",
        "journeys.RecordedAnswer.body",
        "feeds.FeedRevision.document",
        "feeds.FeedFile.header",
        "feeds.FeedPiece.content",
        "jobs.Job.given",
        "jobs.Job.outcome",
        "experiments.Revision.document",
        "experiments.Revision.source",
        "runs.Run.plan_document",
    }


@pytest.fixture
def before_sealing(transactional_db: None) -> Iterator[Any]:
    """The database as it was before columns were sealed; brought up to date again afterwards."""
    executor = MigrationExecutor(connection)
    newest = executor.loader.graph.leaf_nodes()
    before = [("journeys", "0002_recordedanswer"), ("feeds", "0001_initial")]
    executor.migrate(before)
    yield executor.loader.project_state(before).apps
    MigrationExecutor(connection).migrate(newest)


def test_what_was_kept_in_the_clear_is_sealed_and_swept(before_sealing: Any) -> None:
    journey = before_sealing.get_model("journeys", "Journey").objects.create(name="Buy")
    document = {"name": "Buy", "session": {"credentials": {"bearer": "hush-hush-hush"}}}
    before_sealing.get_model("journeys", "JourneyRevision").objects.create(journey=journey, number=1, document=document)
    answers = before_sealing.get_model("journeys", "RecordedAnswer").objects
    answers.create(journey=journey, number=0, status=200, content_type="text/html", body="Grüße hush-hush-hush")
    text = "stop,zone\n" + "".join(f"hush-hush-{i},A\n" for i in range(45_000))
    digest = hashlib.sha256(text.encode()).hexdigest()
    files = before_sealing.get_model("feeds", "FeedFile").objects
    files.create(digest=digest, rows=45_000, content=gzip.compress(text.encode()))
    executor = MigrationExecutor(connection)
    after = [("journeys", "0004_swept"), ("feeds", "0003_swept")]
    executor.migrate(after)
    now = executor.loader.project_state(after).apps
    assert now.get_model("journeys", "JourneyRevision").objects.get().document == document
    assert now.get_model("journeys", "RecordedAnswer").objects.get().body == "Grüße hush-hush-hush"
    assert now.get_model("feeds", "FeedPiece").objects.filter(file_id=digest).count() == 3
    assert FeedFile.text_of(digest) == text
    tables = ("journeys_journeyrevision", "journeys_recordedanswer", "feeds_feedfile", "feeds_feedpiece")
    assert not [table for table in tables if b"hush-hush" in at_rest(table)]
