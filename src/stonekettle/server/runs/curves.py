"""The curves that the laws draw through a run's levels, for its plate against load."""

from __future__ import annotations

from ninja import Schema

from stonekettle.core import saturation, scalability
from stonekettle.core.saturation import MIN_LEVELS, Saturation
from stonekettle.server.runs.found import findings_of
from stonekettle.server.runs.models import Run


class FittedCurves(Schema):
    """Over ``loads``, from the lowest level to the highest: throughput (steps/s) by the asymptotic ``bounds`` and by
    the closed network with the measured demands, and its mean response (s); throughput by the ``scalability`` law, for
    people who do not think, with its ``contention`` and ``coherency``. Empty where the run bears none."""

    loads: list[float]
    bounds: list[float]
    throughput: list[float]
    response_s: list[float]
    scalability: list[float]
    contention: float
    coherency: float


NOTHING = FittedCurves(loads=[], bounds=[], throughput=[], response_s=[], scalability=[], contention=0.0, coherency=0.0)


def of(run: Run) -> FittedCurves:
    """The curves of a run's findings; none before there are findings of today's analysis."""
    analysis = findings_of(run)
    if analysis is None or not isinstance(analysis.saturation, Saturation) or len(analysis.levels) < MIN_LEVELS:
        return NOTHING
    fitted = saturation.curves(analysis.levels, analysis.hardware_demands, analysis.saturation)
    law = scalability.of_levels(analysis.levels)
    return FittedCurves(
        loads=fitted.loads.tolist(),
        bounds=fitted.bounds.tolist(),
        throughput=[] if fitted.throughput is None else fitted.throughput.tolist(),
        response_s=[] if fitted.response_s is None else fitted.response_s.tolist(),
        scalability=[] if law is None else law.throughput(fitted.loads).tolist(),
        contention=law.contention if law else 0.0,
        coherency=law.coherency if law else 0.0,
    )
