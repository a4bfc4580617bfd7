"""The facts of runs: kept beside their findings, read without loading a run."""

from __future__ import annotations

import json
import math
from collections.abc import Iterable, Iterator

from django.db import transaction
from django.db.models import TextField
from django.db.models.functions import Cast

from stonekettle.core.facts import Fact
from stonekettle.report import facts_file
from stonekettle.server.runs.models import Run, RunFact


@transaction.atomic
def keep(run: Run, facts: Iterable[Fact]) -> None:
    """These are the facts of the run, and no others."""
    RunFact.objects.filter(run=run).delete()
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
                blocks=[None if math.isnan(block) else round(block, facts_file.BLOCK_DIGITS) for block in fact.blocks],
            )
            for fact in facts
        ),
        batch_size=2000,
    )


def of(run: Run, *, levels_alone: bool = False) -> Iterator[Fact]:
    """The run's facts as the core has them."""
    rows = RunFact.objects.filter(run=run)
    if levels_alone:
        rows = rows.filter(level__isnull=False)
    told = list(rows.annotate(text=Cast("blocks", TextField())).values_list(*facts_file.COLUMNS[:-1], "text"))
    # Tens of thousands of short lists are read in one go.
    blocks = json.loads(f"[{','.join(row[-1] for row in told)}]".replace("null", "NaN"))
    for (level, subject, figure, value, error, n, _), own in zip(told, blocks, strict=True):
        yield Fact(level, subject, figure, _read(value), _read(error), n, tuple(own))


def as_csv(run: Run) -> str:
    """All of them as a file (:mod:`report.facts_file`)."""
    return facts_file.write(of(run))


def _read(value: float | None) -> float:
    return math.nan if value is None else value


def _known(value: float) -> float | None:
    return value if math.isfinite(value) else None
