"""What did measuring do to the figures?"""

from __future__ import annotations

from collections.abc import Mapping

from stonekettle.core.analysis import Analysis
from stonekettle.core.blur import Measuring
from stonekettle.core.objectives import ComfortLimit
from stonekettle.core.saturation import Saturation
from stonekettle.report import numbers as n
from stonekettle.report.notes.note import Evidence, Grade, Note

WORTH_SAYING = 0.02
"""A share of processor time taken by the host that a reader should see at once."""


def did(measuring: Measuring) -> str:
    """What the generators did to the figures, as a phrase: "measuring shifted the load by …"."""
    shift = f"measuring shifted the load by at most {n.percent(measuring.shift)}"
    if measuring.p95_blur_s > 0:
        return f"{shift} and blurred a 95th percentile by at most {n.seconds(measuring.p95_blur_s)}"
    return shift


def note(analysis: Analysis) -> Note:
    found = analysis.measuring
    phrase = did(found)
    text = [f"{phrase[0].upper()}{phrase[1:]}."]
    if found.stolen > WORTH_SAYING:
        text.append(f"The host took {n.percent(found.stolen)} of the processors away.")
    if found.cut_share:
        text.append(
            f"The generators stood still {n.counted(found.stalls, 'time')}, for {n.seconds(found.longest_stall_s)} at "
            f"most; {n.percent(found.cut_share)} of the response times, those around it, are left out."
        )
    if found.withheld:
        text.append(f"Not claimed for it: the {' and the '.join(found.withheld)}.")
    grade, title = _grade(analysis)
    return Note(
        kind="measuring",
        grade=grade,
        title=title,
        text=" ".join(text),
        details=tuple(_details(found)),
        evidence=Evidence(rows=("blur",)),
    )


def _details(found: Measuring) -> list[str]:
    details = [
        f"The host took {n.percent(found.stolen)} of the processors away.",
        f"Generators used up to {n.percent(found.cpu)} of their core, waited {n.percent(found.run_queue)} of the time "
        f"for one, and were interrupted {n.figure(found.switches)} times a second.",
    ]
    if found.stalls:
        details.append(
            f"They stood still {n.counted(found.stalls, 'time')} for over 20 ms, {n.seconds(found.stalled_s)} in all, "
            f"{n.seconds(found.longest_stall_s)} at most."
        )
    if found.gap_seconds:
        details.append(f"{n.counted(found.gap_seconds, 'second')} without data.")
    return details


def _grade(analysis: Analysis) -> tuple[Grade, str]:
    stands = isinstance(analysis.comfort, ComfortLimit) or isinstance(analysis.saturation, Saturation)
    titles: Mapping[str, tuple[Grade, str]] = {
        "sound": ("holds", "Measured soundly"),
        "blurred": ("strained", "Blurred by measuring: claims stand, wider"),
        "not trustworthy": ("broken", "Not trustworthy in part" if stands else "Not trustworthy"),
    }
    return titles[analysis.measuring.verdict]
