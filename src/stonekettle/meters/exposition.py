"""What does a metrics page say? OpenMetrics and the older text format alike."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from prometheus_client.openmetrics.parser import text_string_to_metric_families as parse_openmetrics
from prometheus_client.parser import text_string_to_metric_families as parse_text


class ExpositionError(ValueError):
    """A page that is not a metrics page."""


@dataclass(frozen=True)
class Metric:
    """One metric summed over its labels. Counters are named without ``_total``."""

    name: str
    kind: Literal["counter", "gauge"]
    value: float


def parse(text: str, content_type: str) -> Mapping[str, Metric]:
    """Counters and gauges of a page by name. Raises :class:`ExpositionError` when malformed."""
    read = parse_openmetrics if "openmetrics" in content_type else parse_text
    found: dict[str, Metric] = {}
    try:
        for family in read(text):
            if family.type not in ("counter", "gauge", "unknown"):
                continue
            counter = family.type == "counter"
            samples = [s for s in family.samples if s.name in (family.name, f"{family.name}_total")]
            if samples:
                value = sum(s.value for s in samples)
                name = family.name.removesuffix("_total")
                found[name] = Metric(name, "counter" if counter else "gauge", value)
    except (ValueError, KeyError, IndexError) as error:
        raise ExpositionError(f"this is not a metrics page: {error}") from error
    return found
