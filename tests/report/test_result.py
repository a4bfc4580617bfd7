"""Result files: documented, open and complete."""

from __future__ import annotations

import csv
import io
import json
import math
from pathlib import Path

import jsonschema
import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from stonekettle.core import analysis
from stonekettle.core.orders import as_planned
from stonekettle.engine import records
from stonekettle.meters.samples import Readings
from stonekettle.plan import document
from stonekettle.practice.twin import simulate
from stonekettle.report import result
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
    assert len(data["levels"]) == 9
    assert data["findings"]["saturation"]["users"]["low"] > 0
    assert "window" not in data["levels"][0]


def test_plain_data_has_no_nan() -> None:
    assert result.plain({"a": math.nan, "b": (np.float64(2), math.inf)}) == {"a": None, "b": [2.0, None]}


def test_seconds_are_written_one_a_line_and_gaps_stay_empty() -> None:
    rows = list(csv.DictReader(io.StringIO(result.seconds_csv(RUN))))
    assert len(rows) == RUN.seconds
    assert sum(int(row["completed"]) for row in rows) == int(RUN.completed.sum())
    assert float(rows[100]["p95_s"]) > float(rows[100]["p50_s"])
    assert rows[0]["shop.cpu.utilisation"] != ""


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
