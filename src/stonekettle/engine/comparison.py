"""A recorded answer beside the received one, line by line, with what differs marked."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass
from difflib import SequenceMatcher
from typing import Literal

MAX_LINES = 400
AROUND = 2
"""So many equal lines are shown around a difference."""
MIN_SKIPPED = 4
MAX_PAIRS = 1_000_000
"""So many pairs of words are compared at most in one answer."""
_WORDS = re.compile(r"\w+|\s+|[^\w\s]")
_BETWEEN_TAGS = re.compile(r">\s*<")


@dataclass(frozen=True)
class Span:
    """A piece of a line."""

    text: str
    differs: bool


@dataclass(frozen=True)
class Row:
    """Two lines side by side; None where one side has none. ``skipped`` equal lines stand between
    this row and the one before."""

    kind: Literal["same", "changed", "only recorded", "only received"]
    recorded: tuple[Span, ...] | None
    received: tuple[Span, ...] | None
    skipped: int = 0


@dataclass(frozen=True)
class Comparison:
    """How a received answer differs from the recorded one. ``facts`` says it in words (status, type,
    size); ``cut`` tells that only the first lines are compared."""

    same: bool
    facts: tuple[str, ...]
    rows: tuple[Row, ...]
    cut: bool


def compare(recorded: tuple[int, str, str], received: tuple[int, str, str]) -> Comparison:
    """Compare (status, content type, body) of both answers."""
    facts = []
    if recorded[0] != received[0]:
        facts.append(f"Status {recorded[0]} was recorded, {received[0]} received.")
    types = [kind.partition(";")[0].strip().lower() for kind in (recorded[1], received[1])]
    if types[0] != types[1]:
        facts.append(f"{types[0] or 'No type'} was recorded, {types[1] or 'no type'} received.")
    left, right = lines_of(recorded[2]), lines_of(received[2])
    if left and not right:
        facts.append("The received answer has no body.")
    if left == right:
        return Comparison(not facts, tuple(facts), (), False)
    cut = len(left) > MAX_LINES or len(right) > MAX_LINES
    rows = tuple(_folded(_rows(left[:MAX_LINES], right[:MAX_LINES])))
    return Comparison(False, tuple(facts), rows, cut)


def lines_of(body: str) -> list[str]:
    """A body in lines that are worth comparing: JSON indented, a line for each tag of a page."""
    text = body.strip()
    if text[:1] in ("{", "["):
        try:
            return json.dumps(json.loads(text), indent=2, ensure_ascii=False).splitlines()
        except (ValueError, RecursionError):
            pass
    if text.startswith("<"):
        text = _BETWEEN_TAGS.sub(">\n<", text)
    return [line.strip() if text.startswith("<") else line.rstrip() for line in text.splitlines() if line.strip()]


def _rows(left: Sequence[str], right: Sequence[str]) -> list[Row]:
    rows: list[Row] = []
    marker = _Marker()
    for kind, a, b, c, d in SequenceMatcher(None, left, right, autojunk=False).get_opcodes():
        if kind == "equal":
            rows += [Row("same", _plain(line), _plain(line)) for line in left[a:b]]
            continue
        for place in range(max(b - a, d - c)):
            old = left[a + place] if a + place < b else None
            new = right[c + place] if c + place < d else None
            if old is not None and new is not None:
                rows.append(Row("changed", *marker.marked(old, new)))
            elif old is not None:
                rows.append(Row("only recorded", (Span(old, True),), None))
            elif new is not None:
                rows.append(Row("only received", None, (Span(new, True),)))
    return rows


class _Marker:
    """Marks what differs within lines, as finely as its work allows: comparing words takes time with the
    product of their numbers, so what is left of it once it is used up is marked between equal ends only."""

    def __init__(self) -> None:
        self._pairs_left = MAX_PAIRS

    def marked(self, old: str, new: str) -> tuple[tuple[Span, ...], tuple[Span, ...]]:
        """Both lines in pieces, those words marked that the other does not have."""
        left, right = _WORDS.findall(old), _WORDS.findall(new)
        head = _alike(left, right)
        tail = _alike(left[head:][::-1], right[head:][::-1])
        inner = left[head : len(left) - tail], right[head : len(right) - tail]
        pairs = len(inner[0]) * len(inner[1])
        if pairs <= self._pairs_left:
            self._pairs_left -= pairs
            codes = SequenceMatcher(None, *inner, autojunk=False).get_opcodes()
        else:
            codes = [("replace", 0, len(inner[0]), 0, len(inner[1]))]
        both: tuple[list[Span], list[Span]] = ([], [])
        ranges = [[(a, b) for _, a, b, _, _ in codes], [(c, d) for _, _, _, c, d in codes]]
        for spans, words, middle, own in zip(both, (left, right), inner, ranges, strict=True):
            pieces = [(words[:head], False)]
            pieces += [(middle[a:b], code[0] != "equal") for (a, b), code in zip(own, codes, strict=True)]
            pieces.append((words[len(words) - tail :], False))
            for piece, differs in pieces:
                if spans and spans[-1].differs == differs:
                    spans[-1] = Span(spans[-1].text + "".join(piece), differs)
                elif piece:
                    spans.append(Span("".join(piece), differs))
        return tuple(both[0]), tuple(both[1])


def _alike(left: Sequence[str], right: Sequence[str]) -> int:
    """With how many equal words both begin."""
    return next(
        (i for i, pair in enumerate(zip(left, right, strict=False)) if pair[0] != pair[1]), min(len(left), len(right))
    )


def _plain(line: str) -> tuple[Span, ...]:
    return (Span(line, False),)


def _folded(rows: Sequence[Row]) -> list[Row]:
    """The rows without long stretches of equal lines."""
    near = [any(other.kind != "same" for other in rows[max(0, i - AROUND) : i + AROUND + 1]) for i in range(len(rows))]
    shown: list[Row] = []
    start = 0
    while start < len(rows):
        end = start
        while end < len(rows) and not near[end]:
            end += 1
        if end - start < MIN_SKIPPED:
            shown += rows[start:end]
            skipped = 0
        else:
            skipped = end - start
        if end < len(rows):
            row = rows[end]
            shown.append(Row(row.kind, row.recorded, row.received, skipped))
        start = end + 1
    return shown
