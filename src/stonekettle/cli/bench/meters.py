"""What scraping fifty instances each second costs, beside fetching their pages and no more.

The pages are real ones: fifty instances of the practice system's ledger in a process of their own.
"""

from __future__ import annotations

import multiprocessing
import tempfile
import time
import zlib
from pathlib import Path
from queue import SimpleQueue
from typing import Any

import urllib3
import yaml

from stonekettle.cli.bench import Figure
from stonekettle.cli.run import PracticeProcess
from stonekettle.engine.allowance import LOOPBACK
from stonekettle.engine.local import practice_directory
from stonekettle.meters.scraper import Scraper
from stonekettle.plan import system_document

INSTANCES = 50
BIG_SERIES = 20_000
CORE_SHARE = 0.5


def measure(*, quick: bool) -> list[Figure]:
    """Share of a core for scraping, its ratio to bare fetching, and reading a large page again."""
    seconds = 8 if quick else 30
    with tempfile.TemporaryDirectory() as folder:
        config = Path(folder) / "practice.yaml"
        config.write_text(yaml.safe_dump({"changes": {"ledger": {"instances": INSTANCES}}}))
        with PracticeProcess(config) as practice:
            addresses = list(practice_directory(practice.control_url)["ledger"])
            bare = _apart(_fetch, addresses, seconds)
            full, series, size = _apart(_scrape, addresses, seconds)
    first, again = _large_page()
    return [
        Figure(
            f"{INSTANCES} instances each second ({series} series): share of a core",
            f"{full / seconds:.0%}",
            f"under {CORE_SHARE:.0%}",
            full / seconds < CORE_SHARE,
        ),
        Figure("the same, ratio to fetching the pages only", f"{full / bare:.2f}", "", None),
        Figure("stored per second, compressed", f"{size / seconds / 1000:.1f} kB", "", None),
        Figure(
            f"a page of {BIG_SERIES} lines read again, ratio to reading it in full",
            f"{again / first:.3f} ({again * 1000:.0f} ms)",
            "under 0.2",
            again / first < 0.2,
        ),
    ]


def _apart(measure_it: Any, *given: object) -> Any:
    """The result of a measurement in a fresh process."""
    context = multiprocessing.get_context("spawn")
    answers = context.SimpleQueue()
    process = context.Process(target=_answer, args=(answers, measure_it, given))
    process.start()
    found = answers.get()
    process.join()
    return found


def _answer(answers: SimpleQueue[Any], measure_it: Any, given: tuple[object, ...]) -> None:
    answers.put(measure_it(*given))


def _fetch(addresses: list[str], seconds: int) -> float:
    """Processor seconds for fetching every page each second."""
    http = urllib3.PoolManager(num_pools=len(addresses) + 1)
    begin, used = time.monotonic(), time.process_time()
    for second in range(seconds):
        time.sleep(max(0.0, begin + second - time.monotonic()))
        for address in addresses:
            http.request("GET", f"{address}/metrics")
    return time.process_time() - used


def _scrape(addresses: list[str], seconds: int) -> tuple[float, int, int]:
    """Processor seconds for scraping and packing, the series found, the bytes to store."""
    pages = [f"{address}/metrics" for address in addresses]
    meters = [{"openmetrics": pages}]
    system = system_document.from_document(
        {"name": "Fifty", "base_url": pages[0], "components": [{"name": "ledger", "meters": meters}]}
    )
    scraper = Scraper(system, LOOPBACK.refusal)
    scraper.check()
    begin, used = time.monotonic(), time.process_time()
    scraper.start(begin)
    series = size = 0
    for second in range(seconds):
        time.sleep(max(0.0, begin + second - time.monotonic()))
        scraper.request(second)
        for batch in scraper.ready(wait=True):
            series += len(batch.new)
            size += len(zlib.compress(batch.chunk, 1))
    scraper.close()
    return time.process_time() - used, series, size


def _large_page() -> tuple[float, float]:
    """Processor seconds for a large page, the first time and again."""
    from stonekettle.meters.exposition import PageReader

    lines = [f'work_total{{shard="{i}"}} {i}' for i in range(BIG_SERIES)]
    text = "\n".join(["# TYPE work counter", *lines, "# EOF", ""])
    reader = PageReader()
    found = []
    for _ in range(6):
        used = time.process_time()
        reader.read(text, "application/openmetrics-text")
        found.append(time.process_time() - used)
    return found[0], min(found[1:])
