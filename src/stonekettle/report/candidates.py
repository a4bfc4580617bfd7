"""Candidates that took turns, in words: each against the first one, block by block."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from stonekettle.core import comparing
from stonekettle.core.differences import Comparison, Verdict
from stonekettle.core.facts import Fact
from stonekettle.core.pooling import compare_blocks
from stonekettle.core.settling import Settling, settle
from stonekettle.plan.candidates import Candidates
from stonekettle.report import comparing as words
from stonekettle.report import numbers as n
from stonekettle.report.comparing import Apart, Side

LEAST_BLOCKS = 2


@dataclass(frozen=True)
class Told:
    """A turn that counts: of which candidate, with which value of the second factor ("" without one), in which block;
    and what its run found at its levels."""

    block: int
    candidate: str
    value: str
    side: Side
    levels: Sequence[Fact]


@dataclass(frozen=True)
class Between:
    """A candidate compared with the first one over ``blocks``; ``kept`` are the facts of both without the beginnings of
    turns."""

    candidate: str
    against: str
    value: str
    blocks: Sequence[int]
    found: Comparison
    settling: Settling
    kept: Sequence[Sequence[Sequence[Fact]]]
    firsts: Sequence[Side]
    seconds: Sequence[Side]

    @property
    def verdict(self) -> Verdict:
        return words.verdict(self.found, self.firsts, self.seconds)

    @property
    def apart(self) -> tuple[Apart, ...]:
        """In what the two differ, by a turn of each."""
        return words.apart(self.firsts[:1], self.seconds[:1])

    @property
    def sentence(self) -> str:
        return words.sentence(self.found, self.firsts, self.seconds, n.counted(len(self.blocks), "block"))


def compare(candidates: Candidates, told: Sequence[Told]) -> list[Between]:
    """Every candidate but the first against it, for each value of the second factor: where both had two turns and
    more that count, under a load that was the same."""
    first, *others = (one.name for one in candidates.each)
    pairs = [(other, value.name if value else "") for other in others for value in candidates.values]
    found = (_between(candidates, first, other, value, told, len(pairs)) for other, value in pairs)
    return [one for one in found if one is not None]


def _between(
    candidates: Candidates, first: str, other: str, value: str, told: Sequence[Told], comparisons: int
) -> Between | None:
    by_block = [
        {one.block: one for one in told if (one.candidate, one.value) == (name, value)} for name in (first, other)
    ]
    blocks = sorted(by_block[0].keys() & by_block[1].keys())
    if len(blocks) < LEAST_BLOCKS:
        return None
    before, after = ([own[block] for block in blocks] for own in by_block)
    settling, kept = settle([[one.levels for one in side] for side in (before, after)])
    full = comparing.full_from(before[0].side.analysis, after[0].side.analysis)
    found = compare_blocks(*kept, matters=candidates.matters, full_from=full, comparisons=comparisons)
    if not found.differences:
        return None
    sides = ([one.side for one in side] for side in (before, after))
    return Between(other, first, value, blocks, found, settling, kept, *sides)


def sentence(between: Sequence[Between], *, going: bool) -> str:
    """The answer of all turns, or why there is none yet."""
    if not between:
        if going:
            return "No answer yet: it takes two whole blocks."
        return "No answer: there are not two blocks in which every turn counts."
    if len(between) == 1:
        only = between[0]
        return f"{only.candidate} against {only.against}: {only.sentence}"
    told = [f"{one.candidate}{f' ({one.value})' if one.value else ''} {_word(one.verdict)}" for one in between]
    return f"Against {between[0].against}: {'; '.join(told)}."


def _word(verdict: Verdict) -> str:
    return "shows no difference" if verdict == "no difference" else f"is {verdict}"
