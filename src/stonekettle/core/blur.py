"""What did measuring do to each figure?

Two things shift the load that the system felt: users overdue (due, or answered, and not got round to) and
users blind (answered perhaps, while the generator had not looked). Both are exactly extra think time,
so the load lies in [N − O − B, N − O]; each response time lies in [total − blind, total]. Claims are
made at both ends, and withheld only where the ends differ by more than they can bear. What the
generator's cpu, its place in the run queue and the host did are reasons, never verdicts.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from stonekettle.core.levels import Level
from stonekettle.core.run_data import RunData
from stonekettle.core.types import FloatArray

SHIFT_TOLD = 0.01
BLUR_TOLD = 0.05
"""Shares of the load and of a 95th percentile beyond which a run is called blurred."""

Verdict = Literal["sound", "blurred", "not trustworthy"]


@dataclass(frozen=True)
class Measuring:
    """What the generators did to a run, and why.

    ``shift`` is the greatest share of a level's users overdue or blind; ``p95_blur_s`` the widest
    bracket of a level's 95th percentile; ``stalls`` of together ``stalled_s`` and at most
    ``longest_stall_s`` took ``cut_share`` of the response times with them. ``withheld`` names the claims
    that could not bear it. Reasons: ``cpu`` (95th percentile over the seconds) and the means of
    ``run_queue``, ``stolen`` and ``switches`` (see :class:`Reasons`).
    """

    verdict: Verdict
    withheld: tuple[str, ...]
    seconds: int
    gap_seconds: int
    shift: float
    p95_blur_s: float
    stalls: int
    stalled_s: float
    longest_stall_s: float
    cut_share: float
    cpu: float
    run_queue: float
    stolen: float
    switches: float


def assess(run: RunData, levels: Sequence[Level], withheld: Sequence[str]) -> Measuring:
    """What was done to ``run``, over the seconds with planned load; ``levels`` may be empty."""
    loaded = (np.nan_to_num(run.users) > 0) & (run.planned_users > 0) & run.counting
    lengths = run.stalls[:, 1] - run.stalls[:, 0]
    shift = shortfall(run, levels)
    widths = [(lv.p95_s - lv.p95_low_s, lv.p95_s) for lv in levels if np.isfinite(lv.p95_s)]
    cut = 0 if run.kept is None else int((run.times.count - run.kept.count).sum())
    told = shift > SHIFT_TOLD or cut > 0 or any(width > BLUR_TOLD * p95 for width, p95 in widths)
    verdict: Verdict = "not trustworthy" if withheld else "blurred" if told else "sound"
    reasons = run.reasons
    return Measuring(
        verdict=verdict,
        withheld=tuple(withheld),
        seconds=int(loaded.sum()),
        gap_seconds=int(np.isnan(run.users).sum()),
        shift=shift,
        p95_blur_s=max((width for width, _ in widths), default=0.0),
        stalls=len(lengths),
        stalled_s=float(lengths.sum()),
        longest_stall_s=float(lengths.max(initial=0.0)),
        cut_share=cut / max(1, int(run.succeeded.sum())),
        cpu=float(np.percentile(reasons.cpu[loaded], 95)) if loaded.any() else 0.0,
        run_queue=_mean(reasons.run_queue[loaded]),
        stolen=_mean(reasons.stolen[loaded]),
        switches=_mean(reasons.switches[loaded]),
    )


def shortfall(run: RunData, levels: Sequence[Level]) -> float:
    """The greatest share by which the load delivered may have fallen short of that present: of a level,
    or of the whole run where it has none."""
    if levels:
        return max(lv.shift for lv in levels)
    users = float(np.nansum(run.users))
    return float(np.nansum(run.overdue + run.blind)) / users if users > 0 else 0.0


def _mean(values: FloatArray) -> float:
    known = values[np.isfinite(values)]
    return float(known.mean()) if known.size else 0.0
