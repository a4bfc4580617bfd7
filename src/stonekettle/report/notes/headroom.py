"""Is there room above the load that is expected at the peak?"""

from __future__ import annotations

from stonekettle.core.analysis import Analysis
from stonekettle.core.headroom import Headroom, PeakIn, Standing, headroom, room_below
from stonekettle.core.load import LoadKind
from stonekettle.core.objectives import BreakingPoint
from stonekettle.core.types import Declined, Estimate
from stonekettle.report import numbers as n
from stonekettle.report.notes.note import Evidence, Grade, Note

GRADES: dict[Standing, Grade] = {
    "enough": "holds",
    "at least": "holds",
    "close": "strained",
    "short": "broken",
    "not tried": "open",
}


def note(analysis: Analysis, peak: float, peak_in: PeakIn) -> Note:
    """The room of a run above an expected peak; its levels must be there."""
    kind = analysis.load_kind
    expected = _amount(peak, peak_in, kind)
    if isinstance(analysis.comfort, Declined):
        return Note(
            kind="headroom",
            grade="open",
            title=f"Headroom over {expected}: no answer",
            text="There is no comfort limit to hold the expected peak against.",
            details=_errors(analysis, peak, peak_in),
        )
    found = headroom(analysis.comfort, analysis.levels, peak, peak_in)
    limit = analysis.comfort.load
    evidence = Evidence(rows=("response", "errors"), at=found.load)
    if found.load is not None and limit is not None:
        ends = sorted((found.load, limit.value))
        evidence = evidence.model_copy(update={"low": ends[0], "high": ends[1]})
    return Note(
        kind="headroom",
        grade=GRADES[found.standing],
        title=_title(found, expected),
        text=_text(found, analysis, expected),
        details=_errors(analysis, peak, peak_in),
        evidence=evidence,
    )


def _errors(analysis: Analysis, peak: float, peak_in: PeakIn) -> tuple[str, ...]:
    """How far from the peak errors pass their limit, or did not up to the highest load."""
    found, kind = analysis.breaking, analysis.load_kind
    if isinstance(found, BreakingPoint):
        room = room_below(found.load, analysis.levels, peak, peak_in)
        ends = f"{_signed(room.low)} to {_signed(room.high)}"
        where = f"between {n.amount(found.load.low)} and {n.load(found.load.high, kind)}"
        return (f"Errors pass {n.percent(found.limit)} {where}: {ends} from the peak.",)
    if found.at_least is None or not analysis.levels:
        return ()
    tried = Estimate(found.at_least, found.at_least, found.at_least)
    room = room_below(tried, analysis.levels, peak, peak_in)
    tried_up_to = n.load(found.at_least, kind)
    return (f"Errors passed their limit for sure at no load up to {tried_up_to}, {_signed(room.value)} from the peak.",)


def _amount(value: float, peak_in: PeakIn, kind: LoadKind) -> str:
    return n.load(value, kind) if peak_in == "load" else n.rate(value)


def _title(found: Headroom, expected: str) -> str:
    room = found.room.value
    if found.standing == "not tried":
        return f"The expected {expected} were not tried"
    if found.standing == "short":
        return f"{_percent(-room)} short of the expected {expected}"
    if found.standing == "close":
        return f"The expected {expected} are as much as it holds"
    return (
        f"Headroom {'at least ' if found.standing == 'at least' else ''}{_percent(room)} over the expected {expected}"
    )


def _text(found: Headroom, analysis: Analysis, expected: str) -> str:
    assert not isinstance(analysis.comfort, Declined)  # told before
    tried = n.load(analysis.comfort.tested, analysis.load_kind)
    if found.standing == "not tried":
        return f"Every objective held to {tried}, the highest load of this run. Let it climb past the peak to know."
    if found.standing == "at least":
        return f"Every objective held to {tried}, the highest load of this run."
    ends = f"{_signed(found.room.low)} to {_signed(found.room.high)}"
    told = (
        f"From the comfort limit: {_signed(found.room.value)}, {round(found.room.confidence * 100)} % interval {ends}."
    )
    return {
        "enough": f"{told} At the peak every objective holds.",
        "short": f"{told} At the peak an objective is broken.",
        "close": f"{told} Whether every objective holds at the peak is not sure.",
    }[found.standing]


def _signed(share: float) -> str:
    return f"{'−' if share < 0 else '+'}{_percent(abs(share))}" if round(share * 100) else "0 %"


def _percent(share: float) -> str:
    """Whole percents: no limit is known better."""
    return f"{share * 100:.0f} %"
