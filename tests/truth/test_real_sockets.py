"""Three real systems over real sockets with different limits: each is named, and found in place."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import pytest
import yaml

from stonekettle.cli import run
from stonekettle.plan import document
from stonekettle.practice import config, truth
from stonekettle.practice.twin import journeys_of
from tests.truth.side_by_side import ROOT, Played, play

THINK_S = 0.5
LIMITS = {
    "ledger CPU": {"ledger": {"cpus": 4}},
    "planner CPU": {"ledger": {"cpus": 16, "pool": None}, "planner": {"cpus": 1}},
    # 4 connections over 16 cores: the hardware is under a third busy.
    "ledger pool": {"ledger": {"cpus": 16, "disks": 4, "pool": 4}},
}
EXPECTED = {"ledger CPU": "ledger.cpu", "planner CPU": "planner.cpu", "ledger pool": "ledger.connections"}


@dataclass
class Case:
    """A system's truth and the run that looks for it."""

    real: truth.Truth
    run: Played


@pytest.fixture(scope="module")
def cases(tmp_path_factory: pytest.TempPathFactory) -> Mapping[str, Case]:
    """All three, run side by side: together they keep the machine less than half busy."""
    made = {name: _case(name, tmp_path_factory.mktemp("truth")) for name in LIMITS}
    play(case.run for case in made.values())
    return made


@pytest.mark.parametrize("name", LIMITS)
def test_the_limit_is_named_and_placed(cases: Mapping[str, Case], name: str) -> None:
    case = cases[name]
    found, real = case.run.found, case.real
    assert case.run.code in (run.MET, run.BROKEN), found["verdict"]
    assert found["findings"]["limiting"]["resource"]["key"] == EXPECTED[name]
    point = found["findings"]["saturation"]
    assert point["status"] == "reached", found["verdict"]
    # Twenty seconds a level leave some users still gathering: the interval with a tenth to spare.
    assert point["load"]["low"] / 1.1 < real.users < point["load"]["high"] * 1.1
    assert point["load"]["value"] == pytest.approx(real.users, rel=0.25)
    if name == "ledger pool":
        hardware = [e for e in found["findings"]["limiting"]["evidence"] if e["kind"] in ("cpu", "disk")]
        assert max(e["utilisation"] for e in hardware) < 0.70


def _case(name: str, folder: Path) -> Case:
    practice = {"changes": LIMITS[name]}
    plan = yaml.safe_load((ROOT / "examples" / "quick.yaml").read_text())
    real = truth.compute(
        config.from_document(practice), truth.mix_of(journeys_of(document.from_document(plan)))[0], THINK_S
    )
    assert real.limiting == EXPECTED[name]
    step = max(2, round(real.users * 1.8 / 7))
    plan["load"] = [{"climb": {"from": step, "to": 7 * step, "by": step, "every": "20 s"}}]
    return Case(real, Played.of(folder, plan, practice, lambda found: found["saturation"].get("status") == "reached"))
