"""Rows made to order: numbers in sequence, picks from a list, people's names, random numbers.

Each column draws from a stream of its own, told by the seed and the column's name: the same recipe
makes the same rows everywhere, another column changes none of those there are, and more rows leave the
first ones as they were.
"""

from __future__ import annotations

import math
import zlib
from collections.abc import Callable, Iterator, Sequence
from importlib import import_module
from typing import Literal

import numpy as np
from pydantic import Field, model_validator
from pydantic_core import PydanticCustomError

from stonekettle.plan.parts import Part

MAX_CELLS = 5_000_000
LANGUAGES = {
    "English": "en_GB",
    "German": "de_DE",
    "French": "fr_FR",
    "Spanish": "es_ES",
    "Swedish": "sv_SE",
    "Turkish": "tr_TR",
    "Arabic": "ar_AA",
    "Japanese": "ja_JP",
}
Cells = Callable[[int, int], list[str]]
"""The values of a column from one row to before another, written only when they are asked for."""
Language = Literal["English", "German", "French", "Spanish", "Swedish", "Turkish", "Arabic", "Japanese"]


def _fault(message: str, mend: str) -> PydanticCustomError:
    return PydanticCustomError("recipe", message, {"mend": mend})


class Counting(Part):
    """Numbers one after the other: ``prefix`` and the number, filled with zeros to ``digits``."""

    start: int = Field(default=1, alias="from")
    by: int = 1
    digits: int = Field(default=0, ge=0, le=18)
    prefix: str = Field(default="", max_length=80)

    def made(self, count: int, random: np.random.Generator) -> Cells:
        return lambda a, b: [f"{self.prefix}{self.start + self.by * i:0{self.digits}d}" for i in range(a, b)]


class Person(Part):
    """People's names: ``full``, ``given`` or ``family``, common ones of a language."""

    part: Literal["full", "given", "family"] = "full"
    language: Language = "English"

    def made(self, count: int, random: np.random.Generator) -> Cells:
        known = import_module(f"faker.providers.person.{LANGUAGES[self.language]}").Provider
        streams = random.spawn(2)
        given = _picked(list(known.first_names), count, streams[0])
        family = _picked(list(known.last_names), count, streams[1])
        if self.part != "full":
            return given if self.part == "given" else family
        first, second = (family, given) if self.language == "Japanese" else (given, family)
        return lambda a, b: [f"{x} {y}" for x, y in zip(first(a, b), second(a, b), strict=True)]


class Number(Part):
    """Random numbers: uniform from ``from`` to ``to``, or normal, exponential or log-normal with a
    ``mean`` and a standard ``deviation``."""

    law: Literal["uniform", "normal", "exponential", "lognormal"] = "uniform"
    low: float | None = Field(default=None, alias="from")
    high: float | None = Field(default=None, alias="to")
    mean: float | None = None
    deviation: float | None = Field(default=None, gt=0)
    decimals: int = Field(default=0, ge=0, le=9)

    @model_validator(mode="after")
    def _complete(self) -> Number:
        bounds = self.low is not None and self.high is not None
        if self.law == "uniform":
            if not bounds or self.mean is not None or self.deviation is not None:
                raise _fault("uniform numbers need their bounds and nothing else.", "Write 'from: 1' and 'to: 100'.")
            assert self.low is not None
            assert self.high is not None
            if self.low > self.high:
                raise _fault("the numbers end before they begin.", "Let 'from' be at most 'to'.")
            if self.decimals == 0 and math.ceil(self.low) > math.floor(self.high):
                raise _fault("there is no whole number between the bounds.", "Give decimals, or wider bounds.")
            return self
        if self.mean is None or self.low is not None or self.high is not None:
            raise _fault(f"{self.law} numbers need a mean, and no bounds.", "Write 'mean: 20'.")
        if self.law == "exponential":
            if self.deviation is not None:
                raise _fault("the deviation of exponential numbers is their mean.", "Leave the deviation out.")
        elif self.deviation is None:
            raise _fault(f"{self.law} numbers need a deviation.", "Write 'deviation: 5'.")
        if self.law != "normal" and self.mean <= 0:
            raise _fault(f"the mean of {self.law} numbers is above zero.", "Give a positive mean.")
        return self

    def made(self, count: int, random: np.random.Generator) -> Cells:
        drawn = np.round(self._drawn(count, random), self.decimals) + 0.0
        return lambda a, b: [f"{value:.{self.decimals}f}" for value in drawn[a:b].tolist()]

    def _drawn(self, count: int, random: np.random.Generator) -> np.ndarray:
        if self.law == "uniform":
            assert self.low is not None  # by _complete, as below
            assert self.high is not None
            if self.decimals == 0:
                return random.integers(math.ceil(self.low), math.floor(self.high), count, endpoint=True).astype(float)
            return random.uniform(self.low, self.high, count)
        assert self.mean is not None
        if self.law == "exponential":
            return random.exponential(self.mean, count)
        assert self.deviation is not None
        if self.law == "normal":
            return random.normal(self.mean, self.deviation, count)
        sigma = math.sqrt(math.log1p((self.deviation / self.mean) ** 2))
        return random.lognormal(math.log(self.mean) - sigma**2 / 2, sigma, count)


