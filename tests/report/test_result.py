"""Result files: documented, open and complete."""

from __future__ import annotations

import csv
import io
import json
from dataclasses import replace
from pathlib import Path
from typing import Any

import jsonschema
import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from stonekettle.core import analysis
from stonekettle.core.orders import as_planned
from stonekettle.engine import records
from stonekettle.meters.samples import Readings
from stonekettle.plan import document
from stonekettle.practice.twin import simulate
from stonekettle.report import findings, older, result
from tests.conftest import climb, one_server_system, visits
from tests.report.test_sentences import PLAN

PROFILE = climb(20, 180, 20)
RUN = simulate(one_server_system(20, servers=2), visits(1.0), PROFILE)
ANALYSIS = analysis.analyse(RUN, as_planned(PROFILE), document.core_objectives(PLAN), 0.05)


def test_the_result_fits_its_published_schema() -> None:
    built = result.build(PLAN, RUN, ANALYSIS, Readings(), state="finished", cause="done", trial_requests=1)
    data = json.loads(built.model_dump_json())
    jsonschema.validate(data, result.json_schema(), cls=jsonschema.Draft202012Validator)
    assert data["outcome"] == "objectives broken"
    assert data["totals"]["requests"] == int(RUN.completed.sum())
    assert len(data["findings"]["levels"]) == 9
    assert data["findings"]["saturation"]["load"]["low"] > 0
    assert result.Result.model_validate(data).findings == ANALYSIS


def test_how_far_load_was_off_its_order_is_told() -> None:
    users = RUN.planned_users.copy()
    users[50:53] += 3.0
    users[60] = np.nan  # nobody knows
    run = replace(RUN, users=users)
    totals = result.build(PLAN, run, ANALYSIS, Readings(), state="finished", cause="", trial_requests=0).totals
    assert (totals.seconds_off_order, totals.most_users_off) == (3, 3.0)


def test_seconds_are_written_one_a_line_and_gaps_stay_empty() -> None:
    rows = list(csv.DictReader(io.StringIO(result.seconds_csv(RUN))))
    assert len(rows) == RUN.seconds
    assert sum(int(row["completed"]) for row in rows) == int(RUN.completed.sum())
    assert float(rows[100]["p95_s"]) > float(rows[100]["p50_s"])
    assert rows[0]["shop.cpu.utilisation"] != ""
    assert not {"markers", "journeys"} & rows[0].keys()
    done = np.where(np.arange(RUN.seconds) < 5, np.nan, 3.0)
    rows = list(csv.DictReader(io.StringIO(result.seconds_csv(replace(RUN, journeys=done)))))
    assert [row["journeys"] for row in rows[4:6]] == ["", "3"]


def test_what_was_marked_stands_in_its_second() -> None:
    marked = [(12.7, "planner 3.4 is up"), (12.1, "=SUM(A1)"), (9_999.0, "late")]
    rows = list(csv.DictReader(io.StringIO(result.seconds_csv(RUN, marked))))
    assert [row["markers"] for row in rows if row["markers"]] == ["planner 3.4 is up; =SUM(A1)", "late"]
    assert [bool(rows[at]["markers"]) for at in (12, -1)] == [True, True]
    alone = list(csv.DictReader(io.StringIO(result.seconds_csv(RUN, marked[1:2]))))
    assert alone[12]["markers"] == "'=SUM(A1)"


def test_requests_are_written_with_names(tmp_path: Path) -> None:
    made = np.zeros(3, dtype=records.RECORD)
    made["total_us"], made["status"] = [1000, 2000, 3000], [200, 200, 503]
    made["error"][2] = 1
    made["user"], made["visit"], made["flags"] = 5, [1, 2, 0], [0, records.PART, 0]
    whole = made[:1].copy()
    whole["flags"] = records.WHOLE
    writer = result.RequestsFile(tmp_path / "r.parquet", PLAN, seed=3)
    for part in (made, whole, made[:1]):
        writer.write(pa.Table.from_batches([records.to_batch(part)]))
    writer.close()
    table = pq.read_table(tmp_path / "r.parquet").to_pydict()
    assert writer.rows == 4
    assert table["step"] == ["page"] * 4
    assert table["journey"] == [PLAN.journeys[0].name] * 4
    assert table["error"] == ["none", "none", "status", "none"]
    assert table["total_us"] == [1000, 2000, 3000, 1000]
    # A run of before named no traces.
    one, two = (records.trace_id(3, 5, visit, 0) for visit in (1, 2))
    assert table["trace_id"] == [one, two, None, one]


def test_a_result_tells_no_secret() -> None:
    data = document.to_document(PLAN)
    data["journeys"][0]["session"] = {"credentials": {"bearer": "hush"}}
    plan = document.from_document(data)
    built = result.build(plan, RUN, ANALYSIS, Readings(), state="finished", cause="done", trial_requests=1)
    assert "hush" not in built.model_dump_json()
    assert built.plan["journeys"][0]["session"]["credentials"]["bearer"] == "(kept)"


def before(document: dict[str, Any]) -> dict[str, Any]:
    """The result as format 2 had it."""
    names = {"load": "users", "load_95": "users_95", "at_least": "at_least_users", "tested": "tested_users",
             "level_loads": "level_users", "break_load": "break_users", "peak_load": "peak_users",
             "full_from": "saturated_at_users"}  # fmt: skip

    def renamed(value: Any) -> Any:
        if isinstance(value, dict):
            return {names.get(name, name): renamed(item) for name, item in value.items()}
        return [renamed(item) for item in value] if isinstance(value, list) else value

    found = {k: renamed(v) for k, v in document["findings"].items() if k not in ("levels", "load_kind")}
    levels = [
        {**{k: v for k, v in level.items() if k not in ("load", "spans")}, "planned_users": level["load"]["ordered"]}
        for level in document["findings"]["levels"]
    ]
    return {**document, "format": 2, "findings": found, "levels": levels}


def test_a_result_of_the_version_before_is_read_as_it_was() -> None:
    built = result.build(PLAN, RUN, ANALYSIS, Readings(), state="finished", cause="done", trial_requests=1)
    document = built.model_dump(mode="json")
    again = result.Result.model_validate(older.brought_up(before(document)))
    assert again.findings is not None
    bare = tuple(replace(level, spans=()) for level in ANALYSIS.levels)
    assert again.findings == replace(ANALYSIS, levels=bare)
    assert again.notes == built.notes
    assert older.brought_up(document) == document


def test_findings_of_long_ago_are_left_out_and_their_notes_stand() -> None:
    built = result.build(PLAN, RUN, ANALYSIS, Readings(), state="finished", cause="done", trial_requests=1)
    document = before(built.model_dump(mode="json"))
    del document["findings"]["measuring"]
    again = result.Result.model_validate(older.brought_up(document))
    assert again.findings is None
    assert (again.verdict, again.notes) == (built.verdict, built.notes)
    assert result.stored({**built.model_dump(mode="json"), "findings": {"version": 9}}).findings is None


def test_data_that_are_no_findings_are_refused() -> None:
    for data in ({}, [], None, {"version": 4}, {**findings.write(ANALYSIS), "saturation": {"status": "reached"}}):
        with pytest.raises(ValueError, match="not findings of this version"):
            findings.read(data)
