"""The same load, everything in it so many times as long."""

from __future__ import annotations

from stonekettle.plan.models import Plan
from stonekettle.plan.parts import Part

_LENGTHS = frozenset({"during", "every", "over", "within", "stay", "wait"})
"""Fields of sentences that say how long."""


def stretched(plan: Plan, times: float) -> Plan:
    """The plan with sentences ``times`` as long. A search chooses the length of its levels itself, and stays."""
    if plan.search is not None:
        return plan
    load = tuple(_longer(sentence, times) for sentence in plan.load)
    groups = tuple(
        group.model_copy(
            update={
                field: tuple(_longer(sentence, times) for sentence in getattr(group, field))
                for field in ("users", "arrivals")
                if hasattr(group, field)
            }
        )
        for group in plan.groups
    )
    found = plan.model_copy(update={"load": load, "groups": groups})
    found.__dict__.pop("planned", None)  # it goes by the sentences as they were
    return found


def _longer(part: Part, times: float) -> Part:
    changed: dict[str, object] = {}
    for name, value in part:
        if isinstance(value, Part):
            changed[name] = _longer(value, times)
        elif name in _LENGTHS and isinstance(value, float):
            changed[name] = value * times
    return part.model_copy(update=changed)
