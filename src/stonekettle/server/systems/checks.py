"""Do a system's meters report, right now?"""

from __future__ import annotations

import time
from typing import Any, Literal

from django.conf import settings
from ninja import Field, Schema

from stonekettle.engine.local import practice_directory
from stonekettle.meters.otlp import clock_offset
from stonekettle.meters.recognise import mappings
from stonekettle.meters.scraper import CLOCK_OFF_S, EndpointCheck, Scraper
from stonekettle.plan import system_document
from stonekettle.plan.problems import PlanError
from stonekettle.plan.secrecy import hidden
from stonekettle.plan.system import Component, Meter
from stonekettle.plan.system import System as Description
from stonekettle.report import numbers
from stonekettle.server.systems import pushes
from stonekettle.server.systems.models import Push, System
from stonekettle.server.targets import allowances

MeterState = Literal["reports", "silent", "waiting"]
STALE_S = 15.0
LIMIT_S = 1.8


class MeterCheck(Schema):
    """What one source of a meter says now. ``text`` is a sentence; a silent one says why there."""

    component: str
    meter: int
    source: str
    instance: str
    state: MeterState
    text: str
    metrics: int = 0
    series: int = 0
    resources: list[str] = Field(default_factory=list)
    age_s: float | None = None
    clock_offset_s: float | None = None
    took_s: float | None = None


def check(system: System) -> list[MeterCheck]:
    """Ask every meter of the system, all at the same time, in :data:`LIMIT_S` altogether."""
    description = system.description
    asked = _scraped(description)
    found: list[MeterCheck] = []
    for component in description.components:
        for place, meter in enumerate(component.meters):
            if meter.openmetrics is not None:
                found += asked[component.name, place]
            elif meter.otlp is not None:
                found += _pushed(system, component, meter, place)
            else:
                found.append(_told(system, component, meter, place))
    return found


def scraped(description: Description) -> list[MeterCheck]:
    """Those of its meters that are read at an address, asked now."""
    return [check for found in _scraped(description).values() for check in found]


def _scraped(description: Description) -> dict[tuple[str, int], list[MeterCheck]]:
    """What every address says, by component and place of its meter."""
    directory = practice_directory(settings.PRACTICE_CONTROL)
    found: dict[tuple[str, int], list[MeterCheck]] = {}
    asked: list[Component] = []
    places: list[tuple[str, int]] = []
    for component in description.components:
        for place, meter in enumerate(component.meters):
            if meter.openmetrics is None:
                continue
            one = component.model_copy(update={"meters": (meter,)})
            alone = description.model_copy(update={"components": (one,), "base_url": "http://127.0.0.1"})
            found[component.name, place] = []
            try:
                resolved = system_document.resolved(alone, directory).components[0]
            except PlanError as error:
                found[component.name, place] = [_unknown(component, meter, place, error)]
                continue
            asked.append(resolved)
            places += [(component.name, place)] * len(resolved.meters[0].openmetrics or ())
    allowance = allowances.current(description.addresses)
    scraper = Scraper(description.model_copy(update={"components": tuple(asked)}), allowance.refusal)
    try:
        for place_of, told in zip(places, scraper.check(LIMIT_S), strict=True):
            found[place_of].append(_of_endpoint(told, place_of[1]))
    finally:
        scraper.close()
    return found


def _unknown(component: Component, meter: Meter, place: int, error: PlanError) -> MeterCheck:
    text = " ".join(f"{p.message} {p.mend}" for p in error.problems)
    source = hidden((meter.openmetrics or ("",))[0])
    return MeterCheck(
        component=component.name, meter=place, source=source, instance="", state="silent", text=hidden(text)
    )


def _of_endpoint(one: EndpointCheck, place: int) -> MeterCheck:
    common: dict[str, Any] = {
        "component": one.component,
        "meter": place,
        "source": hidden(one.url),
        "instance": one.instance,
    }
    if one.fault:
        return MeterCheck(
            **common, state="silent", text=hidden(f"{one.fault[0].upper()}{one.fault[1:]}."), took_s=one.took_s
        )
    text = f"{len(one.metrics)} metrics in {one.series} series, {_age(one.age_s)}. {_resources(one.resources)}"
    offset = one.clock_offset_s
    if offset is not None and abs(offset) > CLOCK_OFF_S:
        side = "ahead of" if offset > 0 else "behind"
        text += f" Its clock is {numbers.seconds(abs(offset))} {side} ours; what it tells is timed by ours."
    return MeterCheck(
        **common,
        state="reports",
        text=text,
        metrics=len(one.metrics),
        series=one.series,
        resources=list(one.resources),
        age_s=one.age_s,
        clock_offset_s=offset,
        took_s=one.took_s,
    )


def _pushed(system: System, component: Component, meter: Meter, place: int) -> list[MeterCheck]:
    service = meter.otlp or ""
    common: dict[str, Any] = {"component": component.name, "meter": place, "source": f"pushed as {service}"}
    newest = list(Push.objects.filter(system=system, service=service).order_by("-received_at")[:60])
    if not newest:
        text = f"Nothing was pushed with service.name {service!r} yet."
        return [MeterCheck(**common, instance="", state="waiting", text=text)]
    found = []
    for instance in dict.fromkeys(push.instance for push in newest):
        own = [push for push in newest if push.instance == instance]
        age = time.time() - own[0].received_at
        arrivals = [pushes.arrival(push, meter.labels) for push in own]
        names = {point.metric for point in arrivals[0].points}
        resources = [m.name for m in mappings(names, component) if m.metric.removesuffix("_total") in names]
        offset = clock_offset(arrivals)
        text = f"{len(names)} metrics pushed, {_age(age)}. {_resources(resources)}"
        found.append(
            MeterCheck(
                **common,
                instance=instance,
                state="reports" if age < pushes.FRESH_S else "silent",
                text=text,
                metrics=len(names),
                series=len(arrivals[0].points),
                resources=resources,
                age_s=age,
                clock_offset_s=offset,
            )
        )
    return found


def _told(system: System, component: Component, meter: Meter, place: int) -> MeterCheck:
    common: dict[str, Any] = {
        "component": component.name,
        "meter": place,
        "source": f"responses, as {meter.server_timing}",
        "instance": "",
    }
    last = system.runs.filter(begun_at__isnull=False, simulated=False, deleted_at=None).first()
    if last is None:
        return MeterCheck(**common, state="waiting", text="Read from the responses of a run; there was none yet.")
    rows = last.seconds_told(meter.server_timing or "")
    if rows:
        return MeterCheck(
            **common, state="reports", text=f"Responses of run {last.pk} told it in {rows} of its seconds.", metrics=1
        )
    return MeterCheck(
        **common,
        state="silent",
        text=f"No response of run {last.pk} had a Server-Timing entry {meter.server_timing!r}.",
    )


def _age(age_s: float) -> str:
    if age_s < STALE_S:
        return "fresh"
    return f"{numbers.seconds(age_s)} old"


def _resources(names: list[str] | tuple[str, ...]) -> str:
    if not names:
        return "No resource is recognised; map one below."
    return f"Recognised: {', '.join(names)}."
