"""The same load, everything in it so many times as long, or as high."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from stonekettle.plan.parts import Part

if TYPE_CHECKING:
    from stonekettle.plan.models import Plan

_LENGTHS = frozenset({"during", "every", "over", "within", "stay", "wait"})
"""Fields of sentences that say how long."""
_HEIGHTS = frozenset({"users", "rate", "start", "end", "by"})
"""Fields of sentences that say how much."""
_WORKED_OUT = ("planned", "search", "turns")


def stretched(plan: Plan, times: float) -> Plan:
    """The plan with sentences ``times`` as long. A search chooses the length of its levels itself, and stays."""
    if plan.search is not None:
        return plan
    return _with_sentences(plan, lambda sentence: _more(sentence, _LENGTHS, times))


def grown(plan: Plan, times: float) -> Plan:
    """The plan with a load ``times`` as high, of whole users. A search begins where it did, and goes on further."""
    heights = _HEIGHTS - {"start"} if plan.search is not None else _HEIGHTS
    return _with_sentences(plan, lambda sentence: _more(sentence, heights, times))


def _with_sentences(plan: Plan, change: Callable[[Part], Part]) -> Plan:
    load = tuple(change(sentence) for sentence in plan.load)
    groups = tuple(
        group.model_copy(
            update={
                field: tuple(change(sentence) for sentence in getattr(group, field))
                for field in ("users", "arrivals")
                if hasattr(group, field)
            }
        )
        for group in plan.groups
    )
    found = plan.model_copy(update={"load": load, "groups": groups})
    for name in _WORKED_OUT:
        found.__dict__.pop(name, None)  # it goes by the sentences as they were
    return found


def _more(part: Part, fields: frozenset[str], times: float) -> Part:
    changed: dict[str, object] = {}
    for name, value in part:
        if isinstance(value, Part):
            changed[name] = _more(value, fields, times)
        elif name in fields and isinstance(value, int | float) and not isinstance(value, bool):
            changed[name] = round(value * times) if isinstance(value, int) else value * times
    return part.model_copy(update=changed)
