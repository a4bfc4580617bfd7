"""Random requests, most of them malformed, and the heaviest that are accepted: what they are answered with,
how long the slowest takes, and how much memory the process has needed at the end.

Works in a throw-away database: ``./kettle bench requests`` gives it one.
"""

from __future__ import annotations

import json
import logging
import re
import resource
import statistics
import time
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from random import Random
from typing import Any

from django.conf import settings
from django.contrib.auth.models import User
from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandParser
from django.test import Client

from stonekettle.plan import document, journey_document
from stonekettle.server.access import people
from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.api import api
from stonekettle.server.experiments import rules as experiments
from stonekettle.server.figures import figure, tell
from stonekettle.server.journeys import rules as journeys
from stonekettle.server.systems import rules as systems

REQUESTS, QUICK_REQUESTS = 20_000, 2_000
SLOWEST_S = 2.0
MOST_BYTES = 500_000_000
ODD: tuple[Any, ...] = (
    None, True, -1, 0, 1e308, 2**62, 10**40, float("inf"), "", "x", "x" * 5_000, "{{", "{{a}}", "(a+)+$[", "a\0b",
    "\ud800",
    "http://[::1", "http://a..b", "https://10.0.0.1/", "９ s", "9" * 400 + " h", "4 s", "12:30", [], {}, [[]], [{}],
    {"a": {"b": [1]}}, "(kept)",
)  # fmt: skip
TEXTS = ("", "{", "[]", "null", '"\\ud800"', "\xff\xfe", "{}{}", "[" * 50_000, '{"a":' * 5_000, "NaN", "9" * 6_000)


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--json", type=Path)
        parser.add_argument("--quick", action="store_true", help="a tenth of the requests")
        parser.add_argument("--seed", type=int, default=1)

    def handle(self, *args: Any, **options: Any) -> None:
        call_command("migrate", verbosity=0)
        logging.disable(logging.WARNING)
        settings.REQUESTS_LIMITED = False
        settings.SPOOL = Path("/tmp/kettle-bench-spool")
        user = people.create("bench", None, Role.ADMINISTRATOR)
        client = Client(raise_request_exception=False, SERVER_NAME="localhost")
        client.force_login(user)
        bench = _Bench(client, user, Random(options["seed"]))
        plain = statistics.median(bench.ask("GET", "/api/me", "", "plain") for _ in range(50))
        count = QUICK_REQUESTS if options["quick"] else REQUESTS
        for method, address, body in bench.random_requests(count):
            bench.ask(method, address, body, "random")
        for name, method, address, body in bench.heaviest():
            bench.ask(method, address, body, name)
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
        heavy, slowest = max((taken, name) for name, taken in bench.slowest.items())[::-1]
        told = ", ".join(f"{status}: {number}" for status, number in sorted(bench.statuses.items()))
        figures = [
            figure(f"random requests, answered with {told}", str(count)),
            figure("answers of 5xx", str(bench.faults), "none", bench.faults == 0),
            figure("answers that are pages", str(bench.pages), "none", bench.pages == 0),
            figure(
                "the slowest random request, times the plainest",
                f"{bench.slowest['random'] / plain:.0f}",
                f"under {SLOWEST_S:g} s",
                bench.slowest["random"] < SLOWEST_S,
            ),
            figure(
                f"the slowest of all ({heavy}), times the plainest",
                f"{slowest / plain:.0f}",
                f"under {SLOWEST_S:g} s",
                slowest < SLOWEST_S,
            ),
            figure("its seconds", f"{slowest:.2f}"),
            figure("memory at most, MB", f"{peak / 1e6:.0f}", "under 500", peak < MOST_BYTES),
        ]
        tell(self.stdout, figures, options["json"])


