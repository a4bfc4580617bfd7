"""The facts of runs: kept beside their findings, read without loading a run."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Iterable

from django.db import transaction

from stonekettle.core.facts import Fact
from stonekettle.report.spreadsheet import harmless
from stonekettle.server.runs.models import Run, RunFact

COLUMNS = ("level", "subject", "figure", "value", "standard_error", "n", "blocks")
BLOCK_DIGITS = 6


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
                blocks=[None if math.isnan(block) else round(block, BLOCK_DIGITS) for block in fact.blocks],
            )
            for fact in facts
        ),
        batch_size=2000,
    )


def as_csv(run: Run) -> str:
    """One line a fact; a whole run's have no level, and unknown is empty. Blocks stand apart by spaces."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(COLUMNS)
    for *fact, blocks in RunFact.objects.filter(run=run).values_list(*COLUMNS):
        told = " ".join("-" if block is None else f"{block:g}" for block in blocks)
        writer.writerow([*("" if cell is None else harmless(cell) for cell in fact), told])
    return out.getvalue()


def _known(value: float) -> float | None:
    return value if math.isfinite(value) else None
