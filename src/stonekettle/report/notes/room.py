"""Is there room for more users, by how it feels to be one?"""

from __future__ import annotations

from stonekettle.core.load import UNITS, LoadKind
from stonekettle.core.slowdown import FURTHEST, Index, RoomForMore
from stonekettle.report import numbers as n
from stonekettle.report.notes.note import Note, span

CALM = 0.3
"""A lowest level at which a resource is in use for more is no light load."""


def note(
    index: Index,
    found: RoomForMore,
    limit: float,
    kind: LoadKind,
    *,
    target_s: float = 0.0,
    why_no_further: str = "",
    in_use: float = 0.0,
) -> Note:
    """The answer in words. ``target_s`` is the T of an Apdex score; ``why_no_further`` says why nothing is told beyond
    the highest load, where nothing is; ``in_use`` is how busy the busiest resource was at the lowest level."""
    beyond = _beyond(index, limit, target_s)
    light = _light(index, kind, in_use)
    tested = n.load(found.tested, kind)
    if found.status == "already":
        return Note(
            kind="room",
            grade="broken",
            title=f"No room: {beyond} at the lowest load already",
            text=f"At {n.load(float(index.loads[0]), kind)}. {_there(index, 0)}{light}",
        )
    if found.status == "crosses":
        assert found.load is not None
        return Note(
            kind="room",
            grade="saturated",
            title=f"No room beyond {n.load(found.load.value, kind)}",
            text=f"From there on {beyond}, {span(found.load)}. {_there(index, -1)}{light}",
        )
    if not found.extrapolated:
        text = f"{_there(index, -1)} How many more is not told: {why_no_further}{light}"
        return Note(kind="room", grade="holds", title=f"Not reached at {tested}, the highest load tried", text=text)
    more = int(found.more)
    title = (
        f"Room for at least {n.users(more)} more {UNITS[kind]}" if more else "Not reached; room for more is not sure"
    )
    if found.load is None:
        ahead = f"By the measured demands not up to {FURTHEST:g} times the highest load tried, and no further is told"
    else:
        ahead = f"By the measured demands {beyond} at {n.load(found.load.value, kind)}, {span(found.load)}"
    text = f"{_there(index, -1)} {ahead}, provided that nothing without a meter gives out before.{light}"
    return Note(kind="room", grade="holds" if more else "strained", title=title, text=text)


def _beyond(index: Index, limit: float, target_s: float) -> str:
    if index.kind == "slowdown":
        return f"steps take over {limit:g} times as long as at light load"
    return f"the Apdex score (T {n.seconds(target_s)}) is under {limit:g}"


def _there(index: Index, place: int) -> str:
    value, where = float(index.values[place]), "lowest" if place == 0 else "highest"
    if index.kind == "slowdown":
        return f"At the {where} load tried steps take {value:.2f} times as long." if place else ""
    return f"At the {where} load tried it is {value:.2f}."


def _light(index: Index, kind: LoadKind, in_use: float) -> str:
    """What light load is, where the lowest level was none."""
    if index.kind != "slowdown" or in_use <= CALM:
        return ""
    return (
        f" Light load is the lowest level, {n.load(float(index.loads[0]), kind)}; its busiest resource was "
        f"{n.percent(in_use)} in use, so that somebody alone may be served faster."
    )
