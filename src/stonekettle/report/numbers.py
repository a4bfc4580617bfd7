"""Numbers as they are shown: three significant figures, units always."""

from __future__ import annotations

import math

from stonekettle.core.load import UNITS, LoadKind


def figure(value: float) -> str:
    """Three significant figures; whole numbers from 100 on."""
    if not math.isfinite(value):
        return "–"
    if value == 0:
        return "0"
    digits = 2 - math.floor(math.log10(abs(value)))
    rounded = round(value, digits)
    return f"{rounded:,.0f}".replace(",", " ") if digits <= 0 else f"{rounded:.{digits}f}"


def seconds(value: float) -> str:
    """340 ms, 1.24 s, 3 min 20 s."""
    if not math.isfinite(value):
        return "–"
    if value < 0.9995:
        return f"{figure(value * 1000)} ms"
    if value < 120:
        return f"{figure(value)} s"
    minutes, rest = divmod(round(value), 60)
    return f"{minutes} min {rest} s" if rest else f"{minutes} min"


def rate(value: float) -> str:
    return f"{figure(value)} steps/s"


def percent(ratio: float) -> str:
    """94 %, 0.35 %."""
    value = ratio * 100
    return f"{value:.0f} %" if value >= 10 or value == 0 else f"{figure(value)} %"


def users(value: float) -> str:
    return f"{round(value):,}".replace(",", " ")


def amount(value: float) -> str:
    """A load without its unit: whole from 20 on, as users are; three figures below, unless it is whole."""
    return users(value) if value >= 20 or round(value, 2) == round(value) else figure(value)


def load(value: float, kind: LoadKind) -> str:
    """360 users, 12.5 arrivals/s."""
    return f"{users(value) if kind == 'users' else amount(value)} {UNITS[kind]}"


def counted(count: int, noun: str) -> str:
    """1 stall, 12 stalls."""
    return f"{users(count)} {noun}{'' if count == 1 else 's'}"
