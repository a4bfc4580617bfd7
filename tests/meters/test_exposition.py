"""Metrics pages, good and bad."""

from __future__ import annotations

import pytest

from stonekettle.meters.exposition import ExpositionError, parse

OPEN = "application/openmetrics-text; version=1.0.0"
TEXT = "text/plain; version=0.0.4"


def test_openmetrics_counters_and_gauges_are_read() -> None:
    page = "# TYPE busy_seconds counter\nbusy_seconds_total 12.5\n# TYPE cores gauge\ncores 4\n# EOF\n"
    found = parse(page, OPEN)
    assert (found["busy_seconds"].kind, found["busy_seconds"].value) == ("counter", 12.5)
    assert (found["cores"].kind, found["cores"].value) == ("gauge", 4.0)


def test_the_older_format_gives_the_same_names() -> None:
    found = parse("# TYPE busy_seconds_total counter\nbusy_seconds_total 3\n", TEXT)
    assert found["busy_seconds"].kind == "counter"


def test_labels_are_summed() -> None:
    page = '# TYPE cpu_seconds counter\ncpu_seconds_total{core="0"} 1\ncpu_seconds_total{core="1"} 2\n# EOF\n'
    assert parse(page, OPEN)["cpu_seconds"].value == 3.0


def test_histograms_are_left_alone() -> None:
    page = '# TYPE t histogram\nt_bucket{le="1"} 1\nt_bucket{le="+Inf"} 2\nt_count 2\nt_sum 3\n'
    assert parse(page, TEXT) == {}


@pytest.mark.parametrize("page", ["<html>hello</html>", "# TYPE a counter\na_total x\n# EOF\n"])
def test_malformed_pages_are_refused(page: str) -> None:
    with pytest.raises(ExpositionError, match="not a metrics page"):
        parse(page, OPEN)
