"""SQL over a run: tables hold what was recorded, and nothing else can be reached or done."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from stonekettle.engine import bundles, records
from stonekettle.engine.records import ERRORS, LED_ON, NEW_CONNECTION, PART, WHOLE
from stonekettle.report.sql import attempts, process
from stonekettle.report.sql.process import Ask, Refused
from stonekettle.report.sql.tables import EXAMPLES, TABLES

MADE = {"seconds", "levels", "metrics"}
"""Tables that the server writes; :mod:`tests.server.test_asking` asks them."""


@pytest.fixture(scope="module")
def bundle(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Two steps, the second of two requests, of which some fail."""
    made = np.zeros(40, dtype=records.RECORD)
    made["start_us"] = np.arange(40) * 100_000
    made["scheduled_us"] = made["start_us"] - 500
    made["user"], made["visit"] = np.arange(40) % 4, 1
    made["step"] = [0, 1, 1, 1] * 10
    made["flags"] = [NEW_CONNECTION, WHOLE, PART | LED_ON, PART] * 10
    made["part"] = [0, 0, 0, 1] * 10
    made["status"], made["error"] = 200, 0
    made["status"][0], made["error"][0] = 503, ERRORS.index("status")
    made["status"][5], made["error"][5] = 0, ERRORS.index("time limit")
    made["first_byte_us"] = 1_000 * (1 + np.arange(40))
    made["total_us"] = made["first_byte_us"] + 500
    path = tmp_path_factory.mktemp("sql") / "1.parquet"
    path.write_bytes(bundles.pack([made[:20], made[20:]], [2, 3]).data)
    return path


@pytest.fixture
def moments(tmp_path: Path) -> Path:
    path = tmp_path / "moments.parquet"
    table = {"second": [0, 1, 2, 3], "level": pa.array([1, 1, 1, None], pa.int32()), "users": [5.0, 5.0, 6.0, 7.0]}
    pq.write_table(pa.table(table), path)
    return path


def ask_of(bundle: Path, statement: str, **other: Any) -> Ask:
    names: dict[str, Any] = {"journeys": ["it's one", "it's one"], "steps": ["Look", "Buy"], "groups": ["all"]}
    bounds: dict[str, Any] = {"rows": 1_000, "seconds": 3.0, "memory_mb": 500}
    return Ask(statement, [str(bundle)], **{"tables": {}, **names, "seed": 9, **bounds, **other})


def answered(ask: Ask) -> dict[str, Any]:
    out = io.StringIO()
    process._answer(ask, out)
    found: dict[str, Any] = json.loads(out.getvalue())
    return found


def test_steps_are_what_people_waited_for_and_requests_what_went_over_the_wire(bundle: Path, moments: Path) -> None:
    tables = {"moments": str(moments)}
    counts = "SELECT step, count(*), count(error) FROM {} GROUP BY step ORDER BY step DESC"
    assert answered(ask_of(bundle, counts.format("steps"), tables=tables))["rows"] == [["Look", 10, 1], ["Buy", 10, 1]]
    assert answered(ask_of(bundle, counts.format("requests")))["rows"] == [["Look", 10, 1], ["Buy", 20, 0]]
    first = answered(ask_of(bundle, "SELECT * FROM requests ORDER BY at_s LIMIT 2", tables=tables))
    told = [dict(zip([c["name"] for c in first["columns"]], row, strict=True)) for row in first["rows"]]
    assert told[0] == {
        "at_s": 0.0,
        "second": 2,
        "level": 1,
        "users": 6.0,
        "journey": "it's one",
        "step": "Look",
        "group_name": "all",
        "user_number": 0,
        "visit": 1,
        "part": 0,
        "status": 503,
        "error": "status 503",
        "response_s": 0.0015,
        "late_s": 0.0005,
        "dns_s": 0.0,
        "connect_s": 0.0,
        "tls_s": 0.0,
        "sent_s": 0.0,
        "first_byte_s": 0.001,
        "blind_s": 0.0,
        "sent_bytes": 0,
        "received_bytes": 0,
        "new_connection": True,
        "redirected": False,
        "trace_id": records.trace_id(9, 0, 1, 0),
    }
    assert (told[1]["redirected"], told[1]["trace_id"]) == (True, records.trace_id(9, 2, 1, 1))


