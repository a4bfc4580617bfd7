"""Scraping real endpoints, healthy and not."""

from __future__ import annotations

import base64
import threading
import time
from collections.abc import Callable

import pytest

from stonekettle.meters.samples import Readings, Source, unpack
from stonekettle.meters.scraper import Scraper, first_fault
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.plan.system import System
from tests.meters.conftest import MetricsServer

Make = Callable[..., Scraper]


def scrape(scraper: Scraper, rounds: int, change: Callable[[int], None] = lambda _: None) -> Readings:
    """So many rounds, a tenth of a second apart on a clock ten times as fast."""
    sources: dict[int, Source] = {}
    chunks = []
    scraper.start(time.monotonic())
    for number in range(rounds):
        change(number)
        scraper.request(number)
        for batch in scraper.ready(wait=True):
            sources.update(batch.new)
            chunks.append(batch.chunk)
    return unpack(sources, chunks)


def test_a_check_tells_what_was_found(make_scraper: Make, metrics: MetricsServer) -> None:
    (check,) = make_scraper(metrics.url).check()
    assert (check.url, check.fault) == (metrics.url, None)
    assert check.metrics == ("cpu_cores", "cpu_seconds")
    assert check.resources == ("cpu",)
    assert check.clock_offset_s == pytest.approx(0, abs=1.1)
    assert check.age_s == 0


def test_rounds_become_series_per_instance(make_scraper: Make, metrics: MetricsServer) -> None:
    found = scrape(make_scraper(metrics.url, metrics.url.replace("127.0.0.1", "localhost")), 3)
    busy = [item for item in found.series if item.source.metric == "cpu_seconds"]
    assert len({item.source.instance for item in busy}) == 2
    assert [item.values.size for item in found.series] == [3, 3, 3, 3]
    assert busy[0].source.kind == "counter"
    assert (busy[0].times[1:] > busy[0].times[:-1]).all()


def test_an_outage_is_a_gap_and_readings_come_back(make_scraper: Make, metrics: MetricsServer) -> None:
    def change(number: int) -> None:
        metrics.status = 500 if number in (2, 3) else 200

    scraper = make_scraper(metrics.url)
    found = scrape(scraper, 6, change)
    assert {item.values.size for item in found.series} == {4}
    (report,) = scraper.report()
    assert (report.answered, report.missed) == (4, 2)
    assert "status 500" in report.last_fault


def test_an_address_that_hangs_is_not_asked_again_until_it_answers(make_scraper: Make, metrics: MetricsServer) -> None:
    metrics.hang_s = 0.5
    scraper = make_scraper(metrics.url)
    for number in range(5):
        scraper.request(number)
    scraper.ready(wait=True)
    assert len(metrics.headers) == 1


@pytest.mark.parametrize(
    ("status", "page", "part"),
    [
        (503, "", "status 503"),
        (401, "", "credentials are missing or wrong"),
        (200, "<html>", "not a metrics page"),
        (200, "x" * 8_100_000, "over 8 MB"),
    ],
)
def test_a_meter_that_does_not_report_is_named(
    make_scraper: Make, metrics: MetricsServer, status: int, page: str, part: str
) -> None:
    metrics.status, metrics.page = status, page
    fault = first_fault(make_scraper(metrics.url).check())
    assert fault is not None
    assert "shop" in fault
    assert part in fault


@pytest.mark.parametrize(
    ("location", "part"),
    [
        ("http://10.255.255.1/metrics", "10.255.255.1 is not an allowed target"),
        ("ftp://127.0.0.1/metrics", "no web address"),
        ("/metrics", "redirects more than 3 times"),
    ],
)
def test_a_redirect_never_leads_to_a_forbidden_place(
    make_scraper: Make, metrics: MetricsServer, location: str, part: str
) -> None:
    metrics.status, metrics.location = 302, location
    fault = first_fault(make_scraper(metrics.url).check())
    assert fault is not None
    assert part in fault


def test_no_connection_is_made_to_a_forbidden_address(
    metrics: MetricsServer, make_system: Callable[..., object]
) -> None:
    system = make_system(meter={"openmetrics": metrics.url})
    scraper = Scraper(system, lambda address, port: "is closed")  # type: ignore[arg-type]
    fault = first_fault(scraper.check())
    scraper.close()
    assert fault is not None
    assert "127.0.0.1 is closed" in fault
    assert metrics.headers == []


def test_a_redirect_that_is_allowed_is_followed(make_scraper: Make, metrics: MetricsServer) -> None:
    metrics.status, metrics.location = 302, "/elsewhere"
    (check,) = make_scraper(metrics.url).check()
    assert check.fault is None


def test_credentials_are_sent(make_scraper: Make, metrics: MetricsServer) -> None:
    make_scraper(metrics.url, credentials={"bearer": "abc"}).check()
    make_scraper(metrics.url, credentials={"user": "anna", "password": "p:w"}).check()
    assert metrics.headers[0]["Authorization"] == "Bearer abc"
    assert base64.b64decode(metrics.headers[1]["Authorization"].removeprefix("Basic ")) == b"anna:p:w"


