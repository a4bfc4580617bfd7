"""``kettle run`` of a plan with candidates: what is done in which order, and what is said at the end."""

from __future__ import annotations

import io
import json
import sys
from pathlib import Path

import pytest
import yaml

from stonekettle.cli import turns
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from tests.cli.test_compare import written
from tests.conftest import PLAN_TEXT
from tests.ops import Ops


def plan(ops: Ops, tmp_path: Path, blocks: int = 3) -> Plan:
    told = yaml.safe_load(PLAN_TEXT.format(base=ops.url, metrics=f"{ops.url}/m", think="1 s", users=5, hold="20 s"))
    told["system"]["operations"] = {"address": ops.url}
    noted = f'{sys.executable} -c \'open("{tmp_path / "noted"}", "a").write("x")\''
    told["candidates"] = {
        "blocks": blocks,
        "each": [
            {"name": "As it is", "begin": [{"command": noted}], "ready": {"ask": "/ready"}},
            {"name": "Slower one", "begin": [{"call": "PUT /slow"}], "end": [{"call": "PUT /back"}]},
        ],
    }
    return document.from_document(told)


class Measured:
    """Turns as they would have been measured: one candidate's service takes 30 % longer."""

    def __init__(self, stops_at: int = 0) -> None:
        self.plans: list[Plan] = []
        self._stops_at = stops_at

    def __call__(self, own: Plan, folder: Path) -> bool:
        self.plans.append(own)
        slow = "slower" in folder.name
        made = written(folder / "made", 26.0 if slow else 20.0, len(self.plans))
        for part in made.iterdir():
            part.rename(folder / part.name)
        return len(self.plans) != self._stops_at


def take(given: Plan, out: Path, measure: Measured) -> tuple[int, str]:
    terminal = io.StringIO()
    return turns.take(given, out, {}, terminal, measure), terminal.getvalue()


def test_every_turn_has_a_folder_and_the_answer_a_file(ops: Ops, tmp_path: Path) -> None:
    measure = Measured()
    code, said = take(plan(ops, tmp_path), tmp_path / "out", measure)
    assert code == 1
    assert "Slower one against As it is: Slower: " in said
    assert "3 blocks could have shown" in said
    assert [one.candidates for one in measure.plans] == [None] * 6
    folders = sorted(path.name for path in (tmp_path / "out").iterdir() if path.is_dir())
    assert len(folders) == 6
    assert {name.partition("-")[2] for name in folders} == {"as-it-is", "slower-one"}
    assert (tmp_path / "noted").read_text() == "xxx"
    assert [path for path in ops.paths() if path != "/ready"] == ["/slow", "/back"] * 3
    told = json.loads((tmp_path / "out" / "candidates.json").read_text())
    (between,) = told["between"]
    assert (between["verdict"], between["blocks"], between["against"]) == ("slower", [1, 2, 3], "As it is")
    assert len(told["under_load_after_s"]["As it is"]) == 3
    done = json.loads((tmp_path / "out" / folders[0] / "actions.json").read_text())
    assert done[0]["outcome"] in ("done", "status 200")


def test_an_action_that_fails_ends_it_and_what_ends_the_turn_is_done(
    ops: Ops, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    ops.status = 500
    code, _ = take(plan(ops, tmp_path), tmp_path / "out", Measured())
    assert code == 2
    assert "PUT /slow answered with status 500" in capsys.readouterr().err
    assert ops.paths()[-1] == "/back"


def test_a_turn_that_does_not_end_by_itself_is_the_last(ops: Ops, tmp_path: Path) -> None:
    measure = Measured(stops_at=3)
    code, said = take(plan(ops, tmp_path), tmp_path / "out", measure)
    assert len(measure.plans) == 3
    assert code == 3
    assert "No answer: there are not two blocks" in said
