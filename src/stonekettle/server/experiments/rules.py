"""What may happen to an experiment."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Collection, Iterable, Mapping
from typing import Any, Literal

from django.contrib.auth.models import User
from django.db import transaction
from django.db.models import OuterRef, Subquery

from stonekettle.engine.targets import check_allowed
from stonekettle.plan import document, secrecy
from stonekettle.plan.checking import parse
from stonekettle.plan.models import Plan
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.server.experiments import outline
from stonekettle.server.experiments.models import Experiment, Revision
from stonekettle.server.feeds import rules as feeds
from stonekettle.server.feeds.models import FeedFile
from stonekettle.server.journeys import rules as journeys
from stonekettle.server.journeys.models import Journey
from stonekettle.server.problems import Outdated
from stonekettle.server.systems import rules as systems
from stonekettle.server.systems.models import System

MOST_SKETCHES = 5_000
_SYSTEM_LINE = re.compile(r"^system:.*$", re.MULTILINE)


def read_plan(source: str) -> Plan:
    """A checked plan with allowed targets. Raises :class:`PlanError` with every problem."""
    plan = document.read(source, _find)
    document.with_files(plan, lambda digest: "" if FeedFile.objects.filter(pk=digest).exists() else None)
    if problems := list(_readable_secrets(parse(source))):
        raise PlanError(problems)
    forbidden = check_allowed(plan.addresses)
    if forbidden:
        raise PlanError(Problem(e.path, e.message, e.mend) for e in forbidden)
    return plan


@transaction.atomic
def create(source: str, author: User | None) -> Experiment:
    """A new experiment from a document."""
    plan = read_plan(source)
    experiment = Experiment.objects.create(name=plan.name, system=_system(source))
    _add_revision(experiment, 1, source, plan, author)
    return experiment


@transaction.atomic
def revise(experiment: Experiment, source: str, author: User | None, base: int | None = None) -> Revision:
    """A new revision; the old ones stay, and runs keep the one they used. Raises :class:`Outdated` where the
    text was made from another revision (``base``) than the newest."""
    plan = read_plan(source)
    experiment = Experiment.objects.select_for_update().get(pk=experiment.pk)
    current = experiment.current
    if base is not None and base != current.number:
        made_from = experiment.revisions.filter(number=base).values_list("source", flat=True).first()
        who = current.author.get_username() if current.author else ""
        raise Outdated(who, current.number, current.source, made_from)
    if current.source == source:
        return current
    experiment.name, experiment.system = plan.name, _system(source)
    experiment.save()
    return _add_revision(experiment, current.number + 1, source, plan, author)


def restore(experiment: Experiment, number: int, author: User | None) -> Revision:
    """Undo: the state of an earlier revision becomes the newest one."""
    return revise(experiment, experiment.revisions.get(number=number).source, author)


def _readable_secrets(written: object) -> Iterable[Problem]:
    """Secrets that stand in an experiment's own text, where everybody can read them."""
    if not isinstance(written, Mapping):
        return
    message = "secrets would be readable in this text."
    if _has_secrets(secrecy.in_system, written.get("system")):
        mend = "Describe the system under Systems, where they stay hidden, and name it here: 'system: its name'."
        yield Problem("system", message, mend)
    journeys = written.get("journeys")
    for i, journey in enumerate(journeys if isinstance(journeys, list) else ()):
        if _has_secrets(secrecy.in_journey, journey):
            mend = "Write the journey under Journeys, where they stay hidden, and name it here: '{journey: its name}'."
            yield Problem(f"journeys[{i}]", message, mend)


def _has_secrets(within: Callable[[Any, secrecy.Change], Any], written: object) -> bool:
    found = secrecy.Found()
    within(written, found)
    return bool(found.values)


def current_plan(experiment: Experiment) -> Plan:
    """The plan of the newest revision, with the system it names as that is described today."""
    return read_plan(experiment.current.source)


def named_system(source: str) -> str | None:
    """The name of the system a document refers to; None when it describes one itself."""
    data = parse(source)
    named = data.get("system") if isinstance(data, Mapping) else None
    return named if isinstance(named, str) else None