def test_the_schema_that_is_told_is_the_one_there_is(bundle: Path, moments: Path) -> None:
    for table in TABLES:
        if table.name not in MADE:
            found = answered(ask_of(bundle, f"DESCRIBE {table.name}", tables={"moments": str(moments)}))
            assert [(row[0], row[1]) for row in found["rows"]] == [(c.name, c.kind) for c in table.columns]
    for says, statement in EXAMPLES:
        if not any(name in statement for name in MADE):
            assert answered(ask_of(bundle, statement))["columns"], says


@pytest.mark.parametrize("statement", [*attempts.FILES, *attempts.NETWORK, *attempts.WRITES])
def test_nothing_but_reading_the_tables_is_possible(
    bundle: Path, statement: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    (tmp_path / "here.parquet").write_bytes(bundle.read_bytes())
    with pytest.raises(Refused) as refusal:
        answered(ask_of(bundle, statement))
    assert "root:" not in str(refusal.value)
    assert [path.name for path in tmp_path.iterdir()] == ["here.parquet"]


@pytest.mark.parametrize("statement", attempts.ENDLESS)
def test_what_would_never_end_is_ended(bundle: Path, statement: str) -> None:
    with pytest.raises(Refused, match=r"ended after|needs more than|Cannot create a string"):
        answered(ask_of(bundle, statement, seconds=0.7))


@pytest.mark.parametrize(
    ("statement", "says"),
    [
        ("", "One statement at a time; these are 0"),
        ("SELECT 1; SELECT 2", "these are 2"),
        ("SELEC 1", 'syntax error at or near "SELEC"'),
        ("SELECT nothing FROM steps", 'column "nothing" not found'),
        ("DROP VIEW steps", "this is DROP"),
    ],
)
def test_what_is_wrong_with_a_statement_is_said(bundle: Path, statement: str, says: str) -> None:
    with pytest.raises(Refused) as refusal:
        answered(ask_of(bundle, statement))
    assert says in str(refusal.value)


def test_answers_are_bounded_and_plain(bundle: Path) -> None:
    kinds = "SELECT i, 9007199254740993 + i, repeat('x', 3000), 1/0, [1, 2] FROM range(50) t(i)"
    found = answered(ask_of(bundle, kinds, rows=20))
    assert (len(found["rows"]), found["more"]) == (20, True)
    assert found["rows"][1][:2] == [1, "9007199254740994"]
    assert len(found["rows"][0][2]) == process.MOST_TEXT + 1
    assert found["rows"][0][3:] == [None, "[1, 2]"]
    whole = answered(ask_of(bundle, "SELECT 1 WHERE 1 = 2"))
    assert (whole["rows"], whole["more"]) == ([], False)
    large = answered(ask_of(bundle, "SELECT repeat('x', 2000) FROM range(100000)", rows=90_000))
    assert large["more"]
    assert len(large["rows"]) == pytest.approx(process.MOST_TOLD / 2_000, abs=2)


def test_a_file_has_all_rows_and_no_formulas(bundle: Path) -> None:
    as_file: dict[str, Any] = {"as_csv": True, "rows": 30}
    out = io.StringIO()
    process._answer(ask_of(bundle, "SELECT '=1+1' AS a, i, NULL AS n FROM range(3) t(i)", **as_file), out)
    assert list(csv.reader(io.StringIO(out.getvalue().removeprefix(process.READY.decode())))) == [
        ["a", "i", "n"],
        *([["'=1+1", str(i), ""] for i in range(3)]),
    ]
    with pytest.raises(Refused, match="at most 30 rows"):
        process._answer(ask_of(bundle, "SELECT * FROM range(31)", **as_file), io.StringIO())
