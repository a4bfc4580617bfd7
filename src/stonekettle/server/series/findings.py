"""What a series tells: each candidate compared with the first, block by block, and what each is."""

from __future__ import annotations

import statistics
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from ninja import Schema

from stonekettle.core.facts import WHOLE, Fact
from stonekettle.core.pooling import block_ratios
from stonekettle.plan.candidates import Candidate, Value
from stonekettle.plan.models import Plan
from stonekettle.report import candidates as words
from stonekettle.report.comparing import Side
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import comparisons, facts
from stonekettle.server.runs.comparisons import ApartLine, FigureLine
from stonekettle.server.series import counted, scaled
from stonekettle.server.series.models import Series, Turn

SHOWN = ("mean", "p95", "demand")
"""The figures that are told block by block."""
NOTED = ("cpu", "memory")
"""The resources of a component that are told of each candidate."""
UNDER = 0.8
LIMITS = {"comfort limit": "the comfort limit", "saturation point": "the saturation point"}


class BlockLine(Schema):
    """A figure of a step or resource in each block that counts: the candidate's over that of the first."""

    subject: str
    figure: str
    ratios: list[float]


class BetweenLine(Schema):
    """A candidate compared with the first one, with a value of the second factor ("" without). ``blocks`` count,
    ``missing`` says of the others why not. Of each turn the first ``left_out_s`` seconds are left out; what is left was
    ``settled``, or the start is still in it."""

    candidate: str
    against: str
    value: str
    sentence: str
    verdict: comparisons.Verdict
    unit: str
    loads: list[float]
    figures: list[FigureLine]
    apart: list[ApartLine]
    by_block: list[BlockLine]
    blocks: list[int]
    missing: list[str]
    left_out_s: float
    settled: bool


class ResourceUse(Schema):
    """How much of a component's resource a candidate used at the highest load: a share, and of memory the bytes where
    the instance type tells how much there is."""

    key: str
    share: float
    bytes: float | None


class CandidateLine(Schema):
    """A candidate, with a value of the second factor, over its turns: what it is, how long it took to bring it under
    load (median, s), what it used, what it costs, up to which load it held its objectives (median)."""

    candidate: str
    value: str
    what: list[str]
    turns: int
    ready_after_s: float | None
    uses: list[ResourceUse]
    cost_per_hour: float | None
    comfort: float | None
    errors: float | None


class Bearable(Schema):
    """A load that every candidate can carry, and why that one."""

    load: float
    reason: str


class SeriesFindings(Schema):
    """``sentence`` answers for all, ``verdict`` too where there is one comparison alone."""

    sentence: str
    between: list[BetweenLine]
    candidates: list[CandidateLine]
    currency: str
    unit: str
    bearable: Bearable | None


@dataclass(frozen=True)
class _Told(words.Told):
    """A turn that counts, with what its run found as a ``whole`` too."""

    whole: Mapping[tuple[str, str], float]


def of(series: Series) -> SeriesFindings:
    """What the turns that are over tell so far. Raises :class:`Conflict` where something is scaled: its values are no
    candidates to be compared."""
    if series.plan.scaling is not None:
        raise Conflict(f"In series {series.pk} something is scaled: ask what its values tell.")
    plan, candidates = series.plan, series.candidates
    turns = list(series.turns.filter(over=True).select_related("run__revision__experiment"))
    told, missing = _told(turns)
    between = words.compare(candidates, told)
    return SeriesFindings(
        sentence=words.sentence(between, going=series.state == Series.State.GOING),
        between=[_line(one, missing) for one in between],
        candidates=[
            _candidate(plan, one, value, turns, told) for one in candidates.each for value in candidates.values
        ],
        currency=plan.system.currency,
        unit="users" if told and told[0].side.analysis.load_kind == "users" else "arrivals/s",
        bearable=_bearable(told),
    )


def note(series: Series) -> None:
    """Keep what it tells by now, for lists."""
    told = of(series) if series.plan.scaling is None else scaled.of(series)
    Series.objects.filter(pk=series.pk).update(sentence=told.sentence)


def _told(turns: Sequence[Turn]) -> tuple[list[_Told], list[tuple[Turn, str]]]:
    """The turns that count, and the others, each with why it does not."""
    told, missing = [], []
    for turn in turns:
        found = counted.counting(turn)
        if isinstance(found, str):
            missing.append((turn, f"Block {turn.block}: {found}."))
            continue
        run, analysis = found
        every = facts.of(run)
        whole = {(one.subject, one.figure): one.value for one in every if one.level is None}
        side = Side(turn.words, comparisons.described(run), analysis, run.simulated, run.state, run.generators.count())
        levels = [one for one in every if one.level is not None]
        told.append(_Told(turn.block, turn.candidate, turn.value, side, levels, whole))
    return told, missing


