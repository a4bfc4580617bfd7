"""Did people who come by themselves come as ordered, and were they let in?"""

from __future__ import annotations

import math

from stonekettle.core.analysis import Analysis
from stonekettle.report import numbers as n
from stonekettle.report.notes.note import Grade, Note

WORTH_SAYING = 0.02
"""A share turned away that a reader should see."""


def note(analysis: Analysis) -> Note | None:
    came = analysis.arriving
    if came is None or came.ordered <= 0:
        return None
    away = came.turned_away / max(1.0, came.started + came.turned_away)
    text = f"{came.started:.0f} people arrived and were let in, {came.ordered:.0f} were ordered."
    if away > WORTH_SAYING:
        text += f" {came.turned_away:.0f} were turned away, since as many as may be there at a time were there already."
        return _note("strained", f"{n.percent(away)} of those who arrived were turned away", text)
    # Random arrivals are as many as ordered within their own chance.
    missing = came.ordered - came.started - came.turned_away
    if abs(missing) > max(0.02 * came.ordered, 4 * math.sqrt(came.ordered)):
        return _note("strained", f"{'Fewer' if missing > 0 else 'More'} people arrived than ordered", text)
    return _note("holds", "People arrived as ordered", text)


def _note(grade: Grade, title: str, text: str) -> Note:
    return Note(kind="arrivals", grade=grade, title=title, text=text)
