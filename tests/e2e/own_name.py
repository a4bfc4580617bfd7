"""Somebody proves that a web server under a name of its own is theirs, loads it, and takes it back; all of it by TLS,
by way of a proxy.

Run as a program inside of a fresh network namespace: there the names are in the hosts file, and Debian's nginx listens
at addresses that are not loopback: as the shop to be loaded, and with our example of a configuration before the
installation.
"""

from __future__ import annotations

import shutil
import subprocess
import sys
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID
from playwright.sync_api import Page, expect

from tests.e2e import installation as house
from tests.network import ROOT, ip, replace_files

NAME, ADDRESS, PORT = "shop.test", "10.77.0.5", 8090
LONG_MS = 90_000
NGINX = """
daemon off; worker_processes 1; pid {folder}/nginx.pid; error_log {folder}/error.log;
events {{ worker_connections 1000; }}
http {{
    log_format plain '$msec $status $uri';
    access_log {folder}/access.log plain;
    {kept}
    server {{ listen {address}:{port}; root {folder}/www; }}
    include {folder}/proxy.conf;
}}
"""
SITE, SITE_ADDRESS = "kettle.example.com", "10.77.0.6"
START = """async (id) => {
    const token = document.cookie.match(/kettle_csrf=([^;]+)/)[1]
    const headers = { 'X-CSRFToken': token }
    return await (await fetch(`/api/experiments/${id}/runs`, { method: 'POST', headers })).json()
}"""
"""Starting it all the same, whatever the page offers."""
BEHIND_PROXY = ("--public", f"https://{SITE}", "--proxy", "127.0.0.1")
PLAN = """
name: For real
system: {name: Shop, base_url: "http://shop.test:8090"}
journeys:
  - name: Look
    steps: [{name: Front, request: GET /, think: "exponential 100 ms"}]
load:
  - hold: {users: 20, for: 80 s}
"""


def main(folder: Path) -> None:
    ip("link set lo up")
    ip(f"addr add {ADDRESS}/32 dev lo")
    ip(f"addr add {SITE_ADDRESS}/32 dev lo")
    replace_files(folder, {"hosts": f"127.0.0.1 localhost\n{ADDRESS} {NAME}\n{SITE_ADDRESS} {SITE}\n"})
    (folder / "www" / ".well-known").mkdir(parents=True)
    (folder / "www" / "index.html").write_text("Welcome")
    parts = ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
    kept = " ".join(f"{part}_temp_path {folder}/{part};" for part in parts)
    (folder / "nginx.conf").write_text(NGINX.format(folder=folder, kept=kept, address=ADDRESS, port=PORT))
    make_certificate(folder)
    example = (ROOT / "examples" / "nginx.conf").read_text()
    for told, here in (
        ("/etc/ssl/certs", folder),
        ("/etc/ssl/private", folder),
        ("listen ", f"listen {SITE_ADDRESS}:"),
    ):
        assert told in example
        example = example.replace(told, str(here))
    (folder / "proxy.conf").write_text(example)
    program = shutil.which("nginx", path="/usr/sbin:/usr/bin")
    assert program, "nginx-light belongs to what the tests install"
    server = subprocess.Popen([program, "-c", str(folder / "nginx.conf"), "-p", str(folder)])
    expect.set_options(timeout=20_000)
    try:
        data = folder / "data"
        with (
            house.installation(
                data, 8800, *BEHIND_PROXY, demo=False, url=f"https://{SITE}", KETTLE_PROOF_EVERY_S="2"
            ) as installed,
            house.browser() as chromium,
        ):
            context = chromium.new_context(
                viewport={"width": 1280, "height": 800}, base_url=installed.url, ignore_https_errors=True
            )
            page = context.new_page()
            problems: list[str] = []
            page.on("console", lambda said: problems.append(said.text) if said.type == "error" else None)
            see_the_way_in(page, installed)
            walk(page, folder)
            assert [text for text in problems if "Content Security" in text] == []
    finally:
        server.terminate()
        server.wait(10)


def see_the_way_in(page: Page, installed: house.Installation) -> None:
    """By TLS, whatever one types; with cookies that go no other way; and told apart by one's own address."""
    arrived = page.goto(f"http://{SITE}/")
    assert arrived is not None
    assert arrived.url.startswith(f"https://{SITE}/")
    headers = arrived.headers
    assert headers["strict-transport-security"].startswith("max-age=31536000")
    assert "unsafe" not in headers["content-security-policy"]
    assert "default-src 'self'" in headers["content-security-policy"]
    house.sign_in(page, installed)
    cookies = {cookie["name"]: cookie for cookie in page.context.cookies()}
    assert cookies["kettle_session"]["secure"]
    assert cookies["kettle_session"]["httpOnly"]
    assert cookies["kettle_csrf"]["secure"]
    forged = {"X-Forwarded-For": "8.8.8.8", "Host": SITE}
    assert page.request.get("/api/me", headers=forged).ok
    deeds = page.request.get("/api/deeds?text=signed").json()["deeds"]
    assert {deed["address"] for deed in deeds} == {SITE_ADDRESS}
    elsewhere = page.request.get("/api/me", headers={"Host": "evil.example"})
    assert elsewhere.status == 400


