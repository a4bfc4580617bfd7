"""The facts of runs: kept beside their findings, read without loading a run.

Figures are rows, to be asked for by the database; their block statistics, tens of thousands of short lists, are packed
for each run in the order of its rows.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence

import numpy as np
from django.db import transaction

from stonekettle.core.facts import Fact
from stonekettle.report import facts_file
from stonekettle.server.runs.models import Run, RunBlocks, RunFact

COLUMNS = ("level", "subject", "figure", "value", "standard_error", "n")


@transaction.atomic
def keep(run: Run, facts: Iterable[Fact]) -> None:
    """These are the facts of the run, and no others."""
    RunFact.objects.filter(run=run).delete()
    told = list(facts)
    RunFact.objects.bulk_create(
        (
            RunFact(
                run=run,
                level=fact.level,
                subject=fact.subject,
                figure=fact.figure,
                value=_known(fact.value),
                standard_error=_known(fact.standard_error),
                n=fact.n,
            )
            for fact in told
        ),
        batch_size=2000,
    )
    lengths, blocks = packed([fact.blocks for fact in told])
    RunBlocks.objects.update_or_create(run=run, defaults={"lengths": lengths, "blocks": blocks})


def packed(lists: Sequence[Sequence[float]]) -> tuple[bytes, bytes]:
    """How long each list is, and all their values one after the other; NaN is unknown."""
    lengths = np.array([len(one) for one in lists], dtype="<u4")
    values = np.fromiter((value for one in lists for value in one), dtype="<f4", count=int(lengths.sum()))
    return lengths.tobytes(), values.tobytes()


def of(run: Run, *, levels_alone: bool = False) -> list[Fact]:
    """The run's facts as the core has them."""
    rows = RunFact.objects.filter(run=run).values_list(*COLUMNS)
    unknown = math.nan
    return [
        Fact(
            level,
            subject,
            figure,
            unknown if value is None else value,
            unknown if error is None else error,
            n,
            blocks,
        )
        for (level, subject, figure, value, error, n), blocks in zip(rows, _blocks(run), strict=True)
        if level is not None or not levels_alone
    ]


def _blocks(run: Run) -> list[tuple[float, ...]]:
    kept = RunBlocks.objects.filter(run=run).first()
    if kept is None:
        return []
    values = tuple(np.frombuffer(kept.blocks, dtype="<f4").astype(np.float64).tolist())
    ends = np.cumsum(np.frombuffer(kept.lengths, dtype="<u4")).tolist()
    return [values[begin:end] for begin, end in zip([0, *ends], ends, strict=False)]


def as_csv(run: Run) -> str:
    """All of them as a file (:mod:`report.facts_file`)."""
    return facts_file.write(of(run))


def _known(value: float) -> float | None:
    return value if math.isfinite(value) else None
