"""A run asked in SQL over the API: the tables that are written for it, files, and what is refused."""

from __future__ import annotations

import io
import json
import time
from collections.abc import Callable
from typing import Any

import pyarrow.parquet as pq
import pytest
from django.test import Client

from stonekettle.report.sql import attempts
from stonekettle.report.sql.tables import EXAMPLES, TABLES
from stonekettle.server.runs import analysing, asking, bundling
from stonekettle.server.runs.models import Run

pytestmark = pytest.mark.django_db
MakeRun = Callable[..., Run]
SECONDS = 40


def told(client: Client, run: Run, statement: str) -> dict[str, Any]:
    answer = client.post(f"/api/runs/{run.pk}/sql", {"statement": statement}, content_type="application/json")
    assert answer.status_code == 200, answer.content
    found: dict[str, Any] = json.loads(answer.content)
    return found


def refused(client: Client, run: Run, statement: str) -> str:
    answer = client.post(f"/api/runs/{run.pk}/sql", {"statement": statement}, content_type="application/json")
    assert answer.status_code in (409, 422), answer.content
    return str(answer.json()["detail"])


@pytest.fixture
def recorded(make_run: MakeRun) -> Run:
    return make_run(SECONDS, state="finished", begun_at=7.0)


@pytest.mark.parametrize("bundled", [False, True])
def test_every_table_has_what_the_run_measured(client: Client, recorded: Run, bundled: bool) -> None:
    """Bundled or not yet, as it is while a run is under way."""
    if bundled:
        bundling.compact(recorded.pk)
        analysing.analyse(recorded, state="finished", cause="done")
    found = {table: told(client, recorded, f"SELECT count(*) FROM {table}")["rows"][0][0] for table in tables()}
    readings = 3 * (SECONDS + 1)
    expected = {"steps": 5 * SECONDS, "requests": 5 * SECONDS, "seconds": SECONDS, "moments": SECONDS}
    assert {name: found[name] for name in expected} == expected
    assert found["metrics"] == readings
    assert found["levels"] > 0
    cpu = told(client, recorded, "SELECT avg(per_s) FROM metrics WHERE metric = 'quillport_cpu_seconds'")
    assert cpu["rows"] == [[2.0]]
    level = told(client, recorded, "SELECT DISTINCT level FROM steps JOIN levels USING (level)")
    assert level["rows"]


def tables() -> list[str]:
    return [table.name for table in TABLES]


def test_the_schema_and_the_questions_beside_it_are_true(client: Client, recorded: Run) -> None:
    bundling.compact(recorded.pk)
    page = client.get(f"/api/runs/{recorded.pk}/sql").json()
    assert [table["name"] for table in page["tables"]] == tables()
    for table in page["tables"][2:]:  # of the others the process tells itself
        there = {row[0]: row[1] for row in told(client, recorded, f"DESCRIBE {table['name']}")["rows"]}
        for column in table["columns"]:
            if '"' not in column["name"]:  # a name that stands for many
                assert there[column["name"]] == column["kind"], (table["name"], column)
    for says, statement in EXAMPLES:
        assert told(client, recorded, statement)["columns"], says


def test_the_whole_answer_is_a_file(client: Client, recorded: Run) -> None:
    body = {"statement": "SELECT step, count(*) AS n FROM steps GROUP BY step ORDER BY step"}
    answer = client.post(f"/api/runs/{recorded.pk}/sql.csv", body, content_type="application/json")
    assert answer["Content-Type"] == "text/csv"
    head, *rows = answer.content.decode().splitlines()
    assert head == "step,n"
    assert len(rows) == 5
    assert all(row.endswith(f",{SECONDS}") for row in rows)


@pytest.mark.parametrize("what", ["levels.parquet", "metrics.parquet"])
def test_tables_are_files_for_use_elsewhere(client: Client, recorded: Run, what: str) -> None:
    bundling.compact(recorded.pk)
    client.post(f"/api/runs/{recorded.pk}/exports", {"what": what}, content_type="application/json")
    answer = client.get(f"/api/runs/{recorded.pk}/{what}")
    table = pq.read_table(io.BytesIO(b"".join(answer.streaming_content)))  # type: ignore[attr-defined]
    wanted = next(one for one in TABLES if one.name == what.partition(".")[0])
    assert table.column_names == [column.name for column in wanted.columns]


@pytest.mark.parametrize(
    "statement", [attempts.FILES[0], attempts.WRITES[0], attempts.ENDLESS[0], *attempts.UNBOUNDED, "SELEC"]
)
def test_what_must_not_be_is_refused_within_five_seconds(
    client: Client, recorded: Run, statement: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(asking, "SECONDS", 1.0)
    said = refused(client, recorded, statement)
    assert "statement" in said
    assert told(client, recorded, "SELECT 1")["rows"] == [[1]]


def test_a_process_that_does_not_end_is_ended(client: Client, recorded: Run, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(asking, "SECONDS", 60.0)
    monkeypatch.setattr(asking, "KILLED_AFTER_S", 1.5)
    began = time.monotonic()
    assert "did not end within" in refused(client, recorded, attempts.ENDLESS[0])
    assert time.monotonic() - began < 30


def test_a_process_that_does_not_begin_is_no_fault_of_the_statement(
    client: Client, recorded: Run, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(asking, "BEGUN_WITHIN_S", 0.0)
    answer = client.post(f"/api/runs/{recorded.pk}/sql", {"statement": "SELECT 1"}, content_type="application/json")
    assert answer.status_code == 409
    assert "did not begin within 0 s. Ask again." in answer.json()["detail"]


def test_no_more_than_two_are_answered_at_a_time(
    client: Client, recorded: Run, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(asking, "PATIENCE_S", 0.01)
    with asking._place(), asking._place():
        assert "2 statements are being answered" in refused(client, recorded, "SELECT 1")
    assert told(client, recorded, "SELECT 1")["rows"] == [[1]]


def test_what_a_run_has_no_more_is_said(client: Client, recorded: Run) -> None:
    bundling.compact(recorded.pk)
    recorded.bundles.all().delete()  # type: ignore[attr-defined]
    Run.objects.filter(pk=recorded.pk).update(requests_gone_at="2026-03-14T00:00Z")
    assert "gone since 14 March 2026" in refused(client, recorded, "SELECT count(*) FROM steps")
    assert told(client, recorded, "SELECT count(*) FROM seconds")["rows"] == [[SECONDS]]
    Run.objects.filter(pk=recorded.pk).update(seeded=True)
    assert "made by the practice twin" in refused(client, recorded, "SELECT * FROM metrics")
