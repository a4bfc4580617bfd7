"""Secrets are planted everywhere, a planner walks through everything, and nothing that can be read has one."""

from __future__ import annotations

import gzip
import json
import threading
import time
import zlib
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import psycopg
import pytest
from playwright.sync_api import Page, expect

from tests.e2e.installation import Installation
from tests.e2e.test_failures import Api
from tests.e2e.test_systems import add_component, fill, new_system, saved

pytestmark = pytest.mark.e2e
PLANTED = {
    name: f"planted-{number:02d}-{name.replace(' ', '-')}-x9"
    for number, name in enumerate(
        (
            "meter token", "address password", "session password", "form password", "api key", "client secret",
            "new password", "query token", "raw password", "answered token", "set cookie", "location token",
        )
    )
}  # fmt: skip


class Site(BaseHTTPRequestHandler):
    """Gives tokens away in every manner, and says back what it was sent."""

    def do_GET(self) -> None:
        if self.path.startswith("/metrics"):
            return self.answer(200, "# TYPE busy gauge\nbusy 0.5\n# EOF\n", "application/openmetrics-text")
        if self.path == "/go":
            return self.answer(302, "", Location=f"/home?token={PLANTED['location token']}")
        if self.path == "/denied":
            return self.answer(500, json.dumps({"token": PLANTED["answered token"], "why": self.headers["X-Api-Key"]}))
        return self.answer(200, f"<p>{self.path} {self.headers.get('Authorization')}</p>", "text/html")

    def do_POST(self) -> None:
        sent = self.rfile.read(int(self.headers.get("Content-Length", 0))).decode()
        cookie = f"sid={PLANTED['set cookie']}; Path=/"
        self.answer(
            200, json.dumps({"access": PLANTED["answered token"], "said": [sent, self.path]}), Set_Cookie=cookie
        )

    def answer(self, status: int, text: str, kind: str = "application/json", **headers: str) -> None:
        self.send_response(status)
        for name, value in {"Content-Type": kind, "Content-Length": str(len(text.encode())), **headers}.items():
            self.send_header(name.replace("_", "-"), value)
        self.end_headers()
        self.wfile.write(text.encode())

    def log_message(self, *args: object) -> None:
        pass


@pytest.fixture
def site() -> Iterator[str]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), Site)
    server.daemon_threads = True
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"127.0.0.1:{server.server_address[1]}"
    server.shutdown()
    server.server_close()


JOURNEY = f"""
name: Planted
session: {{credentials: {{user: anna, password: {PLANTED["session password"]}}}}}
steps:
  - name: Sign in
    request: POST /login?access_token={PLANTED["query token"]}
    form: {{user: anna, password: {PLANTED["form password"]}}}
    keep: [{{name: access, json: $.access}}]
    think: 1 s
  - name: Call
    request: POST /api
    headers: {{X-Api-Key: {PLANTED["api key"]}, X-Access: "{{{{access}}}}"}}
    json: {{client_secret: {PLANTED["client secret"]}, user: {{newPassword: {PLANTED["new password"]}}}}}
    think: 1 s
  - {{name: Raw, request: POST /raw, body: "user=anna&pwd={PLANTED["raw password"]}", think: 1 s}}
  - {{name: Go, request: GET /go, redirects: true, think: 1 s}}
"""
EXPERIMENT = """
name: Planted
system: Planted
journeys:
  - {journey: Planted}
load:
  - hold: {users: 3, for: 11 s}
"""


