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
        self._instances = _Instances()
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
            self._instances.hear(begin + first, places, meters[own])
            for one in self._anomalies.notices:
                if one.kind == "cost" and one.until_s is None:
                    self._where[one.subject, one.since_s] = self._instances.mostly(one)

    def _figures(self, run: Run, begin: int, end: int) -> FloatArray:
        """The figures of each of these seconds, NaN where none is stored."""
        rows = RunSecond.objects.filter(run=run, every=1, second__gte=begin, second__lt=end)
        table = np.full((end - begin, self._layout.width), np.nan)
        for second, packed in rows.values_list("second", "figures"):
            table[second - begin] = self._layout.table([bytes(packed)])[0]
        return table


class _Instances:
    """By resource, block by block, how busy each of its instances was."""

    def __init__(self) -> None:
        self._told: dict[str, deque[tuple[int, dict[str, float]]]] = defaultdict(lambda: deque(maxlen=MOST_BLOCKS))

    def hear(self, at_s: int, places: Mapping[tuple[str, str], int], meters: FloatArray) -> None:
        """A block's seconds, shape (BLOCK_S, columns), with the place of each row's part among the columns."""
        busy: dict[str, dict[str, float]] = defaultdict(dict)
        for (row, part), place in places.items():
            label = metering.instance_of(row, part)
            if label is not None and np.isfinite(meters[:, place]).any():
                busy[row.removeprefix("resource:")][label] = float(np.nanmean(meters[:, place]))
        for key, each in busy.items():
            self._told[key].append((at_s, each))

    def mostly(self, notice: Notice) -> str:
        """The one that it is mostly of, by blocks that tell of all there are now; empty where it is no single one."""
        told = self._told[notice.subject]
        names = told[-1][1].keys() if told else ()
        before, since = (
            [busy for at_s, busy in told if (at_s >= notice.since_s) is after and busy.keys() >= set(names)]
            for after in (False, True)
        )
        if not before or not since:
            return ""
        was, now = ({name: float(np.mean([busy[name] for busy in part])) for name in names} for part in (before, since))
        return mostly_of(was, now, notice.value)
