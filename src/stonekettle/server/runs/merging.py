"""What generators told becomes the run's seconds: put together once, whenever it arrives, and kept ready to be read.

Everything written raises the run's sequence number, in the same transaction and under the lock of the run's row: so
numbers become visible in order, and who has read up to one finds what is new by it.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Iterable, Mapping

from django.db import connection, transaction
from django.db.models import Max, QuerySet

from stonekettle.engine.rollup import pack_histograms, unpack_histograms
from stonekettle.engine.seconds import WIDER, Told, over_time, together
from stonekettle.server.problems import fault
from stonekettle.server.runs import bundling, metering
from stonekettle.server.runs.keeping import AWAY
from stonekettle.server.runs.models import Generator, GeneratorSecond, Run, RunSecond

LOOK_S = 0.2
DUE_S, CLOSE_S, LATE_S = 0.7, 0.05, 2.0
"""A second is told each second: so long after one the next is looked for closely, and no longer than so long."""
METERS_S = 0.5
"""So often the meters' scrapes are read; they tell once a second at most."""
LATEST_S = 3
"""A second waits no longer than this for a generator that others are ahead of."""
AT_ONCE = 60


def merge(run_id: int, *, everything: bool = True) -> int:
    """Merge what generators told and is not merged yet; how many seconds of theirs. Unless ``everything``, a second
    that another generator has yet to tell waits for it."""
    if not _waiting(run_id).exists():
        return 0
    merged = 0
    while count := _merge_some(run_id, everything):
        merged += count
    return merged


def _waiting(run_id: int) -> QuerySet[GeneratorSecond]:
    return GeneratorSecond.objects.filter(generator__run_id=run_id, merged=False)


def _merge_some(run_id: int, everything: bool) -> int:
    waiting = _waiting(run_id)
    if not everything:
        waiting = waiting.filter(second__lte=_told_by_all(run_id))
    with transaction.atomic():
        run = Run.objects.select_for_update(of=("self",)).get(pk=run_id)
        rows = list(waiting.order_by("second").values_list("pk", "rollup", "histograms")[:AT_ONCE])
        if not rows:
            return 0
        parts: dict[int, list[Told]] = {}
        for _, rollup, histograms in rows:
            told = Told(rollup, unpack_histograms(bytes(histograms)))
            parts.setdefault(told.second, []).append(told)
        sequence = run.sequence + 1
        writer = _Writer(run, sequence, max(parts) + 1)
        for second, told in writer.stored(1, parts).items():
            parts[second].append(told)
        found = {second: together(told) for second, told in parts.items()}
        writer.write(1, found)
        for narrow, wide in WIDER.items():
            starts = sorted({second // wide * wide for second in found})
            inside = [start + i for start in starts for i in range(0, wide, narrow)]
            there = writer.stored(narrow, inside)
            found = {
                start: over_time([there[s] for s in range(start, start + wide, narrow) if s in there], start)
                for start in starts
            }
            writer.write(wide, found)
        Run.objects.filter(pk=run_id).update(sequence=sequence)
        GeneratorSecond.objects.filter(pk__in=[pk for pk, _, _ in rows]).update(merged=True)
    return len(rows)


def _told_by_all(run_id: int) -> int:
    """The last second that every generator has told, or so long ago that the others are not waited for."""
    last = [
        -1 if one is None else one
        for one in Generator.objects.filter(run_id=run_id, state=Generator.State.READY)
        .annotate(last=Max("seconds__second"))
        .values_list("last", flat=True)
    ]
    newest = GeneratorSecond.objects.filter(generator__run_id=run_id).aggregate(last=Max("second"))["last"]
    return max(min(last, default=newest or 0), (newest or 0) - LATEST_S)


class _Writer:
    """Writes rows of one run under one number of its sequence."""

    def __init__(self, run: Run, sequence: int, seconds: int) -> None:
        self._run, self._sequence = run, sequence
        self._layout, ordered = run.layout, run.ordered
        self._users = ordered.mean_users(seconds)
        self._by_group = [ordered.mean_amounts(name, seconds) for name in self._layout.groups]
        self._arriving = [i for i, name in enumerate(self._layout.groups) if name in ordered.arrivals]

    def stored(self, every: int, seconds: Iterable[int]) -> dict[int, Told]:
        rows = RunSecond.objects.filter(run=self._run, every=every, second__in=list(seconds))
        return {
            second: Told(told, unpack_histograms(bytes(histograms)))
            for second, told, histograms in rows.values_list("second", "told", "histograms")
        }

    def write(self, every: int, found: Mapping[int, Told]) -> None:
        rows = [
            RunSecond(
                run=self._run,
                every=every,
                second=second,
                sequence=self._sequence,
                figures=self._figures(told, every),
                told=told.rollup,
                histograms=pack_histograms(told.histograms),
            )
            for second, told in found.items()
        ]
        RunSecond.objects.bulk_create(
            rows,
            update_conflicts=True,
            unique_fields=["run", "every", "second"],
            update_fields=["sequence", "figures", "told", "histograms"],
        )

    def _figures(self, told: Told, every: int) -> bytes:
        inside = slice(told.second, told.second + every)
        visitors = sum(told.rollup["present"][i] for i in self._arriving) if told.rollup["present"] else 0.0
        ordered = float(self._users[inside].mean()) + visitors
        return self._layout.row(told, ordered, [float(series[inside].mean()) for series in self._by_group])


class Merging:
    """Merges the seconds of a run under way, as soon as all have told one, on a thread of its own."""

    def __init__(self, run_id: int) -> None:
        self.run_id = run_id
        self._over = threading.Event()
        self._compacted_at = self._metered_at = self._merged_at = time.monotonic()
        self._meters = metering.Reader(run_id)
        self._thread = threading.Thread(target=self._run, name="merging", daemon=True)

    def __enter__(self) -> Merging:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._over.set()
        self._thread.join(LOOK_S + 30)

    def _run(self) -> None:
        try:
            while not self._over.wait(CLOSE_S if self._is_due() else LOOK_S):
                try:
                    if merge(self.run_id, everything=False):
                        self._merged_at = time.monotonic()
                    self._look_at_meters()
                    self._compact()
                except AWAY:
                    connection.close()  # what was told waits in the database, or on its way there
                except Exception as error:
                    # The page stands still, the run does not: what is missing is made up for at its end.
                    fault(f"seconds of run {self.run_id}", error)
        finally:
            connection.close()

    def _is_due(self) -> bool:
        return DUE_S < time.monotonic() - self._merged_at < LATE_S

    def _look_at_meters(self) -> None:
        if time.monotonic() - self._metered_at > METERS_S:
            self._metered_at = time.monotonic()
            self._meters.look()

    def _compact(self) -> None:
        if time.monotonic() - self._compacted_at > bundling.MARGIN_S:
            self._compacted_at = time.monotonic()
            bundling.compact(self.run_id, everything=False)