def walk(page: Page, site: str, tmp_path: Path) -> None:
    """Describe, meter, import, try, run, fail and download."""
    new_system(page, "Planted")
    fill(page, page.get_by_label("Base URL"), f"http://anna:{PLANTED['address password']}@{site}")
    form = add_component(page, 1, "site", f"http://{site}/metrics?token={PLANTED['meter token']}")
    form.get_by_label("Access").select_option("bearer")
    fill(page, form.get_by_label("Token"), PLANTED["meter token"])
    expect(form.get_by_test_id("meter-states")).to_contain_text("metrics in", timeout=30_000)

    page.get_by_role("link", name="Journeys", exact=True).click()
    page.get_by_role("button", name="From a file").click()
    (tmp_path / "planted.yaml").write_text(JOURNEY)
    page.get_by_label("File to make a journey from").set_input_files(tmp_path / "planted.yaml")
    expect(page.get_by_role("region", name="Steps").get_by_role("listitem")).to_have_count(4)
    fill_name = page.get_by_label("Name of the journey")
    fill_name.fill("Planted")
    page.get_by_label("Tried against").select_option("Planted")
    page.get_by_role("button", name="Create the journey").click()
    expect(page.get_by_role("heading", name="Planted")).to_be_visible()
    page.get_by_role("button", name="Try it once").click()
    expect(page.get_by_test_id("trial")).to_contain_text("The trial passed", timeout=30_000)
    expect(page.get_by_test_id("trial")).to_contain_text("•••")
    with page.expect_download() as download:
        page.get_by_role("link", name="journey.yaml").click()
    assert "(kept)" in Path(download.value.path()).read_text()

    page.get_by_role("link", name="Experiments", exact=True).click()
    for end in ("finished", "failed"):
        if end == "failed":
            # A step whose answer tells a token, at which the next trial fails.
            page.get_by_role("link", name="Journeys", exact=True).click()
            page.get_by_role("link", name="Planted", exact=True).first.click()
            page.get_by_role("button", name="Add a step").click()
            step = page.locator("details[data-step-form][open]")
            fill(page, step.get_by_label("Address in the system"), "/denied")
            saved(page)
            page.get_by_role("link", name="Experiments", exact=True).click()
            page.get_by_role("link", name="Planted", exact=True).click()
        else:
            page.get_by_role("button", name="New experiment").click()
            page.get_by_role("button", name="As text").click()
            page.get_by_test_id("source").fill(EXPERIMENT)
            expect(page.get_by_text("This plan has no faults.")).to_be_visible()
            page.get_by_role("button", name="Create experiment").click()
        page.get_by_role("button", name="Start run").click()
        ended = page.locator("[data-testid=ending], [data-testid=notes]")
        expect(ended.first).to_be_visible(timeout=90_000)
        page.get_by_role("link", name="Runs", exact=True).click()
        expect(page.get_by_role("row").nth(1)).to_contain_text(end)
        page.get_by_role("link", name="Experiments", exact=True).click()


def everything_told(page: Page) -> Iterator[tuple[str, bytes]]:
    """The answer of every address of the API that can be asked, for the newest objects of each kind: those that were
    made here, and some that came with the product."""
    api = Api(page)
    ids: dict[str, list[int]] = {
        name: sorted(int(one["id"]) for one in api.get(f"/{place}"))[-3:]
        for name, place in (("system_id", "systems"), ("journey_id", "journeys"), ("feed_id", "feeds"))
    }
    ids["experiment_id"] = sorted(int(one["id"]) for one in api.get("/experiments"))[-3:]
    ids["run_id"] = sorted(int(one["id"]) for one in api.get("/runs")["runs"])[-4:]
    ids["job_id"] = list(range(1, 40))
    for path, methods in page.request.get("/api/openapi.json").json()["paths"].items():
        name = next((name for name in ids if f"{{{name}}}" in path), "")
        for one in ids.get(name, [0]) if "get" in methods else []:
            answer = page.request.get(path.replace(f"{{{name}}}", str(one)))
            yield f"GET {path} {one}", answer.body()


def everything_stored(installed: Installation) -> Iterator[tuple[str, bytes]]:
    """Every cell of every table as it is at rest, unpacked where it is packed, and the files of the data."""
    kept: dict[str, Any] = json.loads((installed.data / "settings.json").read_text())
    where = f"host=127.0.0.1 port={kept['database_port']} user=stonekettle dbname=stonekettle"
    with psycopg.connect(where, password=kept["database_password"]) as connection:
        connection.execute("CHECKPOINT")
        tables = connection.execute("SELECT tablename FROM pg_tables WHERE schemaname = 'public'").fetchall()
        for (table,) in tables:
            for row in connection.execute(f'SELECT * FROM "{table}"'):
                for cell in row:
                    yield table, unpacked(cell)
    for folder in ("postgres", "logs", "spool"):
        for path in (installed.data / folder).rglob("*"):
            if path.is_file():
                yield str(path.relative_to(installed.data)), path.read_bytes()


def unpacked(cell: Any) -> bytes:
    if not isinstance(cell, (bytes, memoryview)):
        return json.dumps(cell, default=str, ensure_ascii=False).encode()
    content = bytes(cell)
    for unpack in (zlib.decompress, gzip.decompress):
        try:
            return unpack(content)
        except (zlib.error, OSError, EOFError):
            continue
    return content


def test_planted_secrets_are_found_nowhere(page: Page, installed: Installation, site: str, tmp_path: Path) -> None:
    walk(page, site, tmp_path)
    time.sleep(1)
    found, seen, others = [], 0, 0
    for where, content in (*everything_told(page), *everything_stored(installed)):
        seen += 1
        others += b"Planted" in content
        found += [(where, name) for name, secret in PLANTED.items() if secret.encode() in content]
    assert found == []
    assert seen > 200
    assert others > 20, "the search does find what is not a secret"