def walk(page: Page, folder: Path) -> None:
    shown = folder / "www" / ".well-known" / "stone-kettle"

    # An experiment is written; nothing goes to a host that nobody allowed.
    page.goto("/experiments/new?as=text")
    page.get_by_test_id("source").fill(PLAN)
    page.get_by_role("button", name="Create experiment").click()
    notice = page.get_by_test_id("targets")
    expect(notice).to_contain_text(f"{ADDRESS} is not an allowed target")
    experiment = page.url
    expect(page.get_by_role("button", name="Start run")).to_be_disabled()
    refused = page.evaluate(START, experiment.rpartition("/")[2])
    assert refused["title"] == "Nothing was started"
    assert "see Targets" in refused["problems"][0]["mend"]

    # It is claimed; the token has to be shown first.
    notice.get_by_role("link", name="Prove that it is yours").click()
    expect(page.get_by_label("Host")).to_have_value(NAME)
    expect(page.get_by_label("Ports")).to_have_value(str(PORT))
    page.get_by_role("button", name="Make a token").click()
    expect(page.get_by_role("alert")).to_contain_text("Write some text")
    page.get_by_label("Contact").fill("Anna of the shop, 123")
    page.get_by_label("Scheme").select_option("http")
    page.get_by_role("button", name="Make a token").click()
    card = page.locator(f"[data-target='{NAME} port {PORT}']")
    look = card.get_by_role("button", name="Look for the token")
    look.click()
    state = card.get_by_test_id("target-state")
    expect(state).to_contain_text(f"http://{ADDRESS}:{PORT}/.well-known/stone-kettle answers with status 404")
    token = card.locator("code").first.inner_text()
    shown.write_text(f"somebody-elses\n{token}\n")
    look.click()
    expect(state).to_contain_text("Load may go there.")

    # A run begins, with whom to tell; it ends when the token is taken away, and says why.
    page.goto(experiment)
    expect(notice).to_contain_text("Tell Anna of the shop, 123 before you start")
    page.get_by_role("button", name="Start run").click()
    expect(page.get_by_test_id("run-state")).to_contain_text("running", timeout=LONG_MS)
    page.wait_for_timeout(3_000)
    shown.unlink()
    ending = page.get_by_test_id("ending")
    expect(ending).to_contain_text(
        f"Stopped by the guard of targets: The target {NAME} is no longer proven", timeout=LONG_MS
    )
    expect(ending).to_contain_text("answers with status 404 instead of the token")
    loaded = asked(folder)
    assert len(loaded) > 100
    page.wait_for_timeout(2_000)
    assert len(asked(folder)) == len(loaded), "nothing is sent any more"
    page.goto(experiment)
    expect(notice).to_contain_text(f"{NAME} is no longer proven")
    expect(page.get_by_role("button", name="Start run")).to_be_disabled()

    # With the token back and a ceiling, a run ends where it meets that.
    shown.write_text(token)
    page.goto("/targets")
    look.click()
    expect(state).to_contain_text("Load may go there.")
    card.get_by_role("button", name=f"Change {NAME}").click()
    card.get_by_label("Requests/s").fill("60")
    card.get_by_role("button", name="Save").click()
    expect(card).to_contain_text("Bears 60 requests per second.")
    page.goto(experiment)
    page.get_by_role("button", name="Start run").click()
    expect(ending).to_contain_text(f"The ceiling of {NAME} was reached: 60 requests per second", timeout=LONG_MS)
    since = asked(folder)[len(loaded) :]
    assert most_within(1.0, since) > 40
    # What was sent a second at the most may come in closer together on a busy machine.
    assert most_within(3.0, since) <= 3 * 60

    # Taken out, and had back.
    page.goto("/targets")
    card.get_by_role("button", name=f"Remove {NAME}").click()
    expect(page.get_by_role("status")).to_contain_text("was removed; runs that load it end")
    expect(card).to_have_count(0)
    page.get_by_role("button", name="Bring it back").click()
    expect(state).to_contain_text("Load may go there.")


def make_certificate(folder: Path) -> None:
    """One that this machine gives itself, where the example looks for it."""
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, SITE)])
    now = datetime.now(UTC)
    made = (
        x509.CertificateBuilder(name, name, key.public_key(), x509.random_serial_number())
        .not_valid_before(now - timedelta(days=1))
        .not_valid_after(now + timedelta(days=1))
        .add_extension(x509.SubjectAlternativeName([x509.DNSName(SITE)]), critical=False)
        .sign(key, hashes.SHA256())
    )
    (folder / f"{SITE}.pem").write_bytes(made.public_bytes(serialization.Encoding.PEM))
    (folder / f"{SITE}.key").write_bytes(
        key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    )


def asked(folder: Path) -> list[float]:
    """When the server answered requests of the load, by its own clock (s)."""
    lines = [line.split() for line in (folder / "access.log").read_text().splitlines()]
    return [float(line[0]) for line in lines if line[2] == "/index.html"]


def most_within(seconds: float, moments: list[float]) -> int:
    sorted_ones = np.sort(moments)
    return int(max(np.searchsorted(sorted_ones, sorted_ones + seconds) - np.arange(len(sorted_ones))))


if __name__ == "__main__":
    main(Path(sys.argv[1]))
