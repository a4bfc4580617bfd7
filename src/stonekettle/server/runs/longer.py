"""What would longer levels bring? A rehearsal played once more with everything in its load longer."""

from __future__ import annotations

from stonekettle.core.analysis import Analysis
from stonekettle.core.load import LoadKind
from stonekettle.core.types import Estimate
from stonekettle.engine import rehearsal
from stonekettle.plan.models import Plan
from stonekettle.plan.quantities import format_duration
from stonekettle.plan.stretching import stretched
from stonekettle.report import findings
from stonekettle.report import numbers as n
from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import played, plays
from stonekettle.server.runs.models import Run
from stonekettle.server.runs.twins import twin_for

TIMES = 2


def ask(actor: Actor, run: Run, tell: played.Tell) -> str:
    """Play it, and say what came of it beside what was. Raises :class:`Conflict` where it was no rehearsal, or its load
    is not of levels that can be longer."""
    actor.check(Role.PLANNER)
    told = (run.result or {}).get("findings")
    if not run.simulated or told is None:
        raise Conflict("Only a rehearsal can be played once more with longer levels.")
    plan = run.plan
    if plan.search is not None:
        raise Conflict("A search holds each level for as long as it takes to tell.")
    longer = stretched(plan, TIMES)
    played.check_length(longer)
    system = twin_for(plan, run.revision.experiment)
    length = round(longer.planned.duration_s)
    again = rehearsal.rehearse(
        longer,
        system.config,
        system.journeys,
        tell=lambda second: tell("Playing it with longer levels", min(length, round(second)), length),
    )
    tell("Reading what it would find", length, length)
    found = plays.read(plan, again)
    return words(plan, longer, findings.read(told), found)


def words(plan: Plan, longer: Plan, before: Analysis, after: Analysis) -> str:
    """What is known more surely with the longer load."""
    long, short = (f"{_levels(one)}{_clock(one.planned.duration_s)}" for one in (longer, plan))
    kind = after.load_kind
    parts = [
        _known(name, now, then, kind)
        for name, now, then in (
            ("the comfort limit", plays.comfort_of(before), plays.comfort_of(after)),
            ("saturation", plays.saturation_of(before), plays.saturation_of(after)),
        )
        if now is not None or then is not None
    ]
    told = f"a run would tell {', and '.join(parts)}" if parts else "a run would find no limit either"
    return f"With everything twice as long ({long} in all, instead of {short}) {told}. The longer one was played once."


def _levels(plan: Plan) -> str:
    """How long its levels are, where all that hold are alike."""
    lengths = {round(level.duration_s, 3) for level in plan.planned.levels() if not level.moving}
    return f"levels of {format_duration(lengths.pop())}, " if len(lengths) == 1 else ""


def _clock(seconds: float) -> str:
    minutes, rest = divmod(round(seconds), 60)
    return " ".join([*([f"{minutes} min"] if minutes else []), *([f"{rest} s"] if rest or not minutes else [])])


def _known(name: str, now: Estimate | None, then: Estimate | None, kind: LoadKind) -> str:
    if then is None or now is None:
        known = f"nothing of {name}" if then is None else f"{name} within {_width(then)} ({_span(then, kind)})"
        return f"{known}, instead of {'nothing' if now is None else f'within {_width(now)}'}"
    return f"{name} within {_width(then)} ({_span(then, kind)}) instead of {_width(now)}"


def _width(estimate: Estimate) -> str:
    return f"±{(estimate.high - estimate.low) / 2 / max(estimate.value, 1e-9) * 100:.2g} %"


def _span(estimate: Estimate, kind: LoadKind) -> str:
    return f"{n.amount(estimate.low)}–{n.load(estimate.high, kind)}"
