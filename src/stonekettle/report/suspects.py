"""The suspects of a run in words: what speaks for and against each, and what would tell the first two apart."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from pydantic import BaseModel, ConfigDict

from stonekettle.core import suspects as core
from stonekettle.core.analysis import Analysis
from stonekettle.core.bottleneck import LimitingResource
from stonekettle.core.load import LoadKind
from stonekettle.core.saturation import Saturation
from stonekettle.core.suspects import Claim, Kind, Point, Seen, Suspect
from stonekettle.report import numbers as n
from stonekettle.report.notes.note import resource_text


class SuspectLine(BaseModel):
    """Something that could have set the limit: what speaks for it and against it; ``row`` of the plate shows it."""

    model_config = ConfigDict(frozen=True)

    kind: Kind
    title: str
    named: bool
    speaks_for: tuple[str, ...]
    speaks_against: tuple[str, ...]
    row: str


class Suspects(BaseModel):
    """The suspects, the one that the findings name first; what would ``decide`` between the first two, where they are
    not told apart; and what gives out ``next``, once the first is lifted."""

    model_config = ConfigDict(frozen=True)

    lines: tuple[SuspectLine, ...]
    decide: str
    next: str


_TITLES: Mapping[Kind, str] = {
    "contention": "Contention: locks, retries, thrashing",
    "unmetered": "Something that no meter sees",
    "network": "The network between the generators and the system",
    "generator": "The generators",
}


NO_LIMIT = "No limit was reached. These stand in the order in which they could become one, by what is known so far."


def told(analysis: Analysis, seen: Seen) -> Suspects:
    ranked = core.rank(analysis, seen)
    limited = not isinstance(analysis.limiting, LimitingResource) or analysis.limiting.cause != "none"
    return Suspects(
        lines=tuple(_line(one, analysis.load_kind, seen) for one in ranked),
        decide=_decide(core.undecided(ranked), seen) if limited else NO_LIMIT if ranked else "",
        next=_next(analysis) if ranked and ranked[0].kind != "generator" else "",
    )


def _line(one: Suspect, kind: LoadKind, seen: Seen) -> SuspectLine:
    words = [(point.weight > 0, _words(point, kind, seen)) for point in one.points]
    return SuspectLine(
        kind=one.kind,
        title=resource_text(one.key) if one.key else _TITLES[one.kind],
        named=one.named,
        speaks_for=tuple(text for good, text in words if good),
        speaks_against=tuple(text for good, text in words if not good),
        row=f"resource:{one.key}" if one.key else "throughput",
    )


_WORDS: Mapping[Claim, str] = {
    "full": "{percent_a} in use at the highest load.",
    "near its end": "{percent_a} in use at the highest load, close to its end.",
    "has room": "{percent_a} in use at the highest load: it has room.",
    "carries no more": "By what a step costs it, it carries {rate_a} at the most; {rate_b} were reached.",
    "could carry more": "By what a step costs it, it would carry {rate_a}, where {rate_b} were reached.",
    "filled first": "The first to fill: from {load_a} on.",
    "filled later": "Full only from {load_a} on, where another was full from {load_b} on.",
    "queue grew": "{figure_a} wait for it at the highest load, {figure_b} at the lightest.",
    "nobody waits": "Nobody waits for it.",
    "behind it is full": "The hardware behind it is full as well: with more places requests would queue there.",
    "response follows": "Its use and the response time grow together from level to level (rank correlation {a:.2f}).",
    "response does not follow": "Its use does not grow with the response time (rank correlation {a:.2f}).",
    "most of the time": "{percent_a} of a response is spent in its component, as responses say.",
    "little of the time": "Only {percent_a} of a response is spent in its component, as responses say.",
    "works in vain": "{percent_a} of its work comes to nothing: answers fail after it was done.",
    "falls": "Throughput falls by {percent_a} beyond {load_b}.",
    "does not fall": "Throughput does not fall beyond a peak.",
    "something is full": "A metered resource is at its end, and explains it.",
    "nothing is full": "No metered resource is at its end.",
    "no limit": "Throughput was still growing: there is no limit to explain yet.",
    "no meter": "Without a meter: {unmetered}.",
    "on the wire": "{percent_a} of a response is connecting, sending and receiving.",
    "not on the wire": "Connecting, sending and receiving take {percent_a} of a response.",
    "late": "{percent_a} of the users present were overdue or unanswered at the generators.",
    "on time": "They delivered all but {percent_a} of the load.",
    "out of processor": "They used {percent_a} of a core.",
    "processor to spare": "They used {percent_a} of a core.",
}


def _words(point: Point, kind: LoadKind, seen: Seen) -> str:
    a, b = (*point.figures, 0.0, 0.0)[:2]
    return _WORDS[point.claim].format(
        a=a,
        percent_a=n.percent(a),
        rate_a=n.rate(a),
        rate_b=n.rate(b),
        load_a=n.load(a, kind),
        load_b=n.load(b, kind),
        figure_a=n.figure(a),
        figure_b=n.figure(b),
        unmetered=_named(seen.unmetered),
    )


def _named(components: Sequence[str]) -> str:
    return ", ".join(f"`{name}`" for name in components)


def _decide(pair: tuple[Suspect, Suspect] | None, seen: Seen) -> str:
    """What has to be measured or changed to tell the first two apart."""
    if pair is None:
        return ""
    kinds = {one.kind: one for one in pair}
    first, second = (resource_text(one.key) if one.key else _TITLES[one.kind].lower() for one in pair)
    begins = f"What speaks for {first} and for {second} does not tell them apart. "
    if "generator" in kinds:
        return f"{begins}Run again with more generators, or from another machine: what the system does stays."
    if "network" in kinds:
        return f"{begins}Run again with generators nearer to the system: what the network takes goes away."
    if "unmetered" in kinds:
        what = f"Meter {', '.join(f'`{name}`' for name in seen.unmetered)}" if seen.unmetered else "Meter pools, locks"
        return (
            f"{begins}{what}, or let servers tell their time (`Server-Timing`, traces): what remains has a place then."
        )
    if "contention" in kinds:
        return f"{begins}Count waits for locks, and retries: with contention they grow faster than the load."
    if "pool" in kinds:
        pool = resource_text(kinds["pool"].key)
        return f"{begins}Make {pool} larger by half and run again: if throughput stays, it only held the queue."
    return f"{begins}Give {first} alone more room, one more instance for example, and run again: what grows tells."


def _next(analysis: Analysis) -> str:
    """What gives out after the first, and at what load: that in which so many steps are done while nobody waits for
    another (Little 1961)."""
    found, point = analysis.limiting, analysis.saturation
    if not isinstance(found, LimitingResource) or found.next_in_line is None or found.next_throughput is None:
        return ""
    text = f"Once that is lifted, {resource_text(found.next_in_line)} is next, full at {n.rate(found.next_throughput)}"
    if isinstance(point, Saturation) and analysis.load_kind == "users" and point.light_response_s + point.think_s > 0:
        users = found.next_throughput * (point.light_response_s + point.think_s)
        text += f", with about {n.load(users, 'users')} if they wait for nothing else"
    return f"{text}."
