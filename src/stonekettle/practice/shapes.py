"""How a component's servers change with time: they stand still, have other work, slow down or warm up."""

from __future__ import annotations

import math
from dataclasses import dataclass

from stonekettle.practice.config import Component, PracticeConfig

MEGABYTE = 1e6
_GOLDEN = 0.6180339887498949
"""Its multiples, less what is whole of them, lie evenly and look like chance (Weyl 1916)."""


@dataclass(frozen=True)
class Pauses:
    """All servers stand still for ``length_s`` at the end of each ``every_s``."""

    every_s: float
    length_s: float

    def worked(self, start: float, end: float) -> float:
        """For how much of [start, end) they work, seconds."""
        return self._worked_until(end) - self._worked_until(start)

    def ends(self, start: float, work_s: float) -> float:
        """When work that begins at ``start`` is done."""
        if self.length_s <= 0:
            return start + work_s
        able = self.every_s - self.length_s
        whole, rest = divmod(self._worked_until(start) + work_s, able)
        return max(start, whole * self.every_s + rest)

    def _worked_until(self, time: float) -> float:
        if self.length_s <= 0:
            return time
        whole, rest = divmod(time, self.every_s)
        able = self.every_s - self.length_s
        return whole * able + min(rest, able)


def pauses_of(component: Component) -> Pauses:
    return Pauses(component.pause_every_s, component.pause_s if component.pause_every_s > 0 else 0.0)


def drifted(config: PracticeConfig, now_s: float) -> float:
    """How many times as long as usual all work takes while the machine drifts."""
    if config.drift == 0.0:
        return 1.0
    return 1 + config.drift * math.sin(2 * math.pi * (now_s + config.drift_from_s) / config.drift_every_s)


def wears(component: Component) -> bool:
    """Whether its work takes another time now than later."""
    return component.cold_factor != 1.0 or component.slows_per_minute != 0.0


def wear(component: Component, now_s: float, visits: int) -> float:
    """How many times as long as usual work takes after so many seconds and visits."""
    cold = 1 + (component.cold_factor - 1) * math.exp(-visits / component.warms_over)
    return cold * (1 + component.slows_per_minute * max(0.0, now_s - component.troubled_from_s) / 60)


def troubled(component: Component, now_s: float) -> bool:
    """Whether what troubles it has begun, and is not between two spells."""
    if now_s < component.troubled_from_s:
        return False
    return component.spell_every_s <= 0 or now_s - _spell(component, now_s) < component.spell_s


def spells(component: Component, now_s: float) -> int:
    """How many spells have begun."""
    if component.spell_every_s <= 0:
        return 0
    passed = int(now_s // component.spell_every_s)
    return passed + (_spell_in(component, passed) <= now_s)


def _spell(component: Component, now_s: float) -> float:
    """When the last spell began (s); before the first one, minus infinity."""
    begun = spells(component, now_s)
    return _spell_in(component, begun - 1) if begun else -math.inf


def _spell_in(component: Component, number: int) -> float:
    """When the spell of this period begins: anywhere in it, and never like clockwork."""
    chance = (number + 1) * _GOLDEN % 1.0
    return number * component.spell_every_s + chance * max(0.0, component.spell_every_s - component.spell_s)


def slowness(component: Component, now_s: float, instance: int) -> float:
    """How many times as long as usual work takes at this instance: of those that are divided the last one is slow."""
    last = component.divided and instance == component.instances - 1
    return component.slow_factor if last and troubled(component, now_s) else 1.0


def disk_slowness(component: Component, now_s: float) -> float:
    """How many times as long as usual a disk takes."""
    return component.disk_factor if component.disk_factor != 1.0 and troubled(component, now_s) else 1.0


def memory_mb(component: Component, inside: float, needs: float = 1.0) -> float:
    """The memory that an instance uses with so many requests inside; ``needs`` times as much to begin with."""
    return 0.3 * component.memory_mb * needs + 0.4 * inside
