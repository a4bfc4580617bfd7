"""A run's story, findings, facts and plate as plain data, and back: what can still be read of it without its single
seconds and requests."""

from __future__ import annotations

import base64
from collections.abc import Mapping
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction

from stonekettle.engine.rollup import pack_histograms
from stonekettle.report import facts_file
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.runs import facts
from stonekettle.server.runs.models import Generator, MeterSecond, Run, RunNote, RunOrder, RunSecond, Transition

EVERY = 10
"""Its plate is kept in rows of so many seconds."""
_OF_RUN = ("state", "cause", "verdict", "plan_document", "target", "result", "analysis_version", "sequence")
_ALSO_OF_RUN = ("meter_columns", "meter_reports", "remark", "left_out")
_GENERATOR = ("name", "region", "state", "label")


def pack(run: Run) -> dict[str, Any]:
    """Everything of an ended run that :func:`unpack` needs; times are in seconds since its load began."""
    begun = run.begun_at or 0.0
    return {
        "run": {name: getattr(run, name) for name in (*_OF_RUN, *_ALSO_OF_RUN)},
        "length_s": run.ended_at.timestamp() - begun if run.ended_at else 0.0,
        "moves": [[one.state, one.cause, one.at.timestamp() - begun] for one in run.transitions.all()],
        "orders": list(run.orders.values("number", "order", "who", "why")),
        "notes": list(run.notes.values("at_s", "who", "text")),
        "generators": list(run.generators.values(*_GENERATOR)),
        "seconds": [
            [second, _text(figures), stalls]
            for second, figures, stalls in RunSecond.objects.filter(run=run, every=EVERY).values_list(
                "second", "figures", "told__stalls"
            )
        ],
        "meters": [
            [second, _text(values), events]
            for second, values, events in MeterSecond.objects.filter(run=run, every=EVERY).values_list(
                "second", "values", "events"
            )
        ],
        "facts": facts.as_csv(run),
    }


@transaction.atomic
def unpack(packed: Mapping[str, Any], experiment: Experiment, begun: datetime) -> Run:
    """The run as one that came with the product, begun at ``begun``. It stays however long its system keeps runs."""
    ended = begun + timedelta(seconds=packed["length_s"])
    run = Run.objects.create(
        **packed["run"],
        revision=experiment.current,
        system=experiment.system,
        simulated=True,
        seeded=True,
        kept=True,
        begun_at=begun.timestamp(),
        ended_at=ended,
        requests_gone_at=ended,
        seconds_gone_at=ended,
    )
    Run.objects.filter(pk=run.pk).update(queued_at=begun)
    run.queued_at = begun
    for state, cause, at_s in packed["moves"]:
        made = Transition.objects.create(run=run, state=state, cause=cause)
        Transition.objects.filter(pk=made.pk).update(at=begun + timedelta(seconds=at_s))
    RunOrder.objects.bulk_create(RunOrder(run=run, **order) for order in packed["orders"])
    RunNote.objects.bulk_create(RunNote(run=run, **note) for note in packed["notes"])
    Generator.objects.bulk_create(Generator(run=run, **one) for one in packed["generators"])
    nothing = pack_histograms({})
    RunSecond.objects.bulk_create(
        RunSecond(
            run=run,
            every=EVERY,
            second=second,
            sequence=run.sequence,
            figures=_bytes(figures),
            told={"stalls": stalls or []},
            histograms=nothing,
        )
        for second, figures, stalls in packed["seconds"]
    )
    MeterSecond.objects.bulk_create(
        MeterSecond(run=run, every=EVERY, second=second, sequence=run.sequence, values=_bytes(values), events=events)
        for second, values, events in packed["meters"]
    )
    facts.keep(run, facts_file.read(packed["facts"]))
    return run


def _text(packed: bytes | memoryview) -> str:
    return base64.b64encode(bytes(packed)).decode()


def _bytes(text: str) -> bytes:
    return base64.b64decode(text)