class Ingredient(Part):
    """One column: exactly one of ``sequence``, ``one_of`` (a random pick from a list), ``person`` and
    ``number``."""

    name: str = Field(pattern=r"^[A-Za-z_][A-Za-z0-9_]*$", max_length=80)
    sequence: Counting | None = None
    one_of: tuple[str, ...] | None = Field(default=None, min_length=1, max_length=10_000)
    person: Person | None = None
    number: Number | None = None

    @model_validator(mode="after")
    def _one_kind(self) -> Ingredient:
        if sum(kind is not None for kind in (self.sequence, self.one_of, self.person, self.number)) != 1:
            raise _fault(
                "a column needs exactly one of sequence, one_of, person and number.", "Say once what it holds."
            )
        return self

    def made(self, count: int, seed: int) -> Cells:
        random = np.random.default_rng([seed, zlib.crc32(self.name.encode())])
        if self.one_of is not None:
            return _picked(self.one_of, count, random)
        kind = self.sequence or self.person or self.number
        assert kind is not None  # by _one_kind
        return kind.made(count, random)


class Recipe(Part):
    """How many ``rows`` are made, of which ``columns``, from which ``seed``."""

    rows: int = Field(ge=1, le=1_000_000)
    seed: int = Field(default=1, ge=0, lt=2**32)
    columns: tuple[Ingredient, ...] = Field(min_length=1, max_length=100)

    @model_validator(mode="after")
    def _reasonable(self) -> Recipe:
        if len(set(self.names)) < len(self.names):
            raise _fault("two columns have the same name.", "Give each its own name.")
        if self.rows * len(self.columns) > MAX_CELLS:
            raise _fault("that would be over five million values.", "Make fewer rows or columns.")
        return self

    @property
    def names(self) -> tuple[str, ...]:
        return tuple(column.name for column in self.columns)

    def rows_made(self, count: int | None = None, start: int = 0) -> list[tuple[str, ...]]:
        """The rows from ``start`` on, or ``count`` of them."""
        end = self.rows if count is None else min(start + count, self.rows)
        return self._rows(end)(start, end)

    def pieces_made(self, rows: int) -> Iterator[list[tuple[str, ...]]]:
        """All rows, so many at a time."""
        made = self._rows(self.rows)
        for start in range(0, self.rows, rows):
            yield made(start, min(start + rows, self.rows))

    def _rows(self, count: int) -> Callable[[int, int], list[tuple[str, ...]]]:
        columns = [column.made(count, self.seed) for column in self.columns]
        return lambda a, b: list(zip(*(cells(a, b) for cells in columns), strict=True))


def _picked(among: Sequence[str], count: int, random: np.random.Generator) -> Cells:
    places = random.integers(0, len(among), count)
    return lambda a, b: [among[place] for place in places[a:b].tolist()]
