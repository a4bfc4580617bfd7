"""Metrics pages, good and bad, read once and read again."""

from __future__ import annotations

import pytest

from stonekettle.meters.exposition import ExpositionError, PageReader, Series, parse

OPEN = "application/openmetrics-text; version=1.0.0"
TEXT = "text/plain; version=0.0.4"


def values(page: str, content_type: str = OPEN) -> dict[str, float]:
    return {s.metric: v for s, v in parse(page, content_type).values.items()}


def test_openmetrics_counters_and_gauges_are_read() -> None:
    page = "# TYPE busy_seconds counter\nbusy_seconds_total 12.5\n# TYPE cores gauge\ncores 4\n# EOF\n"
    assert parse(page, OPEN).values == {
        Series("busy_seconds", (), "counter"): 12.5,
        Series("cores", (), "gauge"): 4.0,
    }


def test_the_older_format_gives_the_same_names() -> None:
    found = parse("# TYPE busy_seconds_total counter\nbusy_seconds_total 3\n", TEXT)
    assert list(found.values) == [Series("busy_seconds", (), "counter")]


def test_labels_keep_series_apart_and_choose_among_them() -> None:
    lines = ['c_total{app="x",core="0"} 1', 'c_total{app="x",core="1"} 2', 'c_total{app="y",core="0"} 4']
    page = "\n".join(["# TYPE c counter", *lines, "# EOF", ""])
    assert len(parse(page, OPEN).values) == 3
    chosen = PageReader({"app": "x"}).read(page, OPEN)
    assert sorted(chosen.values.values()) == [1, 2]


def test_a_metric_with_very_many_label_sets_is_kept_as_its_sum() -> None:
    page = "# TYPE c gauge\n" + "".join(f'c{{path="{i}"}} 1\n' for i in range(1000)) + "# EOF\n"
    assert parse(page, OPEN).values == {Series("c", (), "gauge"): 1000.0}


def test_histograms_keep_their_buckets() -> None:
    page = '# TYPE t histogram\nt_bucket{le="1"} 1\nt_bucket{le="+Inf"} 2\nt_count 2\nt_sum 3\n'
    found = parse(page, TEXT).values
    assert found[Series("t", (("le", "+Inf"),), "bucket")] == 2
    assert found[Series("t_sum", (), "counter")] == 3


def test_a_page_read_again_gives_what_reading_it_in_full_gives() -> None:
    page = (
        '# HELP c Calls made\n# TYPE c counter\nc_total{{to="a b"}} {0}\nc_created{{to="a b"}} 17\n'
        '# TYPE t histogram\nt_bucket{{le="0.5"}} {0}\nt_bucket{{le="+Inf"}} {1}\nt_count {1}\nt_sum 0.2\n# EOF\n'
    )
    reader = PageReader()
    for first, second in ((1, 2), (10, 20), (3, 4)):
        text = page.format(first, second)
        assert reader.read(text, OPEN) == parse(text, OPEN)
    assert reader.helps["c"].text == "Calls made"


def test_new_lines_and_gone_lines_are_noticed_when_reading_again() -> None:
    reader = PageReader()
    reader.read("# TYPE a gauge\na 1\n# TYPE b gauge\nb 2\n# EOF\n", OPEN)
    assert {s.metric for s in reader.read("# TYPE a gauge\na 1\n# EOF\n", OPEN).values} == {"a"}
    grown = reader.read("# TYPE a gauge\na 1\n# TYPE z gauge\nz 9\n# EOF\n", OPEN)
    assert {s.metric: v for s, v in grown.values.items()} == {"a": 1, "z": 9}


def test_time_stamps_and_exemplars_are_understood() -> None:
    found = parse("# TYPE a gauge\na 1 1790000000.5\n# EOF\n", OPEN)
    assert found.newest == 1790000000.5
    page = '# TYPE h histogram\nh_bucket{le="+Inf"} 3 # {trace_id="x"} 0.67\nh_count 3\nh_sum 1\n# EOF\n'
    reader = PageReader()
    assert reader.read(page, OPEN) == reader.read(page, OPEN)


def test_values_that_are_no_number_are_gaps() -> None:
    assert values("# TYPE a gauge\na NaN\n# TYPE b gauge\nb 1\n# EOF\n") == {"b": 1.0}


def test_a_proxys_status_page_is_read_too() -> None:
    page = "Active connections: 3 \nserver accepts handled requests\n 7 6 25 \nReading: 0 Writing: 1 Waiting: 2 \n"
    found = values(page, "text/plain")
    assert found["proxy_requests"] == 25
    assert found["proxy_connections_waiting"] == 2


@pytest.mark.parametrize(
    "page", ["<html>hello</html>", "# TYPE a counter\na_total x\n# EOF\n", "# TYPE a gauge\na 1\n", '{"a": 1}']
)
def test_malformed_pages_are_refused(page: str) -> None:
    with pytest.raises(ExpositionError, match="not a metrics page"):
        parse(page, OPEN)


def test_a_page_cut_off_is_refused_when_read_again() -> None:
    reader = PageReader()
    reader.read("# TYPE a gauge\na 1\n# TYPE b gauge\nb 2\n# EOF\n", OPEN)
    with pytest.raises(ExpositionError):
        reader.read("# TYPE a gauge\na 1\n", OPEN)
