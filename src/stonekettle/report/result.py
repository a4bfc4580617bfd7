"""The result of a run as open files: result.json, seconds.csv, requests.parquet."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Iterable
from pathlib import Path
from typing import Any, Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq
from pydantic import BaseModel, TypeAdapter, ValidationError

from stonekettle.core import analysis as core
from stonekettle.core.histogram import percentiles_s
from stonekettle.core.objectives import ComfortLimit
from stonekettle.core.run_data import RunData
from stonekettle.core.types import Reason
from stonekettle.engine.records import ERRORS, SCHEMA, WHOLE, trace_ids
from stonekettle.meters.samples import Readings
from stonekettle.plan import document, secrecy
from stonekettle.plan.models import Plan
from stonekettle.report import findings, processes, proof, sentences
from stonekettle.report.findings import Findings
from stonekettle.report.notes.note import Note
from stonekettle.report.proof import ProofResult
from stonekettle.report.spreadsheet import harmless

FORMAT_VERSION = 3
OFF_ORDER = 0.01
"""Share of the users ordered by which those present may differ."""
Outcome = Literal["objectives met", "objectives broken", "not trustworthy", "no answer"]


class Totals(BaseModel):
    """Sums over the whole run. In ``seconds_off_order`` the users present differed from those ordered by more than one
    and 1 %, at most by ``most_users_off``; of older runs neither is known. ``steps`` counts what people waited for,
    ``errors`` those of them that failed; ``requests`` the exchanges recorded, ``trial_requests`` those before load
    began. Runs from before the two were told apart have no ``steps``. ``received_bytes`` and ``sent_bytes`` are headers
    and bodies; of played and of older runs they are not known."""

    duration_s: float
    steps: int | None = None
    requests: int
    errors: int
    trial_requests: int
    errors_by_kind: dict[str, int]
    seconds_off_order: int | None = None
    most_users_off: float | None = None
    received_bytes: int | None = None
    sent_bytes: int | None = None


class Against(BaseModel):
    """What the comparison with the baseline ``run`` said when the run ended."""

    run: int
    verdict: str
    sentence: str


class SetAside(BaseModel):
    """Seconds of a run, from one to before another, that no finding rests on, and why people left them out."""

    from_s: int
    until_s: int
    why: str


class Result(BaseModel):
    """A run in one document; ``simulated`` ones were played, not measured, ``seeded`` ones by the practice twin before
    they came with the product. Times in seconds, rates per second, shares
    0..1; intervals have ``value``, ``low``, ``high`` and ``confidence``. NaN is null. Of runs that an analysis of long
    ago looked at only the notes are there, no ``findings``."""

    format: int = FORMAT_VERSION
    experiment: str
    simulated: bool = False
    seeded: bool = False
    state: str
    cause: str
    outcome: Outcome
    verdict: str
    totals: Totals
    findings: Findings | None
    notes: list[Note]
    proofs: list[ProofResult] = []
    against: Against | None = None
    plan: dict[str, Any]
    set_aside: list[SetAside] = []


def stored(document: dict[str, Any]) -> Result:
    """A result as it was kept; findings of another analysis than ours are left out of it."""
    try:
        return Result.model_validate(document)
    except ValidationError:
        return Result.model_validate({**document, "findings": None})


def json_schema() -> dict[str, Any]:
    """JSON Schema (2020-12) of result.json."""
    schema = TypeAdapter(Result).json_schema()
    found = findings.json_schema()
    definitions = {**schema.pop("$defs"), **found.pop("$defs"), "Findings": found}
    schema["properties"]["findings"] = {"anyOf": [{"$ref": "#/$defs/Findings"}, {"type": "null"}]}
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema, "$defs": definitions}


def outcome(analysis: core.Analysis) -> Outcome:
    """What the run says about its objectives."""
    comfort = analysis.comfort
    held = [found.kept for found in analysis.throughput if found.goal.decides]
    if isinstance(comfort, ComfortLimit):
        held.append(comfort.status == "holds")
    elif comfort.reason is not Reason.NO_OBJECTIVES:
        held = []
    if held:
        return "objectives met" if all(held) else "objectives broken"
    return "no answer" if analysis.trustworthy else "not trustworthy"


def build(
    plan: Plan,
    run: RunData,
    analysis: core.Analysis,
    readings: Readings,
    *,
    state: str,
    cause: str,
    trial_requests: int,
) -> Result:
    """The result of a run."""
    proofs = proof.compare(plan, run, readings)
    off = np.nan_to_num(np.abs(run.users - run.planned_users))
    taking = processes.busiest(readings, analysis.levels, run.seconds)
    notes = [*sentences.notes(analysis, plan, taking), *map(proof.note, proofs)]
    return Result(
        experiment=plan.name,
        state=state,
        cause=cause,
        outcome=outcome(analysis),
        verdict=sentences.verdict(analysis, plan),
        totals=Totals(
            duration_s=float(run.seconds),
            steps=int(run.completed.sum()),
            requests=int(run.requests.sum()),
            errors=int(run.errors.sum()),
            trial_requests=trial_requests,
            errors_by_kind={kind: int(counts.sum()) for kind, counts in run.error_kinds.items()},
            seconds_off_order=int((off > np.maximum(1.0, OFF_ORDER * run.planned_users)).sum()),
            most_users_off=round(float(off.max(initial=0.0)), 3),
            received_bytes=run.received_bytes or None,
            sent_bytes=run.sent_bytes or None,
        ),
        findings=analysis,
        notes=notes,
        proofs=list(proofs),
        plan=secrecy.in_plan(document.to_document(plan), secrecy.hide),
    )


def seconds_csv(run: RunData, markers: Iterable[tuple[float, str]] = ()) -> str:
    """One line per second: load, throughput, percentiles, errors, resources, and what somebody marked (moments in s)
    in a last column, if anybody did. Empty is unmeasured."""
    block = np.arange(run.seconds)
    histograms = run.histograms.blocks(block, run.seconds)
    percentiles = {p: percentiles_s(histograms, p) for p in (50, 95, 99)}
    arrivals: dict[str, Iterable[float]] = {}
    if run.arrivals is not None:
        names = ("arrivals_ordered", "arrivals", "turned_away")
        arrivals = dict(zip(names, (run.arrivals.ordered, run.arrivals.started, run.arrivals.turned_away), strict=True))
    columns: dict[str, Iterable[float]] = {
        "second": block,
        "planned_users": run.planned_users,
        "users": run.users,
        **arrivals,
        "in_flight": run.in_flight,
        "requests": run.requests.sum(axis=1),
        "started": run.started.sum(axis=1),
        "completed": run.completed.sum(axis=1),
        "errors": run.errors.sum(axis=1),
        **({"journeys": run.journeys} if run.journeys is not None else {}),
        **{f"p{p}_s": values for p, values in percentiles.items()},
        "overdue": run.overdue,
        "blind": run.blind,
        "stalled_s": run.stalled_s,
        "generator_cpu": run.reasons.cpu,
        "generator_run_queue": run.reasons.run_queue,
        "stolen": run.reasons.stolen,
        **{f"{r.key}.utilisation": r.utilisation for r in run.resources},
        **{f"{r.key}.waiting": r.waiting for r in run.resources if r.waiting is not None},
    }
    marked: dict[int, list[str]] = {}
    for at_s, text in markers:
        marked.setdefault(min(int(at_s), run.seconds - 1), []).append(text)
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(map(harmless, [*columns, *(["markers"] if marked else [])]))
    for second, row in enumerate(zip(*columns.values(), strict=True)):
        values = ["" if math.isnan(v) else f"{v:.10g}" for v in map(float, row)]
        if marked:
            values.append(harmless("; ".join(marked.get(second, []))))
        writer.writerow(values)
    return out.getvalue()


class RequestsFile:
    """Writes request records to a Parquet file (zstd) as they come, with names for numbers: one row for each exchange
    on the wire. ``seed`` is the run's, ``rows`` how many there are so far."""

    def __init__(self, target: Path | pa.NativeFile, plan: Plan, seed: int = 1) -> None:
        self.rows = 0
        self._seed = seed
        journeys = list(dict.fromkeys(journey.name for journey, _ in plan.steps))
        # A step belongs to one journey: its number tells that one's too.
        self._journey_of = np.array([journeys.index(journey.name) for journey, _ in plan.steps], dtype=np.int32)
        self._names = {
            "group": pa.array([group.name for group in plan.people]),
            "journey": pa.array(journeys),
            "step": pa.array([step.name for _, step in plan.steps]),
            "error": pa.array(ERRORS),
        }
        self._writer = pq.ParquetWriter(target, self.schema(), compression="zstd")

    @staticmethod
    def schema() -> pa.Schema:
        text = pa.dictionary(pa.int32(), pa.string())
        named = {"group": text, "step": text, "error": text}
        fields = [pa.field(f.name, named.get(f.name, f.type)) for f in SCHEMA]
        fields.insert(SCHEMA.names.index("step"), pa.field("journey", text))
        return pa.schema([*fields, pa.field("trace_id", pa.string())])

    def write(self, table: pa.Table) -> None:
        schema = self.schema()
        table = table.filter(pc.equal(pc.bit_wise_and(table["flags"], WHOLE), 0))
        self.rows += len(table)
        columns = []
        for name in schema.names:
            if name == "journey":
                column = pa.array(self._journey_of[table["step"].to_numpy()])
            elif name == "trace_id":
                column = self._traces(table)
            elif name in table.column_names:
                column = table[name].combine_chunks()
            else:  # recorded before this was
                columns.append(pa.nulls(len(table), schema.field(name).type))
                continue
            if name in self._names:
                column = pa.DictionaryArray.from_arrays(column.cast(pa.int32()), self._names[name])
            columns.append(column)
        self._writer.write_table(pa.Table.from_arrays(columns, schema=schema))

    def _traces(self, table: pa.Table) -> pa.Array:
        """The trace each request named; older runs named none."""
        if "visit" not in table.column_names:
            return pa.nulls(len(table), pa.string())
        return trace_ids(self._seed, *(table[name].to_numpy() for name in ("user", "visit", "step")))

    def close(self) -> None:
        self._writer.close()