def rename_system(system: System, name: str) -> None:
    """Follow a system's new name in every experiment that names it."""
    line = f"system: {json.dumps(name, ensure_ascii=False)}"
    for experiment in system.experiments.all():
        current = experiment.current
        source = _SYSTEM_LINE.sub(lambda _: line, current.source, count=1)
        changed = {**current.document, "system": {**current.document["system"], "name": name}}
        plan = document.from_document(changed)
        _add_revision(experiment, current.number + 1, source, plan, None)


def named_journeys(source: str) -> list[str]:
    """The names of the journeys a document refers to instead of writing them out."""
    return _named(source, "journey")


def named_feeds(source: str) -> set[str]:
    """The names of the feeds a document refers to, and of those its named journeys bring."""
    brought = Journey.objects.filter(name__in=named_journeys(source))
    return {*_named(source, "feed"), *(name for journey in brought for name in journey.draft.feeds)}


def untried(source: str) -> list[Journey]:
    """The journeys a document names that have not passed a trial since their last change."""
    named = Journey.objects.filter(name__in=named_journeys(source))
    return [journey for journey in named if not journey.has_passed]


def rename_journey(name: str, new: str) -> None:
    """Follow a journey's new name in every experiment that names it."""
    _rename("journey", name, new)


def rename_feed(name: str, new: str) -> None:
    """Follow a feed's new name in every experiment that names it."""
    _rename("feed", name, new)


_sketches: dict[int, list[outline.Corner]] = {}
"""By revision, which does not change."""


def sketches(revision_ids: Collection[int]) -> dict[int, list[outline.Corner]]:
    """The planned loads of revisions in few corners."""
    unknown = [pk for pk in revision_ids if pk not in _sketches]
    if len(_sketches) > MOST_SKETCHES:
        _sketches.clear()
        unknown = list(revision_ids)
    for revision in Revision.objects.filter(pk__in=unknown) if unknown else ():
        try:
            _sketches[revision.pk] = outline.sketch(revision.plan)
        except PlanError:
            _sketches[revision.pk] = []
    return {pk: _sketches.get(pk, []) for pk in revision_ids}


def own_journeys(source: str, document: Mapping[str, Any]) -> list[str]:
    """The journeys a document writes out itself."""
    named = named_journeys(source)
    names = [str(journey.get("name", "")) for journey in document.get("journeys", [])]
    return [name for name in names if name not in named]


def by_journey() -> dict[str, list[Experiment]]:
    """The experiments that name a journey, by its name."""
    newest = Revision.objects.filter(experiment=OuterRef("pk")).order_by("-number").values("source")[:1]
    found: dict[str, list[Experiment]] = {}
    for experiment in Experiment.objects.order_by("name").annotate(source=Subquery(newest)):
        for name in named_journeys(experiment.source):
            found.setdefault(name, []).append(experiment)
    return found


def _named(source: str, kind: Literal["journey", "feed"]) -> list[str]:
    data = parse(source)
    listed = data.get(f"{kind}s") if isinstance(data, Mapping) else None
    found = listed if isinstance(listed, list) else []
    return [str(part[kind]) for part in found if isinstance(part, Mapping) and kind in part]


def _rename(kind: Literal["journey", "feed"], name: str, new: str) -> None:
    line = re.compile(rf"(\b{kind}:\s*)(?:\"{re.escape(name)}\"|'{re.escape(name)}'|{re.escape(name)}(?=\s*[,}}\n]))")
    for experiment in Experiment.objects.all():
        current = experiment.current
        if name not in _named(current.source, kind):
            continue
        source = line.sub(lambda match: match[1] + json.dumps(new, ensure_ascii=False), current.source)
        parts = [{**part, "name": new} if part["name"] == name else part for part in current.document[f"{kind}s"]]
        plan = document.from_document({**current.document, f"{kind}s": parts})
        _add_revision(experiment, current.number + 1, source, plan, None)


def _find(kind: document.Kind, name: str) -> Mapping[str, Any] | None:
    finders = {"system": systems.drafts.find, "journey": journeys.drafts.find, "feed": feeds.drafts.find}
    return finders[kind](name)


def _system(source: str) -> System | None:
    name = named_system(source)
    return None if name is None else System.objects.filter(name=name).first()


def _add_revision(experiment: Experiment, number: int, source: str, plan: Plan, author: User | None) -> Revision:
    return Revision.objects.create(
        experiment=experiment,
        number=number,
        source=source,
        document=document.to_document(plan),
        author=author,
    )
