"""Was the system the same all the time?"""

from __future__ import annotations

from stonekettle.core.analysis import Analysis
from stonekettle.core.changes import Change
from stonekettle.report import numbers as n
from stonekettle.report.notes.note import Evidence, Note, resource_text

SETTLE = {
    "slower": "A level repeated at the end of a longer run tells whether it goes on; a restart before the next, "
    "whether it begins anew.",
    "faster": "Warm it up with a level of its own before the climb, or repeat the climb: the second one tells more.",
    "not recovered": "Hold the low load longer after the peak to see when it is itself again.",
    "periodic": "Hold each level for several of these periods; or measure with the other work stopped, and with it.",
}


def notes(analysis: Analysis) -> tuple[Note, ...]:
    """Each thing that changed, for when the claims hold, and what would settle it."""
    return tuple(_note(analysis, change) for change in analysis.changes)


def _note(analysis: Analysis, change: Change) -> Note:
    return Note(
        kind=f"change:{change.kind}",
        grade="strained",
        title=title(change),
        text=f"{_text(analysis, change)} {SETTLE[change.kind]}",
        evidence=Evidence(rows=_rows(change), at=change.load),
    )


def title(change: Change) -> str:
    if change.kind == "not recovered":
        return f"Not itself again after the overload: {n.percent(change.size)} less gets done"
    if change.kind == "periodic":
        period = n.seconds(change.period_s or 0.0)
        return f"Something else happens each {period}"
    word = "slower" if change.kind == "slower" else "faster"
    return f"The system grew {word} during the run, by {n.percent(change.size)}"


def _text(analysis: Analysis, change: Change) -> str:
    at = f"at {n.load(change.load, analysis.load_kind)}" if change.load is not None else ""
    if change.kind == "not recovered":
        return f"Later, {at}, throughput is lower than it was on the way up. Of the limits that counts the way up only."
    if change.kind == "periodic":
        subject, length_s = _subject(change), change.size * (change.period_s or 0.0)
        return (
            f"{subject[0].upper()}{subject[1:]} stands out for {n.seconds(length_s)} at a time, as a job would make "
            "it. Limits are those beside it, and N* may be lower by what it costs."
        )
    how = f"when the load came back to {at[3:]}" if at else "within its levels, while the load stayed the same"
    what = "the response was" if change.subject == "response" else f"a step's work at {_subject(change)} was"
    more = "more" if change.kind == "slower" else "less"
    return (
        f"{how[0].upper()}{how[1:]}, {what} {n.percent(change.size)} {more} than before. What is said of limits holds "
        "for the time at the highest load; intervals are wider for it."
    )


def _subject(change: Change) -> str:
    return change.subject if change.subject in ("response", "throughput") else resource_text(change.subject)


def _rows(change: Change) -> tuple[str, ...]:
    return (change.subject,) if change.subject in ("response", "throughput") else (f"resource:{change.subject}",)
