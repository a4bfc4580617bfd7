"""What may happen to an experiment."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping
from typing import Any

from django.db.models import OuterRef, Subquery

from stonekettle.core.headroom import PeakIn
from stonekettle.engine.targets import check_never
from stonekettle.plan import document, secrecy
from stonekettle.plan.checking import parse
from stonekettle.plan.models import Plan
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.plan.references import mentions, named, renamed
from stonekettle.server import references
from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.acts import Account, act
from stonekettle.server.drafts import Document, DraftBody, Drafts
from stonekettle.server.experiments import outline
from stonekettle.server.experiments.models import Experiment, Revision
from stonekettle.server.feeds import rules as feeds
from stonekettle.server.feeds.models import FeedFile
from stonekettle.server.journeys import rules as journeys
from stonekettle.server.journeys.models import Journey
from stonekettle.server.systems import rules as systems

MOST_SKETCHES = 5_000


def read_plan(source: str) -> Plan:
    """A checked plan, which leads nowhere that nothing is ever sent to. Raises :class:`PlanError` with every
    problem."""
    plan = document.read(source, _find)
    document.with_files(plan, lambda digest: "" if FeedFile.objects.filter(pk=digest).exists() else None)
    if problems := list(_readable_secrets(parse(source))):
        raise PlanError(problems)
    forbidden = check_never(plan.addresses)
    if forbidden:
        raise PlanError(Problem(e.path, e.message, e.mend) for e in forbidden)
    return plan


def checked(given: Document, before: Document | None) -> dict[str, Any]:
    """The text of a plan with what it says. Raises :class:`PlanError` with every problem."""
    source = given.get("source")
    if not isinstance(source, str) or set(given) - {"source", "name", "plan"}:
        raise PlanError([Problem("document", "the text of the plan is missing.", "Send it as 'source'.")])
    plan = read_plan(source)
    return {"name": plan.name, "source": source, "plan": document.to_document(plan)}


def _within(shown: Document, change: secrecy.Change) -> Document:
    """What people are shown; the text itself holds no secrets."""
    return secrecy.in_plan(shown["plan"], change) if "plan" in shown else shown


def _called(shown: Document, name: str) -> Document:
    return checked({"source": named(shown["source"], name)}, None)


drafts = Drafts(
    Experiment,
    "experiment",
    checked,
    _within,
    essence=lambda shown: {"source": shown["source"]},
    called=_called,
    named_once=False,
)


def create(actor: Actor, source: str) -> Experiment:
    """A new experiment from a document."""
    return drafts.create(actor, {"source": source})


def revise(actor: Actor, experiment: Experiment, source: str, edit: DraftBody | None = None) -> Revision:
    """Save another text. A name that was changed while somebody wrote means what it meant. Raises as
    :meth:`Drafts.save`."""
    known = experiment.current.references
    meant = references.identities([mention.key for mention in mentions(source)], known)
    source = renamed(source, references.names_today(meant))
    return drafts.save(actor, experiment, {"source": source}, edit).current


def restore(actor: Actor, experiment: Experiment, number: int) -> Revision:
    """The state of an earlier revision becomes the newest one."""
    return revise(actor, experiment, experiment.revisions.get(number=number).text)


def _readable_secrets(written: object) -> Iterable[Problem]:
    """Secrets that stand in an experiment's own text, where everybody can read them."""
    if not isinstance(written, Mapping):
        return
    message = "secrets would be readable in this text."
    if _has_secrets(secrecy.in_system, written.get("system")):
        mend = "Describe the system under Systems, where they stay hidden, and name it here: 'system: its name'."
        yield Problem("system", message, mend)
    if _has_secrets(secrecy.in_candidates, written.get("candidates")):
        mend = "Give the system's operations their credentials under Systems: calls there carry them."
        yield Problem("candidates", message, mend)
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
    """The plan of the revision in force, with the system it names as that is described today."""
    return read_plan(experiment.current.text)


def feeds_of(revision: Revision) -> set[int]:
    """The feeds a revision names, and those its named journeys bring."""
    brought = Journey.objects.filter(pk__in=references.keys(revision.references, "journey"))
    own = references.keys(revision.references, "feed")
    return own.union(*(references.keys(journey.named, "feed") for journey in brought))


def untried(revision: Revision) -> list[Journey]:
    """The journeys a revision names that have not passed a trial since their last change."""
    named = Journey.objects.filter(pk__in=references.keys(revision.references, "journey"))
    return [journey for journey in named if not journey.has_passed]


_sketches: dict[int, list[outline.Corner]] = {}
"""By revision of a run, which does not change."""


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


def own_journeys(named: references.Identities, document: Mapping[str, Any]) -> list[str]:
    """The journeys a document writes out itself: all but those ``named``."""
    names = [str(journey.get("name", "")) for journey in document.get("journeys", [])]
    return [name for name in names if name not in named.get("journey", {})]


def by_journey() -> dict[int, list[Experiment]]:
    """The experiments that name a journey, by its key."""
    in_force = Revision.objects.filter(experiment=OuterRef("pk"), number=OuterRef("position")).values("references")
    found: dict[int, list[Experiment]] = {}
    for experiment in Experiment.objects.filter(archived_at=None).annotate(named=Subquery(in_force)):
        for journey in references.keys(experiment.named, "journey"):
            found.setdefault(journey, []).append(experiment)
    return found


def _find(kind: document.Kind, name: str) -> Mapping[str, Any] | None:
    finders = {"system": systems.drafts.find, "journey": journeys.drafts.find, "feed": feeds.drafts.find}
    return finders[kind](name)


@act("expected a peak", Role.PLANNER)
def expect(account: Account, experiment: Experiment, peak: float | None, peak_in: PeakIn) -> None:
    """Hold the experiment's runs against this load from now on; None: against none."""
    account.about("experiment", experiment.pk, experiment.name)
    account.changed({"peak": _peak(experiment.peak, experiment.peak_in)}, {"peak": _peak(peak, peak_in)})
    experiment.peak, experiment.peak_in = peak, peak_in
    experiment.save(update_fields=["peak", "peak_in"])


def _peak(peak: float | None, peak_in: str) -> str:
    return "" if peak is None else f"{peak:g}{' steps/s' if peak_in == 'throughput' else ''}"
