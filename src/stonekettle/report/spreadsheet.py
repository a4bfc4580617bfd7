"""CSV that spreadsheets open without running anything."""

from __future__ import annotations

from typing import TypeVar

T = TypeVar("T")
FORMULA = ("=", "+", "-", "@", "\t", "\r", "\n")
"""Beginnings of a cell that programs take for a formula."""


def harmless(value: T) -> T | str:
    """The value of a cell; a text that would be taken for a formula is quoted, so that it is shown instead."""
    return f"'{value}" if isinstance(value, str) and value.startswith(FORMULA) else value
