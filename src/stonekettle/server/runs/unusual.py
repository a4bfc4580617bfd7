"""What is unusual in a run under way: its seconds and those of its meters, heard in blocks."""

from __future__ import annotations

from collections import defaultdict, deque
from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from stonekettle.core.anomalies import BLOCK_S, Anomalies, block_of, mostly_of
from stonekettle.core.notices import Notice
from stonekettle.core.types import FloatArray
from stonekettle.engine.seconds import Layout
from stonekettle.server.runs import metering
from stonekettle.server.runs.models import MeterSecond, Run, RunSecond

SETTLED_S = 1
"""So long after a block its meters have told all of it, if they are quick; of slow ones that may be
:data:`metering.AGAIN_S`."""
MOST_BLOCKS = 60
"""So many are heard at one look: after a restart all of a run are to be heard again."""


class Unusual:
    """The anomalies of a run, heard block by block as its meters have told all of one."""

    def __init__(self, layout: Layout) -> None:
        self._layout = layout
        numbers = {one.id: number for number, one in enumerate(layout.selections)}
        self._done = [layout.requests(numbers[key], "completed") for key in layout.step_ids.values()]
        self._load = {
            "failed": layout.requests(0, "errors"),
            "begun": layout.requests(0, "started"),
            "users": layout.load("users"),
            "in_flight": layout.load("in_flight"),
        }
        self._anomalies = Anomalies(len(self._done))
        self._instances: dict[str, deque[tuple[int, Mapping[str, float]]]] = defaultdict(
            lambda: deque(maxlen=MOST_BLOCKS)
        )
        """By resource, block by block, how busy each of its instances was."""
        self._where: dict[tuple[str, int], str] = {}
        self._next = 0

    @property
    def notices(self) -> Sequence[Notice]:
        return [replace(one, where=self._where.get((one.subject, one.since_s), "")) for one in self._anomalies.notices]

    def look(self, run: Run) -> None:
        """Hear the blocks that are complete by now."""
        told = MeterSecond.objects.filter(run=run, every=1)
        last = told.order_by("-second").values_list("second", flat=True).first()
        if last is None:
            return
        blocks = (last + 1 - SETTLED_S - self._next) // BLOCK_S
        if blocks <= 0:
            return
        begin, end = self._next, self._next + BLOCK_S * min(blocks, MOST_BLOCKS)
        figures = self._figures(run, begin, end)
        columns = Run.objects.values_list("meter_columns", flat=True).get(pk=run.pk)
        places = {(row, part): place for place, (row, part) in enumerate(columns["columns"])}
        meters = np.full((end - begin, len(places)), np.nan)
        for second, values in told.filter(second__gte=begin, second__lt=end).values_list("second", "values"):
            meters[second - begin] = metering.unpacked(bytes(values), len(places))
        resources = [
            (row.removeprefix("resource:"), about["kind"], places[row, "utilisation"], places[row, "capacity"])
            for row, about in columns["rows"].items()
            if (row, "capacity") in places
        ]
        instances = [
            (row.removeprefix("resource:"), label, place)
            for (row, part), place in places.items()
            if (label := metering.instance_of(row, part)) is not None
        ]
        for first in range(0, end - begin, BLOCK_S):
            own = slice(first, first + BLOCK_S)
            unknown = [key for key, _, busy, _ in resources if np.isfinite(meters[own, busy]).sum() <= BLOCK_S / 2]
            if unknown and last + 1 - (begin + first + BLOCK_S) < metering.AGAIN_S:
                break
            self._next = begin + first + BLOCK_S
            if not np.isfinite(figures[own, 0]).all():
                # Nobody told of the load there, so that nothing can be held against it.
                continue
            self._anomalies.hear(
                block_of(
                    begin + first,
                    figures[own][:, self._done],
                    {name: figures[own, place] for name, place in self._load.items()},
                    [(key, kind, meters[own, busy], meters[own, servers]) for key, kind, busy, servers in resources],
                )
            )

            each: dict[str, dict[str, float]] = defaultdict(dict)
            for key, label, place in instances:
                if np.isfinite(meters[own, place]).any():
                    each[key][label] = float(np.nanmean(meters[own, place]))
            for key, busy in each.items():
                self._instances[key].append((begin + first, busy))
            self._place()

    def _place(self) -> None:
        """At which instance it is what still lasts, as far as it is at one."""
        for one in self._anomalies.notices:
            if one.kind == "cost" and one.until_s is None:
                told = self._instances[one.subject]
                before = _mean([busy for at_s, busy in told if at_s < one.since_s])
                since = _mean([busy for at_s, busy in told if at_s >= one.since_s])
                self._where[one.subject, one.since_s] = mostly_of(before, since, one.value)

    def _figures(self, run: Run, begin: int, end: int) -> FloatArray:
        """The figures of each of these seconds, NaN where none is stored."""
        rows = RunSecond.objects.filter(run=run, every=1, second__gte=begin, second__lt=end)
        table = np.full((end - begin, self._layout.width), np.nan)
        for second, packed in rows.values_list("second", "figures"):
            table[second - begin] = self._layout.table([bytes(packed)])[0]
        return table


def _mean(blocks: Sequence[Mapping[str, float]]) -> dict[str, float]:
    """How busy those were on the mean that are told of in all of these blocks."""
    there = set.intersection(*(set(block) for block in blocks)) if blocks else set()
    return {name: float(np.mean([block[name] for block in blocks])) for name in there}