def _line(one: words.Between, missing: Sequence[tuple[Turn, str]]) -> BetweenLine:
    kind = one.seconds[0].analysis.load_kind
    return BetweenLine(
        candidate=one.candidate,
        against=one.against,
        value=one.value,
        sentence=one.sentence,
        verdict=one.verdict,
        unit="users" if kind == "users" else "arrivals/s",
        loads=list(one.found.loads),
        figures=comparisons.lines(one.found),
        apart=[ApartLine(weight=apart.weight, text=apart.text) for apart in one.apart],
        by_block=list(_by_block(one.kept)),
        blocks=list(one.blocks),
        missing=[
            why for turn, why in missing if turn.value == one.value and turn.candidate in (one.candidate, one.against)
        ],
        left_out_s=one.settling.left_out_s,
        settled=one.settling.settled,
    )


def _by_block(kept: Sequence[Sequence[Sequence[Fact]]]) -> Iterator[BlockLine]:
    for (subject, figure), ratios in sorted(block_ratios(kept[0], kept[1]).items()):
        if figure in SHOWN:
            yield BlockLine(subject=subject, figure=figure, ratios=list(ratios))


def _candidate(
    plan: Plan, candidate: Candidate, value: Value | None, turns: Sequence[Turn], told: Sequence[_Told]
) -> CandidateLine:
    wanted = value.name if value is not None else ""
    own = [one for one in turns if (one.candidate, one.value) == (candidate.name, wanted)]
    counting = [one for one in told if (one.candidate, one.value) == (candidate.name, wanted)]
    system = plan.turn(candidate, value).system
    return CandidateLine(
        candidate=candidate.name,
        value=wanted,
        what=[line for line in described(candidate) if line != candidate.name],
        turns=len(own),
        ready_after_s=_median(one.ready_after_s for one in own),
        uses=list(_uses(plan, candidate, counting)),
        cost_per_hour=system.cost_per_hour,
        comfort=_median(one.whole.get((WHOLE, "comfort limit")) for one in counting),
        errors=_median(_at_the_top(one.levels, WHOLE, "error ratio") for one in counting),
    )


def described(candidate: Candidate) -> Iterator[str]:
    """What a candidate is, a line each."""
    yield from (f"{name} {version}" for name, version in candidate.versions.items())
    yield from (f"{name} on {kind.name or 'another instance type'}" for name, kind in candidate.types.items())
    if candidate.setting:
        yield candidate.setting
    if candidate.address is not None:
        yield f"at {candidate.address}"


def _uses(plan: Plan, candidate: Candidate, counting: Sequence[_Told]) -> Iterator[ResourceUse]:
    """Of the components in which it differs, or of all where that is not told."""
    named = {*candidate.versions, *candidate.types}
    for component in plan.system.components:
        if named and component.name not in named:
            continue
        kind = candidate.types.get(component.name, component.instance_type)
        for resource in NOTED:
            key = f"{component.name}.{resource}"
            share = _median(_at_the_top(one.levels, key, "utilisation") for one in counting)
            if share is not None:
                size = kind.memory if resource == "memory" and kind is not None else None
                yield ResourceUse(key=key, share=share, bytes=None if size is None else share * size)


def _at_the_top(levels: Sequence[Fact], subject: str, figure: str) -> float | None:
    """A figure at a run's highest load."""
    loads = {one.level: one.value for one in levels if (one.subject, one.figure) == (WHOLE, "load")}
    if not loads:
        return None
    top = max(loads, key=loads.__getitem__)
    return next((one.value for one in levels if (one.level, one.subject, one.figure) == (top, subject, figure)), None)


def _median(values: Iterator[float | None] | Sequence[float | None]) -> float | None:
    known = [value for value in values if value is not None and value == value]
    return statistics.median(known) if known else None


def _bearable(told: Sequence[_Told]) -> Bearable | None:
    for figure, reason in LIMITS.items():
        limits: list[float] = [one.whole[WHOLE, figure] for one in told if (WHOLE, figure) in one.whole]
        if limits:
            return Bearable(load=UNDER * min(limits), reason=f"a fifth under {reason}, the lowest of all turns")
    tops = [max((f.value for f in one.levels if (f.subject, f.figure) == (WHOLE, "load")), default=0.0) for one in told]
    return (
        Bearable(load=min(tops), reason="the highest load that all were tried at") if tops and min(tops) > 0 else None
    )
