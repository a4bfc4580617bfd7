"""References by identity: documents name systems, journeys and feeds, and what a name stood for is kept with them.

A document shows the names of today, however the things it names have been renamed since it was saved.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from django.apps import apps
from django.db.models import QuerySet

from stonekettle.plan.references import Kind, Name

Identities = Mapping[str, Mapping[str, int]]
"""By kind and name as it is written: the key of what it stood for when that was saved."""
_MODELS: dict[Kind, tuple[str, str]] = {
    "system": ("systems", "System"),
    "journey": ("journeys", "Journey"),
    "feed": ("feeds", "Feed"),
}


def identities(names: Iterable[Name], before: Identities | None = None) -> dict[str, dict[str, int]]:
    """What these names stand for today. One that is given no more, as by a page that was opened before a renaming,
    stands for what it stood for ``before``."""
    found: dict[str, dict[str, int]] = {}
    for kind, wanted in _by_kind(names).items():
        known = dict(_all(kind).filter(name__in=wanted).values_list("name", "pk"))
        told = {**{name: pk for name, pk in (before or {}).get(kind, {}).items() if name in wanted}, **known}
        if told:
            found[kind] = told
    return found


def names_today(of: Identities) -> dict[Name, str]:
    """The names that are not what they were, with what they are today."""
    found: dict[Name, str] = {}
    for kind in _MODELS:
        told = of.get(kind, {})
        names = dict(_all(kind).filter(pk__in=told.values()).values_list("pk", "name")) if told else {}
        found |= {(kind, name): names[pk] for name, pk in told.items() if names.get(pk, name) != name}
    return found


def keys(of: Identities, kind: Kind) -> set[int]:
    """The keys of everything of a kind that is named."""
    return set(of.get(kind, {}).values())


def _all(kind: Kind) -> QuerySet[Any]:
    found: QuerySet[Any] = apps.get_model(*_MODELS[kind])._default_manager.all()
    return found


def _by_kind(names: Iterable[Name]) -> dict[Kind, set[str]]:
    found: dict[Kind, set[str]] = {}
    for kind, name in names:
        found.setdefault(kind, set()).add(name)
    return found
