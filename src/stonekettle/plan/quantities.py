"""Durations, shares and amounts of memory as people write them: "30 s", "5 %", "16 GB"."""

from __future__ import annotations

import re
from typing import Annotated

from pydantic import BeforeValidator, PlainSerializer, WithJsonSchema
from pydantic_core import PydanticCustomError

SECONDS_OF = {"ms": 0.001, "s": 1.0, "min": 60.0, "h": 3600.0}
BYTES_OF = {
    "B": 1,
    "kB": 1e3,
    "MB": 1e6,
    "GB": 1e9,
    "TB": 1e12,
    "KiB": 2**10,
    "MiB": 2**20,
    "GiB": 2**30,
    "TiB": 2**40,
}
LONGEST_S = 31 * 24 * 3600.0
MOST_BYTES = 1e18
_PARTS = re.compile(r"\s*([0-9]+(?:\.[0-9]+)?)\s*([^\s0-9]*)\s*")


def parse_duration(value: object) -> float:
    """Seconds from a number with a unit. A bare number is refused: its unit would be a guess."""
    if isinstance(value, str):
        match = _PARTS.fullmatch(value)
        if match and match[2] in SECONDS_OF:
            seconds = float(match[1]) * SECONDS_OF[match[2]]
            if seconds <= LONGEST_S:
                return seconds
            raise PydanticCustomError(
                "duration_long",
                "{text} is longer than 31 days.",
                {"text": _shown(value), "mend": "Use at most 744 h."},
            )
        if match and match[2]:
            raise PydanticCustomError(
                "duration_unit",
                "{text} has the unit '{unit}', which is not a unit of time here.",
                {"text": _shown(value), "unit": match[2], "mend": "Use ms, s, min or h, for example '30 s'."},
            )
    raise PydanticCustomError(
        "duration",
        "{text} is not a duration.",
        {"text": repr(value), "mend": "Write a number and a unit (ms, s, min, h), for example '30 s'."},
    )


def _shown(value: str) -> str:
    return repr(value if len(value) <= 60 else f"{value[:57]}…")


def format_duration(seconds: float) -> str:
    """The shortest text :func:`parse_duration` reads back as ``seconds``."""
    for unit in ("h", "min", "s"):
        amount = seconds / SECONDS_OF[unit]
        if amount >= 1 and amount == round(amount, 2):
            return f"{_digits(amount)} {unit}"
    return f"{_digits(seconds * 1000)} ms" if seconds else "0 s"


def _digits(amount: float) -> str:
    """Digits without an exponent or trailing zeros."""
    return f"{amount:.6f}".rstrip("0").rstrip(".")


def parse_share(value: object) -> float:
    """A ratio 0..1 from "5 %"."""
    if isinstance(value, str):
        match = _PARTS.fullmatch(value)
        if match and match[2] == "%" and 0 <= float(match[1]) <= 100:
            return float(match[1]) / 100
    raise PydanticCustomError(
        "share",
        "{text} is not a share.",
        {"text": repr(value), "mend": "Write a percentage from 0 % to 100 %, for example '1 %'."},
    )


def parse_bytes(value: object) -> float:
    """Bytes from "16 GB" or "512 MiB"."""
    if isinstance(value, str):
        match = _PARTS.fullmatch(value)
        if match and match[2] in BYTES_OF and 0 < (amount := float(match[1]) * BYTES_OF[match[2]]) <= MOST_BYTES:
            return amount
    raise PydanticCustomError(
        "bytes",
        "{text} is not an amount of memory.",
        {"text": repr(value), "mend": "Write a number and a unit (MB, GB, GiB …), for example '16 GB'."},
    )


def format_bytes(amount: float) -> str:
    """A text :func:`parse_bytes` reads back: decimal units unless only binary ones come out short."""
    for units in (("TB", "GB", "MB", "kB"), ("TiB", "GiB", "MiB", "KiB")):
        for unit in units:
            number = amount / BYTES_OF[unit]
            if number >= 1 and number == round(number, 2):
                return f"{_digits(number)} {unit}"
    return f"{_digits(amount)} B"


_RATE_OF = {"/s": 1.0, "/min": 1 / 60, "/h": 1 / 3600}
_BITS_OF = {"kbit/s": 1e3, "Mbit/s": 1e6, "Gbit/s": 1e9}


def parse_rate(value: object) -> float:
    """A rate per second from a number, or from "20 /s", "300 /min" and the like."""
    if isinstance(value, int | float) and not isinstance(value, bool):
        return float(value)
    match = _PARTS.fullmatch(value) if isinstance(value, str) else None
    if match and match[2] in ("", *_RATE_OF):
        return float(match[1]) * _RATE_OF.get(match[2], 1.0)
    raise PydanticCustomError(
        "rate",
        "{text} is not a rate.",
        {"text": repr(value)[:80], "mend": "Write so many per second, for example 20, or '300 /min'."},
    )


def parse_bit_rate(value: object) -> float:
    """Bits per second from "8 Mbit/s"."""
    match = _PARTS.fullmatch(value) if isinstance(value, str) else None
    if match and match[2] in _BITS_OF:
        return float(match[1]) * _BITS_OF[match[2]]
    raise PydanticCustomError(
        "bit_rate",
        "{text} is not a speed of a line.",
        {
            "text": repr(value)[:80],
            "mend": "Write a number and a unit (kbit/s, Mbit/s, Gbit/s), for example '8 Mbit/s'.",
        },
    )


def format_bit_rate(bits: float) -> str:
    """A text :func:`parse_bit_rate` reads back."""
    unit = next((unit for unit in ("Gbit/s", "Mbit/s") if bits >= _BITS_OF[unit]), "kbit/s")
    return f"{_digits(bits / _BITS_OF[unit])} {unit}"


Duration = Annotated[
    float,
    BeforeValidator(parse_duration),
    PlainSerializer(format_duration, return_type=str),
    WithJsonSchema({"type": "string", "pattern": r"^[0-9.]+ ?(ms|s|min|h)$", "examples": ["30 s"]}),
]
"""Seconds, written with a unit."""

Share = Annotated[
    float,
    BeforeValidator(parse_share),
    PlainSerializer(lambda ratio: f"{ratio * 100:g} %", return_type=str),
    WithJsonSchema({"type": "string", "pattern": r"^[0-9.]+ ?%$", "examples": ["1 %"]}),
]
"""A ratio 0..1, written as a percentage."""

Bytes = Annotated[
    float,
    BeforeValidator(parse_bytes),
    PlainSerializer(format_bytes, return_type=str),
    WithJsonSchema({"type": "string", "pattern": r"^[0-9.]+ ?([kMGT]?B|[KMGT]iB)$", "examples": ["16 GB"]}),
]
"""An amount of memory in bytes, written with a unit."""

BitRate = Annotated[
    float,
    BeforeValidator(parse_bit_rate),
    PlainSerializer(format_bit_rate, return_type=str),
    WithJsonSchema({"type": "string", "pattern": r"^[0-9.]+ ?[kMG]bit/s$", "examples": ["8 Mbit/s"]}),
]
"""Bits per second, written with a unit."""
