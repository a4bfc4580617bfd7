"""``kettle compare`` as a pipeline uses it: folders in, a sentence, JSON and an exit code out."""

from __future__ import annotations

import io
import json
import shutil
from pathlib import Path

import pytest

from stonekettle.cli import __main__ as command
from stonekettle.cli import compare
from stonekettle.core import analysis
from stonekettle.core.facts import gather
from stonekettle.core.orders import as_planned
from stonekettle.meters.samples import Readings
from stonekettle.plan import document
from stonekettle.practice.twin import simulate
from stonekettle.report import facts_file, result
from tests.conftest import PLAN_TEXT, climb, one_server_system, visits

PLAN = document.read(
    PLAN_TEXT.format(base="http://127.0.0.1:9", metrics="http://127.0.0.1:9/m", think="1 s", users=5, hold="20 s")
)
CLIMB = climb(20, 120, 20, 60)


def written(folder: Path, service_ms: float, seed: int) -> Path:
    """A folder as ``kettle run`` leaves it, of a twin."""
    run = simulate(one_server_system(service_ms, servers=2), visits(1.0), CLIMB, seed=seed)
    found = analysis.analyse(run, as_planned(CLIMB), document.core_objectives(PLAN), 0.05)
    told = result.build(PLAN, run, found, Readings(), state="finished", cause="", trial_requests=0)
    folder.mkdir()
    (folder / "result.json").write_text(told.model_dump_json())
    (folder / "facts.csv").write_text(facts_file.write(gather(run, found)))
    return folder


@pytest.fixture(scope="module")
def runs(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    there = tmp_path_factory.mktemp("runs")
    cases = {"first": (20.0, 1), "again": (20.0, 2), "dearer": (26.0, 3)}
    return {name: written(there / name, *case) for name, case in cases.items()}


def told(*arguments: object, matters: float = 0.05, json_file: Path | None = None) -> tuple[int, str]:
    out = io.StringIO()
    first, second = (Path(str(one)) for one in arguments)
    return compare.compare(first, second, matters, json_file, out), out.getvalue()


def test_slower_faster_and_alike_have_their_own_exit_codes(runs: dict[str, Path], tmp_path: Path) -> None:
    code, text = told(runs["first"], runs["dearer"], json_file=tmp_path / "found.json")
    assert (code, text.split(":")[0]) == (1, "Slower")
    found = json.loads((tmp_path / "found.json").read_text())
    assert found["sentence"] == text.splitlines()[0]
    assert found["verdict"] == "slower"
    assert any(one["stands"] and one["figure"] == "demand" for one in found["figures"])
    code, text = told(runs["dearer"], runs["first"])
    assert (code, text.split(":")[0]) == (0, "Faster")
    code, text = told(runs["first"], runs["again"])
    assert (code, text.split(":")[0]) == (0, "No difference")
    assert told(runs["first"], runs["dearer"], matters=20.0)[0] in (0, 3)  # less than that does not matter


def ran(monkeypatch: pytest.MonkeyPatch, found: Path, code: int, *options: str) -> int:
    """``kettle run`` with these options, as if it had measured ``found``."""

    def measure(file: Path, out: Path, **_: object) -> int:
        shutil.copytree(found, out)
        return code

    monkeypatch.setattr(command.run_command, "run", measure)
    monkeypatch.setattr("sys.argv", ["kettle", "run", "plan.yaml", *options])
    return command.main()


@pytest.mark.parametrize(
    ("found", "code", "exits"), [("again", 0, 0), ("dearer", 0, 1), ("dearer", 3, 3), ("again", 1, 1)]
)
def test_a_run_is_held_against_another_as_it_ends(
    runs: dict[str, Path],
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    capsys: pytest.CaptureFixture[str],
    found: str,
    code: int,
    exits: int,
) -> None:
    out, against = tmp_path / "today", runs["first"] / "result.json"
    got = ran(monkeypatch, runs[found], code, "--out", str(out), "--against", str(against))
    assert got == exits
    sentence = json.loads((out / "comparison.json").read_text())["sentence"]
    assert sentence in capsys.readouterr().out


def test_what_a_run_cannot_be_held_against_is_refused_before_load(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    out = tmp_path / "today"
    assert ran(monkeypatch, tmp_path, 0, "--out", str(out), "--against", str(tmp_path / "none")) == 2
    assert not out.exists()
    assert "none/result.json" in capsys.readouterr().err


def test_what_is_no_run_is_refused_and_named(
    runs: dict[str, Path], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    assert told(runs["first"], tmp_path / "nowhere")[0] == 2
    assert "nowhere" in capsys.readouterr().err
    broken = tmp_path / "broken"
    broken.mkdir()
    (broken / "result.json").write_text("{}")
    assert told(runs["first"], broken)[0] == 2
    assert "is not the result of a run" in capsys.readouterr().err
    (broken / "result.json").write_text((runs["first"] / "result.json").read_text())
    (broken / "facts.csv").write_text("a,b\n1,2\n")
    assert told(broken, runs["first"])[0] == 2
    assert "its first line is not level,subject" in capsys.readouterr().err
