"""Pins over HTTP: the figures that a system's plates show."""

from __future__ import annotations

from ninja import Schema

from stonekettle.meters.figures import FigureKind


class PinBody(Schema):
    """A figure of a metric that the system's plates show."""

    component: str
    metric: str
    figure: FigureKind
    other_component: str = ""
    other_metric: str = ""
