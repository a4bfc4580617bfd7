"""The curves that the laws draw through a run's levels, for its plate against load."""

from __future__ import annotations

from ninja import Schema

from stonekettle.core import saturation
from stonekettle.core.bottleneck import LimitingResource
from stonekettle.core.run_data import SOFTWARE
from stonekettle.core.saturation import MIN_LEVELS, Saturation
from stonekettle.server.runs.found import findings_of
from stonekettle.server.runs.models import Run


class FittedCurves(Schema):
    """Over ``loads``, from the lowest level to the highest: throughput (steps/s) by the asymptotic ``bounds`` and by
    the closed network with the measured demands, and its mean response (s). Empty where the run bears none."""

    loads: list[float]
    bounds: list[float]
    throughput: list[float]
    response_s: list[float]


NOTHING = FittedCurves(loads=[], bounds=[], throughput=[], response_s=[])


def of(run: Run) -> FittedCurves:
    """The curves of a run's findings; none before there are findings of today's analysis."""
    analysis = findings_of(run)
    if analysis is None or not isinstance(analysis.saturation, Saturation) or len(analysis.levels) < MIN_LEVELS:
        return NOTHING
    limiting = analysis.limiting
    evidence = limiting.evidence if isinstance(limiting, LimitingResource) else ()
    pools = {one.key for one in evidence if one.kind in SOFTWARE}  # they do no work of their own
    fitted = saturation.curves(
        analysis.levels, [d for d in analysis.demands if d.key not in pools], analysis.saturation
    )
    return FittedCurves(
        loads=fitted.loads.tolist(),
        bounds=fitted.bounds.tolist(),
        throughput=[] if fitted.throughput is None else fitted.throughput.tolist(),
        response_s=[] if fitted.response_s is None else fitted.response_s.tolist(),
    )
