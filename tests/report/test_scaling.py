"""What a scaling experiment's answer says in words."""

from __future__ import annotations

from pathlib import Path

from stonekettle.core import analysis
from stonekettle.core.orders import as_planned
from stonekettle.core.scaling import Point
from stonekettle.core.types import Estimate
from stonekettle.plan import document
from stonekettle.practice.twin import simulate
from stonekettle.report import scaling as words
from stonekettle.report.scaling import Told, Tried
from tests.conftest import climb, one_server_system, visits

PLAN = document.read((Path(__file__).parents[2] / "examples" / "scaling.yaml").read_text())
PROFILE = climb(20, 60, 20)
RUN = simulate(one_server_system(20.0), visits(1.0), PROFILE)


def told(ahead: Estimate | None) -> Told:
    points = tuple(Point(n, Estimate(50 * n, 49 * n, 51 * n), False, 2) for n in (1.0, 2.0, 4.0))
    laws = {"linear": 0.3, "contention": 0.0, "coherency": 0.0, "shared limit": 0.7}
    return Told(points, (), (), laws, (), (), None, 8.0, (), "", ahead)  # type: ignore[arg-type]


def test_a_limit_that_only_response_times_tell_of_is_said_to_be_no_more() -> None:
    assert PLAN.scaling is not None
    tried = [Tried(PLAN.scaling.values[0], analysis.analyse(RUN, as_planned(PROFILE), [], 0.05))]
    heard = words.sentence(PLAN, told(Estimate(250, 220, 310)), tried, going=False)
    assert heard.endswith(
        "Response times tell of something that no meter shows and only one step at a time can use, full at "
        "250 steps/s (220 to 310): no run has come to it."
    )
    assert "4 × `ledger` does 4.00 times what 1 × `ledger` does" in heard
    met = words.sentence(PLAN, told(None), tried, going=False)
    assert "no run has come to it" not in met
    assert "70 % sure" in met
