"""The system's own document: read, written, checked, and its secrets kept from view."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any
from urllib.parse import urlsplit

from stonekettle.plan.checking import did_you_mean, parse, plain, repeated, validated
from stonekettle.plan.parts import PRACTICE
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.plan.system import System

KEPT = "(kept)"
"""Stands for a secret that is not shown. Read back, it means: the one that was there."""
_SECRETS = ("bearer", "password")


def read(text: str) -> System:
    """A system from YAML or JSON text. Raises :class:`PlanError` with every problem found."""
    return from_document(parse(text))


def from_document(document: object) -> System:
    """A system from plain data, checked as a whole."""
    if not isinstance(document, Mapping):
        raise PlanError([Problem("document", "this is not a system.", "Start with 'name:' and 'base_url:'.")])
    system = validated(System, document)
    problems = list(inconsistencies(system))
    if problems:
        raise PlanError(problems)
    return system


def stored(document: Mapping[str, Any]) -> System:
    """A system that was checked when it was kept; rules that came later do not make it unreadable."""
    return validated(System, document)


def to_document(system: System) -> dict[str, Any]:
    """Plain data that :func:`from_document` reads back as the same system."""
    return plain(system)


def resolved(system: System, directory: Mapping[str, Sequence[str]], prefix: str = "") -> System:
    """The system with ``practice://component`` addresses replaced from ``directory`` (component →
    addresses of its instances). Raises :class:`PlanError` for unknown components."""
    problems: list[Problem] = []

    def lookup(path: str, address: str) -> list[str]:
        found = in_practice(address, directory)
        if not found:
            problems.append(not_in_practice(path, address, directory))
        return found

    base = lookup(f"{prefix}base_url", system.base_url)
    components = []
    for i, component in enumerate(system.components):
        meters = []
        for j, meter in enumerate(component.meters):
            if meter.openmetrics is not None:
                path = f"{prefix}components[{i}].meters[{j}].openmetrics"
                urls = tuple(url for address in meter.openmetrics for url in lookup(path, address))
                meter = meter.model_copy(update={"openmetrics": urls})
            meters.append(meter)
        components.append(component.model_copy(update={"meters": tuple(meters)}))
    if problems:
        raise PlanError(problems)
    return system.model_copy(update={"base_url": base[0], "components": tuple(components)})


def in_practice(address: str, directory: Mapping[str, Sequence[str]]) -> list[str]:
    """The addresses behind ``practice://component/…``, one for each instance; any other as it is."""
    parts = urlsplit(address)
    if parts.scheme != PRACTICE:
        return [address]
    return [base + address.partition("://")[2][len(parts.netloc) :] for base in directory.get(parts.hostname or "", ())]


def not_in_practice(path: str, address: str, directory: Iterable[str]) -> Problem:
    known = ", ".join(directory) or "none is running"
    return Problem(path, f"{address} is not in the practice system.", f"Its components: {known}.")


def json_schema() -> dict[str, Any]:
    """JSON Schema (2020-12) of the document."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **System.model_json_schema()}


def inconsistencies(system: System, prefix: str = "") -> Iterable[Problem]:
    """What contradicts itself; ``prefix`` leads to the system in a larger document."""
    names = [component.name for component in system.components]
    yield from repeated(f"{prefix}components", names)
    for i, component in enumerate(system.components):
        for k, called in enumerate(component.calls):
            path = f"{prefix}components[{i}].calls[{k}]"
            if called == component.name:
                yield Problem(path, f"{called!r} calls itself.", "Leave it out.")
            elif called not in names:
                mend = did_you_mean(called, names, "Use the name of a component.")
                yield Problem(path, f"there is no component named {called!r}.", mend)
        for j, meter in enumerate(component.meters):
            path = f"{prefix}components[{i}].meters[{j}].resources"
            yield from repeated(path, [mapping.name for mapping in meter.resources])
            for k, mapping in enumerate(meter.resources):
                kind = component.instance_type
                known = {"vcpus": kind and kind.vcpus, "memory": kind and kind.memory, "series": 1}
                if mapping.capacity_from is not None and not known[mapping.capacity_from]:
                    yield Problem(
                        f"{path}[{k}].capacity_from",
                        f"the instance type of {component.name!r} does not tell its {mapping.capacity_from}.",
                        "Give it in the component's instance type, or give a capacity.",
                    )


def masked(document: Any) -> Any:
    """The document with every secret replaced by :data:`KEPT`."""
    if isinstance(document, Mapping):
        return {
            key: KEPT if key in _SECRETS and isinstance(item, str) else masked(item) for key, item in document.items()
        }
    if isinstance(document, list):
        return [masked(item) for item in document]
    return document


def has_secrets(document: object) -> bool:
    return bool(masked(document) != document)


def with_kept_secrets(document: Any, before: Any) -> Any:
    """The document with each :data:`KEPT` replaced by the secret of the same meter in ``before``.

    A meter is the same when its component's name and its own source are; failing that, when it
    stands in the same place. Raises :class:`PlanError` where there was no secret to keep.
    """
    problems: list[Problem] = []
    known: dict[object, Any] = {}
    for i, component, j, meter in _meters(before):
        credentials = meter.get("credentials") or {}
        known[i, j] = credentials
        known[component.get("name"), _source(meter)] = credentials

    def restored(i: int, component: Any, j: int, meter: Any) -> Any:
        found = known.get((component.get("name"), _source(meter))) or known.get((i, j)) or {}
        credentials = {}
        for key, value in meter["credentials"].items():
            if key in _SECRETS and value == KEPT:
                if key not in found:
                    path = f"components[{i}].meters[{j}].credentials.{key}"
                    problems.append(Problem(path, "there is no secret to keep here.", "Write it anew."))
                value = found.get(key)
            credentials[key] = value
        return {**meter, "credentials": credentials}

    if not any(_holds_kept(meter) for _, _, _, meter in _meters(document)):
        return document
    components = [dict(component) for component in document["components"]]
    for i, component, j, meter in _meters(document):
        if _holds_kept(meter):
            meters = list(components[i]["meters"])
            meters[j] = restored(i, component, j, meter)
            components[i]["meters"] = meters
    if problems:
        raise PlanError(problems)
    return {**document, "components": components}


def _holds_kept(meter: Mapping[str, Any]) -> bool:
    credentials = meter.get("credentials")
    return isinstance(credentials, Mapping) and KEPT in credentials.values()


def _source(meter: Mapping[str, Any]) -> str:
    return str([meter.get(key) for key in ("openmetrics", "otlp")])


def _meters(document: Any) -> Iterable[tuple[int, Any, int, Any]]:
    """Every meter of a document that need not be valid, with its component and their places."""
    components = document.get("components") if isinstance(document, Mapping) else None
    for i, component in enumerate(components if isinstance(components, list) else ()):
        meters = component.get("meters") if isinstance(component, Mapping) else None
        for j, meter in enumerate(meters if isinstance(meters, list) else ()):
            if isinstance(meter, Mapping):
                yield i, component, j, meter
