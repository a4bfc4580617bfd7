"""The system's own document: read, written and checked."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any
from urllib.parse import urlsplit

from stonekettle.plan.checking import did_you_mean, parse, plain, repeated, validated
from stonekettle.plan.parts import PRACTICE
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.plan.system import System


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
    operations = system.operations
    if operations is not None and (there := lookup(f"{prefix}operations.address", operations.address)):
        operations = operations.model_copy(update={"address": there[0]})
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
    changes = {"base_url": base[0], "components": tuple(components), "operations": operations}
    return system.model_copy(update=changes)


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
    if system.operations is not None:
        yield from repeated(f"{prefix}operations.changes", [change.name for change in system.operations.changes])
        for i, change in enumerate(system.operations.changes):
            if change.does.signed and system.operations.signing_key is None:
                path = f"{prefix}operations.changes[{i}].does.signed"
                yield Problem(path, "the system has no signing key.", "Give its operations one, or leave out 'signed'.")
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
