"""What was each of many users doing, moment by moment: waiting for an answer, or not, and where did a step fail?"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from stonekettle.core.types import FloatArray, IntArray

FAILED = 10
"""The mark of a bin in which a step failed; 0 to 9 are tenths of it spent waiting, rounded up to one where any was."""


@dataclass(frozen=True)
class Weave:
    """``users`` in order of their numbers, shape (u,), and their bins, shape (u, bins)."""

    users: IntArray
    cells: IntArray


def weave(
    users: IntArray, start_s: FloatArray, end_s: FloatArray, failed: IntArray, *, since: float, until: float, bins: int
) -> Weave:
    """The steps of ``users`` (who, from when to when, failed or not, each of shape (n,)) as bins of the time from
    ``since`` to before ``until`` (s). Who did nothing in it is left out."""
    inside = (end_s > since) & (start_s < until)
    who, place = np.unique(users[inside], return_inverse=True)
    scale = bins / (until - since)
    begin = np.clip((start_s[inside] - since) * scale, 0, bins)
    end = np.clip((end_s[inside] - since) * scale, 0, bins)
    first = np.minimum(begin.astype(np.int64), bins - 1)
    last = np.minimum(end.astype(np.int64), bins - 1)
    part = np.zeros((who.size, bins))
    whole = np.zeros((who.size, bins + 1))
    one = first == last
    np.add.at(part, (place[one], first[one]), (end - begin)[one])
    more = ~one
    np.add.at(part, (place[more], first[more]), (first + 1 - begin)[more])
    np.add.at(part, (place[more], last[more]), (end - last)[more])
    np.add.at(whole, (place[more], first[more] + 1), 1.0)
    np.add.at(whole, (place[more], last[more]), -1.0)
    waited = np.minimum(1.0, part + np.cumsum(whole, axis=1)[:, :bins])
    cells = np.where(waited > 0, np.clip(np.ceil(waited * 9), 1, 9), 0).astype(np.int64)
    bad = (failed[inside] > 0) & (end_s[inside] < until)
    cells[place[bad], last[bad]] = FAILED
    return Weave(who, cells)
