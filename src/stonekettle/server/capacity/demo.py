"""The capacity plan that comes with the product: the tram company's next two years."""

from __future__ import annotations

from datetime import date, timedelta

from stonekettle.server.access.roles import Actor
from stonekettle.server.capacity import rules
from stonekettle.server.capacity.models import CapacityPlan
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.runs.models import Run

EXPERIMENT = "Harbour festival"
FESTIVAL_IN_DAYS, NEXT_AUTUMN_IN_DAYS, YEARS = 170, 350, 2


def describe(actor: Actor, experiment: Experiment, today: date) -> CapacityPlan:
    """Its festival in spring, the autumn after it, and growth from there on, by what the last run of an experiment
    knows."""
    run = Run.objects.filter(revision__experiment=experiment, result__isnull=False).order_by("-pk").first()

    def ahead(days: int) -> str:
        return (today + timedelta(days=days)).isoformat()

    document = {
        "name": "Two years of tickets",
        "system": experiment.current.plan.system.name,
        "runs": [run.pk] if run is not None else [],
        "peaks": [
            {"on": today.isoformat(), "load": 210, "note": "Weekday mornings now"},
            {"on": ahead(FESTIVAL_IN_DAYS), "load": 480, "note": "Harbour festival"},
            {"on": ahead(NEXT_AUTUMN_IN_DAYS), "load": 330, "note": "Autumn timetable"},
        ],
        "growth": {"by": "25 %", "until": ahead(round(YEARS * 365.25))},
        "headroom": "15 %",
        "sizes": [
            {"component": "ledger", "name": "harbour-8d", "times": 2, "price_per_hour": 0.36},
        ],
        "notes": "The festival doubles ridership; the new tram line brings a quarter more riders each year after it.",
    }
    return rules.create(actor, document)