class _Bench:
    """Asks, and notes what came of it."""

    def __init__(self, client: Client, user: User, random: Random) -> None:
        self._client, self._user, self._random = client, user, random
        self.slowest: dict[str, float] = {}
        self.statuses: Counter[int] = Counter()
        self.faults = self.pages = 0
        self._schema = api.get_openapi_schema()
        self._experiment = _example("quick.yaml")
        system = document.to_document(document.read(self._experiment))["system"]
        journey = journey_document.to_document(journey_document.read(_example("day-ticket.yaml")))
        self._ids = {
            "system_id": systems.create(Actor.of(user), system).pk,
            "journey_id": journeys.drafts.create(Actor.of(user), {**journey, "feeds": []}).pk,
            "experiment_id": experiments.create(Actor.of(user), self._experiment).pk,
            "run_id": 1,
            "feed_id": 1,
            "file_id": 1,
            "job_id": 1,
        }
        self._documents = {"systems": system, "journeys": {**journey, "feeds": []}}

    def ask(self, method: str, address: str, body: str, kind: str) -> float:
        began = time.perf_counter()
        answer = self._client.generic(method, address, body, content_type="application/json")
        taken = time.perf_counter() - began
        self.slowest[kind] = max(taken, self.slowest.get(kind, 0.0))
        if kind == "random":
            self.statuses[answer.status_code] += 1
            self.faults += answer.status_code >= 500
            self.pages += answer.status_code >= 400 and "html" in answer.get("Content-Type", "")
        if address.startswith("/api/sign-"):
            self._client.force_login(self._user)
        return taken

    def random_requests(self, count: int) -> Iterator[tuple[str, str, str]]:
        """Method, address and body: half of them edits of valid documents, half whatever the API's own
        description makes one think of."""
        operations = [
            (path, method.upper(), operation)
            for path, methods in self._schema["paths"].items()
            if not path.startswith("/api/sign-in")  # which waits on purpose
            for method, operation in methods.items()
        ]
        for number in range(count):
            yield self._edited() if number % 2 else self._made_up(*self._random.choice(operations))

    def heaviest(self) -> Iterator[tuple[str, str, str, str]]:
        """What is accepted at the bounds of every document."""
        steps = [{"name": f"s{i}", "request": f"GET /{i}", "think": "1 s"} for i in range(1_000)]
        journey = f"/api/journeys/{self._ids['journey_id']}"
        held = self._client.get(journey).json()
        body = {"document": {"name": "Long", "steps": steps}, "base": held["revision"], "editor": "bench"}
        yield "a journey of 1,000 steps", "PUT", journey, json.dumps(body)
        values = {"name": "Values", "steps": [{**steps[0], "json": [1] * 50_000}]}
        yield "a body of 50,000 values", "PUT", journey, json.dumps({**body, "document": values})
        rows = "  csv: |\n    a,b\n" + "    x,y\n" * 500_000
        head = self._experiment.partition("\nfeeds:")[0]
        wide = f"{head}\nfeeds:\n- name: rows\n{rows}"
        yield "a plan with 4 MB of rows", "POST", "/api/plans/check", json.dumps({"source": wide})
        yield "a plan of 4.9 MB that is none", "POST", "/api/plans/check", json.dumps({"source": "a: b\n" * 980_000})
        stairs = re.sub(r"climb: .*", "climb: {from: 1, to: 500, by: 1, every: 10 s}", self._experiment)
        yield "a plan of 500 levels", "POST", "/api/plans/check", json.dumps({"source": stairs})
        yield "the list of experiments", "GET", "/api/experiments", ""
        yield "the list of journeys", "GET", "/api/journeys", ""
        yield "the meters of a system", "GET", f"/api/systems/{self._ids['system_id']}/meters", ""

    def _edited(self) -> tuple[str, str, str]:
        random = self._random
        kind = random.choice(("systems", "journeys", "experiments"))
        if kind == "experiments":
            source = bytearray(self._experiment.encode())
            for _ in range(random.randrange(1, 5)):
                at = random.randrange(len(source))
                piece = random.choice(
                    (b"", b":", b"- ", b"\n", b"&a ", b"*a ", b"{", b"9" * 50, bytes([random.randrange(256)]))
                )
                source[at : at + random.randrange(4)] = piece
            return "POST", "/api/plans/check", json.dumps({"source": source.decode("utf-8", "replace")})
        edited = self._documents[kind]
        for _ in range(random.randrange(1, 5)):
            edited = self._changed(edited)
        body = {"document": edited, "base": random.randrange(3), "editor": "bench", "continues": random.random() < 0.5}
        return "PUT", f"/api/{kind}/{self._ids[kind[:-1] + '_id']}", json.dumps(body)

    def _changed(self, value: Any) -> Any:
        """A copy with one part, at any depth, replaced, left out, or there twice."""
        random = self._random
        if random.random() < 0.25 or not isinstance(value, (dict, list)) or not value:
            return random.choice(ODD)
        if isinstance(value, dict):
            name = random.choice(list(value))
            if random.random() < 0.1:
                return {key: item for key, item in value.items() if key != name}
            return {**value, name: self._changed(value[name])}
        place = random.randrange(len(value))
        if random.random() < 0.1:
            return [*value, value[place]]
        return [*value[:place], self._changed(value[place]), *value[place + 1 :]]

    def _made_up(self, path: str, method: str, operation: dict[str, Any]) -> tuple[str, str, str]:
        random = self._random
        places = ("0", "-1", "9" * 30, "1e3", "%00", "x" * 200)

        def place(match: re.Match[str]) -> str:
            return str(self._ids[match[1]]) if random.random() < 0.8 else random.choice(places)

        address = re.sub(r"{(\w+)}", place, path)
        query = [p["name"] for p in operation.get("parameters", ()) if p["in"] == "query"]
        if query and random.random() < 0.7:
            address += (
                f"?{random.choice(query)}={random.choice(('%00', '%ED%A0%80', 'nan', '1e999', '-5', '9' * 40, '2'))}"
            )
        if random.random() < 0.3:
            return method, address, random.choice(TEXTS)
        content = operation.get("requestBody", {}).get("content", {}).get("application/json", {}).get("schema", {})
        known = self._schema["components"]["schemas"].get(content.get("$ref", "").rpartition("/")[2], {})
        body = {name: random.choice(ODD) for name in known.get("properties", {}) if random.random() < 0.8}
        return method, address, json.dumps(body)


def _example(name: str) -> str:
    return str((settings.ROOT / "examples" / name).read_text())
