"""Three real systems over real sockets with different limits: each is named, and found in place."""

from __future__ import annotations

import io
import json
from pathlib import Path

import pytest
import yaml

from stonekettle.cli import run
from stonekettle.plan import document
from stonekettle.practice import config, truth

THINK_S = 0.5
LIMITS = {
    "ledger CPU": {"ledger": {"cpus": 4}},
    "planner CPU": {"ledger": {"cpus": 16, "pool": None}, "planner": {"cpus": 1}},
    # 4 connections over 16 cores: the hardware is under a third busy.
    "ledger pool": {"ledger": {"cpus": 16, "disks": 4, "pool": 4}},
}
EXPECTED = {"ledger CPU": "ledger.cpu", "planner CPU": "planner.cpu", "ledger pool": "ledger.connections"}


@pytest.mark.parametrize("name", LIMITS)
def test_the_limit_is_named_and_placed(name: str, tmp_path: Path) -> None:
    practice = tmp_path / "practice.yaml"
    practice.write_text(yaml.safe_dump({"changes": LIMITS[name]}))
    plan = yaml.safe_load((Path(__file__).parents[2] / "examples" / "quick.yaml").read_text())
    real = truth.compute(config.load(practice), _mix(document.from_document(plan)), THINK_S)
    assert real.limiting == EXPECTED[name]
    step = max(2, round(real.users * 1.8 / 7))
    plan["load"] = [{"climb": {"from": step, "to": 7 * step, "by": step, "every": "12 s"}}]
    file = tmp_path / "plan.yaml"
    file.write_text(yaml.safe_dump(plan))

    for _ in range(2):
        code = run.run(file, tmp_path / "out", practice=True, practice_config=practice, terminal=io.StringIO())
        if code != run.NOT_TRUSTWORTHY:
            break  # on a machine too busy to measure the run says so itself, and is worth another try

    found = json.loads((tmp_path / "out" / "result.json").read_text())
    assert code in (run.MET, run.BROKEN), found["verdict"]
    assert found["findings"]["limiting"]["resource"]["key"] == EXPECTED[name]
    point = found["findings"]["saturation"]
    assert point["status"] == "reached", found["verdict"]
    assert point["users"]["value"] == pytest.approx(real.users, rel=0.10)
    if name == "ledger pool":
        hardware = [e for e in found["findings"]["limiting"]["evidence"] if e["kind"] in ("cpu", "disk")]
        assert max(e["utilisation"] for e in hardware) < 0.70


def _mix(plan: document.Plan) -> dict[str, float]:
    """The share of each route among all requests, by the journeys' weights."""
    weights: dict[str, float] = {}
    for journey in plan.journeys:
        for step in journey.steps:
            route = step.request.partition("?")[0]
            weights[route] = weights.get(route, 0.0) + journey.weight
    total = sum(weights.values())
    return {route: weight / total for route, weight in weights.items()}
