"""Make the findings of ended runs anew: of these, or of all that an older analysis made."""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser
from django.db.models import Q

from stonekettle.core.analysis import VERSION
from stonekettle.engine.lifecycle import ENDED
from stonekettle.server.problems import Conflict, fault
from stonekettle.server.runs import analysing, data, rules
from stonekettle.server.runs.models import Run


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("runs", type=int, nargs="*")

    def handle(self, *args: Any, **options: Any) -> None:
        ended = Run.objects.filter(state__in=[state.value for state in ENDED]).order_by("pk")
        if wanted := options["runs"]:
            runs = ended.filter(pk__in=wanted)
            if missing := sorted(set(wanted) - set(runs.values_list("pk", flat=True))):
                raise CommandError(f"There is no run {missing[0]} that has ended.")
        else:
            runs = ended.filter(Q(analysis_version__lt=VERSION) | Q(analysis_version=None, result__isnull=False))
        if not runs:
            self.stdout.write(f"The findings of all runs are of the newest analysis, version {VERSION}.")
        for run in runs:
            self.stdout.write(f"Run {run.pk}: {self._anew(run)}")

    def _anew(self, run: Run) -> str:
        """Make the findings of one run anew; what became of them."""
        try:
            rules.check_analysable(run)
        except Conflict as error:
            return str(error)
        if not data.seconds_stored(run):
            return "it recorded nothing."
        before, version = run.verdict, run.analysis_version
        try:
            analysing.analyse(run, state=run.state, cause=run.cause)
        except Exception as error:  # the others' can be made all the same
            return str(fault(f"run {run.pk}", error)["detail"])
        was = f"version {version}" if version else "an older analysis"
        return "unchanged." if run.verdict == before else f"{run.verdict} ({was}: {before})"