def test_a_clock_half_a_minute_off_is_told_and_moves_nothing(make_scraper: Make, metrics: MetricsServer) -> None:
    metrics.clock_ahead_s = 30
    scraper = make_scraper(metrics.url)
    (check,) = scraper.check()
    assert check.clock_offset_s == pytest.approx(30, abs=1.1)
    found = scrape(scraper, 3)
    assert all(0 <= t < 3 for item in found.series for t in item.times)


def test_old_figures_are_told_by_their_age(make_scraper: Make, metrics: MetricsServer) -> None:
    metrics.clock_ahead_s = 30
    metrics.page = f"# TYPE a gauge\na 1 {time.time() + 30 - 300}\n# EOF\n"
    (check,) = make_scraper(metrics.url).check()
    assert check.age_s == pytest.approx(300, abs=2)


def test_a_page_of_five_megabytes_is_read_and_read_fast_again(make_scraper: Make, metrics: MetricsServer) -> None:
    lines = [f'work_total{{shard="{i}",kind="{"x" * 60}"}} {i}' for i in range(50_000)]
    metrics.page = "# TYPE work counter\n" + "\n".join(lines) + "\n# EOF\n"
    assert len(metrics.page) > 4_500_000
    scraper = make_scraper(metrics.url)
    (check,) = scraper.check(60)
    assert check.fault is None
    assert check.series == 1
    began = time.process_time()
    found = scrape(scraper, 2)
    again = (time.process_time() - began) / 2
    assert again < check.took_s
    assert found.series[0].values[0] == sum(range(50_000))


def test_nobody_listening_is_told(make_scraper: Make) -> None:
    fault = first_fault(make_scraper("http://127.0.0.1:9/metrics").check())
    assert fault is not None
    assert "does not answer" in fault


def test_checks_end_together_however_an_address_behaves(make_scraper: Make, metrics: MetricsServer) -> None:
    metrics.drip_s = 0.2
    before = threading.active_count()
    scraper = make_scraper(*(f"{metrics.url}?{i}" for i in range(12)), "http://127.0.0.1:9/metrics")
    began = time.monotonic()
    checks = scraper.check(1.0)
    assert time.monotonic() - began < 10  # a page takes over 15 s
    assert ["within 1 s" in (check.fault or "") for check in checks] == [True] * 12 + [False]
    scraper.close()
    give_up = time.monotonic() + 10
    while threading.active_count() > before + 1 and time.monotonic() < give_up:
        time.sleep(0.05)
    ours = [thread.name for thread in threading.enumerate() if thread.name.startswith("meter")]
    assert ours == []


def test_a_dripping_address_is_a_gap_and_holds_up_no_other(
    make_scraper: Make, metrics: MetricsServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("stonekettle.meters.scraper.OVERDUE_S", 0.5)
    dripping = MetricsServer()
    dripping.drip_s = 0.2
    threading.Thread(target=dripping.serve_forever, daemon=True).start()
    scraper = make_scraper(metrics.url, dripping.url)
    began = time.monotonic()
    found = scrape(scraper, 3)
    assert time.monotonic() - began < 6
    assert {item.source.instance for item in found.series} == {metrics.base.removeprefix("http://")}
    assert {item.values.size for item in found.series} == {3}
    dripping.shutdown()
    dripping.server_close()


def test_a_series_that_cannot_be_kept_is_left_out_with_its_reason(make_scraper: Make, metrics: MetricsServer) -> None:
    long, huge = "m" * 501, "x" * 9_000
    metrics.page = f'{long} 1\nok{{a="b"}} 2\nnul{{a="\0"}} 3\nwide{{a="{huge}"}} 4\n# EOF\n'
    scraper = make_scraper(metrics.url)
    (check,) = scraper.check()
    assert check.metrics == ("ok",)
    found = scrape(scraper, 2)
    assert [item.source.metric for item in found.series] == ["ok"]
    (report,) = scraper.report()
    for reason in ("name is over 500", "a NUL character", "labels are over 8000"):
        assert reason in report.last_fault


def test_instances_that_come_and_go_are_asked_for_with_each_round(
    make_scraper: Make, make_system: Callable[..., System], metrics: MetricsServer
) -> None:
    first, second = metrics.url, metrics.url.replace("127.0.0.1", "localhost")
    told = {0: [first], 1: [first, second], 2: None, 3: [second]}
    answered, stage = threading.Event(), [0]

    def discover() -> System:
        addresses = told[stage[0]]
        answered.set()
        if addresses is None:
            raise PlanError([Problem("address", "nobody knows.", "Wait.")])
        return make_system(meter={"openmetrics": addresses})

    def change(number: int) -> None:
        stage[0] = number // 4
        if number:
            assert answered.wait(5)
            answered.clear()
            time.sleep(0.05)  # its answer is taken up by the next round

    scraper = make_scraper(first, discover=discover)
    found = scrape(scraper, 16, change)
    read = {
        item.source.instance.rpartition(":")[0]: item.values.size
        for item in found.series
        if item.source.metric == "cpu_seconds"
    }
    # The answer of a round counts from the next on; where nobody knows, those before stay.
    assert read == {"127.0.0.1": 13, "localhost": 11}
    assert {report.missed for report in scraper.report()} == {0}
    assert [report.answered for report in scraper.report()] == [11, 13]
