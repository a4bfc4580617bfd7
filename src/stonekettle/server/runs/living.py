"""What is known of a run so far: found anew whenever a level is over, and kept for its page."""

from __future__ import annotations

from typing import Any

from ninja import Schema

from stonekettle.core import analysis
from stonekettle.core.living import so_far
from stonekettle.plan import document
from stonekettle.report import living as words
from stonekettle.report.notes.note import Note
from stonekettle.server.runs import data
from stonekettle.server.runs.beside import Beside
from stonekettle.server.runs.models import Run

LATE_S = 4.0
"""So long after a level its last seconds are known, those of meters too."""


class LivingNote(Note):
    """A sentence of a run under way; ``settled`` once a further level has not changed it."""

    settled: bool


class LivingFindings(Schema):
    """What is known after so many ``levels`` that are over, the last of them at ``at_s``."""

    levels: int
    at_s: float
    notes: list[LivingNote]


def look(run: Run) -> LivingFindings | None:
    """What is known of a run by its levels that are over; None where none is."""
    ordered = run.ordered
    stored = data.seconds_stored(run)
    over = [level for level in ordered.levels() if level.end_s + LATE_S <= stored]
    before = LivingFindings.model_validate(run.living) if run.living else None
    if not over or (before is not None and before.at_s >= over[-1].end_s):
        return before
    plan = run.plan
    found = analysis.analyse(
        data.load(run).run,
        ordered,
        document.core_objectives(plan),
        plan.error_limit,
        data.requests(run),
        promised=document.throughput_goals(plan),
    )
    known = {note.kind: note.grade for note in before.notes} if before else {}
    notes = words.notes(so_far(found), found, plan)
    return LivingFindings(
        levels=len(found.levels),
        at_s=over[-1].end_s,
        notes=[LivingNote(**vars(note), settled=known.get(note.kind) == note.grade) for note in notes],
    )


class Watching(Beside):
    """Looks whether a level is over, and what that tells."""

    every_s = 2.0
    share = 0.1
    about = "the living findings"

    def look(self) -> None:
        run = Run.objects.get(pk=self.run_id)
        if run.begun_at is None:
            return
        found = look(run)
        told: dict[str, Any] | None = None if found is None else found.model_dump(mode="json")
        if told != run.living:
            Run.objects.filter(pk=self.run_id).update(living=told)
            Run.objects.goes_on(self.run_id)
