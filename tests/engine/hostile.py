"""A network of its own in which every address answers, and ways to write addresses that load must not reach.

Run as a program inside of a fresh network namespace; it prints what each case reached. All addresses are local there:
one listener at each port sees to which address a connection was made, whatever that address is.
"""

from __future__ import annotations

import json
import os
import re
import socket
import sys
import threading
import time
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from random import Random
from urllib.parse import quote, unquote

import dns.flags
import dns.message
import dns.rdatatype
import dns.rrset

from stonekettle.engine.allowance import Allowance
from stonekettle.engine.exchange import TrialUser
from stonekettle.engine.lives import Values
from stonekettle.engine.script import compile_plan
from stonekettle.meters.scraper import Scraper, first_fault
from stonekettle.plan import document, system_document
from stonekettle.plan.problems import PlanError
from tests.network import ip, replace_files

OPEN, SHUT = "10.9.0.1", "10.9.0.2"
"""A host with a permit at :data:`PORT`, and one without."""
OPEN6, SHUT6 = "fd09::1", "fd09::2"
PORT, OTHER_PORT, OWN_PORT = 8080, 8081, 8099
NAMES: dict[str, tuple[str, ...]] = {
    "shop.test": (OPEN,),
    "shop6.test": (OPEN6,),
    "both.test": (OPEN, OPEN6),
    "here.test": ("127.0.0.1",),
    "shut.test": (SHUT,),
    "mixed.test": (OPEN, SHUT),
    "mixed6.test": (OPEN, SHUT6),
    "cloud.test": ("169.254.169.254",),
    "nat64.test": ("64:ff9b::a09:1",),
    "sixtofour.test": ("2002:a09:1::",),
    "mapped.test": ("::ffff:10.9.0.2",),
    "nowhere.test": ("0.0.0.0",),
    "many.test": ("224.0.0.1",),
    "half.test": ("127.0.0.1", "169.254.169.254"),
}
TURNING = {"turns.test": ((OPEN,), (SHUT,)), "rebinds.test": ((OPEN,), ("169.254.169.254",))}
"""Names that mean the second from the second question on."""


@dataclass(frozen=True)
class Case:
    """An address, and whether load may reach it; None where either is right, so long as it reaches nothing else."""

    name: str
    url: str
    allowed: bool | None


def _host(text: str) -> str:
    return f"http://{text}:{PORT}/"


ALLOWED = [
    *map(_host, [OPEN, "168361985", "0x0a090001", "0xa.9.0.1", "012.011.0.1", "10.9.1", "10.589825"]),
    *map(_host, [f"[{OPEN6}]", "[fd09:0:0::1]", "[::ffff:10.9.0.1]", "[::ffff:a09:1]", "shop.test", "SHOP.test"]),
    *map(_host, ["shop.test.", "shop6.test", "both.test", "here.test", "localhost", "127.0.0.1", "127.1", "[::1]"]),
    *map(_host, ["2130706433", "0x7f000001", "0177.0.0.1", "127.8.9.10", "[::ffff:127.0.0.1]", f"anna@{OPEN}"]),
    *map(_host, [f"{SHUT}@{OPEN}", f"anna:{SHUT}@{OPEN}", "[0:0:0:0:0:0:0:1]"]),
    f"http://{OPEN}:{PORT}/?x=http://{SHUT}:{PORT}/",
    f"http://{OPEN}:{PORT}/#@{SHUT}:{PORT}/",
    f"http://{OPEN}:0{PORT}/",
]
FORBIDDEN = [
    *map(_host, [SHUT, "168361986", "0x0a090002", "0xa.9.0.2", "012.011.0.2", "10.9.2", "10.589826"]),
    *map(_host, [f"[{SHUT6}]", "[::ffff:10.9.0.2]", "[::ffff:a09:2]", "[::10.9.0.1]", "[::7f00:1]"]),
    *map(_host, ["169.254.169.254", "169.254.0.1", "2852039166", "0xa9fea9fe", "0251.0376.0251.0376"]),
    *map(_host, ["[::ffff:169.254.169.254]", "[::ffff:a9fe:a9fe]", "100.100.100.200", "168.63.129.16"]),
    *map(_host, ["0.0.0.0", "0", "0x0", "0.1.2.3", "[::]", "[::ffff:0.0.0.0]", "255.255.255.255", "240.0.0.1"]),
    *map(_host, ["224.0.0.1", "239.255.255.250", "[ff02::1]", "[ff05::2]", "192.0.0.192", "[fec0::1]"]),
    *map(_host, ["[64:ff9b::10.9.0.1]", "[64:ff9b::a09:2]", "[64:ff9b::7f00:1]", "[64:ff9b:1::a09:1]"]),
    *map(_host, ["[2002:a09:1::]", "[2002:7f00:1::1]", "[2001:0:a09:1::]", "[::ffff:0:10.9.0.1]", "[100::1]"]),
    *map(_host, ["[fd00:ec2::254]", "[fd20:ce::254]", "[fe80::9]", "[fe80::9%25lo]", "[fd09::1:1]"]),
    *map(_host, ["192.168.0.1", "172.16.0.1", "10.0.0.1", "100.64.0.1", "8.8.8.8", "[2001:db8::1]"]),
    *map(_host, ["shut.test", "cloud.test", "nat64.test", "sixtofour.test", "mapped.test", "nowhere.test"]),
    *map(_host, ["many.test", "SHUT.TEST.", f"anna@{SHUT}", f"{OPEN}@{SHUT}", f"{OPEN}:{PORT}@{SHUT}"]),
    *map(_host, [f"shop.test%2F@{SHUT}", f"anna:{OPEN}@{SHUT}", "[::ffff:808:808]", "134744072"]),
    f"http://{OPEN}:{OTHER_PORT}/",
    f"http://shop.test:{OTHER_PORT}/",
    f"http://[{OPEN6}]:{OTHER_PORT}/",
    f"http://127.0.0.1:{OWN_PORT}/",
    f"http://[::1]:{OWN_PORT}/",
    f"http://[::ffff:127.0.0.1]:{OWN_PORT}/",
    f"http://here.test:{OWN_PORT}/",
    f"http://2130706433:{OWN_PORT}/",
]
EITHER = [
    *map(_host, ["１０.９.０.１", "１０.９.０.２", "ⓢⓗⓤⓣ.test", "shop。test", "shut。test", f"{OPEN}.", f"{SHUT}."]),
    *map(_host, ["mixed.test", "mixed6.test", "half.test", "turns.test", "rebinds.test", "010.009.0.2"]),
    *map(_host, [f"{OPEN}\\@{SHUT}", f"{SHUT}\\@{OPEN}", f"{OPEN}%00.{SHUT}", "256.9.0.1", "4463329282"]),
    f"http://{OPEN}:{PORT}\\.{SHUT}:{PORT}/",
    f"http:\\\\{SHUT}:{PORT}\\",
    f"http:///{SHUT}:{PORT}/",
    f"http:/{SHUT}:{PORT}/",
    f"//{SHUT}:{PORT}/",
    f"\\\\{SHUT}:{PORT}/",
    f"http://{OPEN} {SHUT}:{PORT}/",
    f"http://{OPEN}\t.{SHUT}:{PORT}/",
    f"gopher://{SHUT}:{PORT}/",
    f"ftp://{SHUT}:{PORT}/",
    f"file://{SHUT}:{PORT}/",
    f"http://{SHUT}:{PORT + 65_536}/",
]


def cases() -> list[Case]:
    """Every address by itself, and as the place that an allowed one redirects to."""
    found = []
    for allowed, urls in ((True, ALLOWED), (False, FORBIDDEN), (None, EITHER)):
        for url in urls:
            found.append(Case(url, url, allowed))
            found.append(Case(f"to {url}", f"http://{OPEN}:{PORT}/to/{quote(url, safe='')}", allowed))
    return found


# Inside of the namespace


class Listeners:
    """Answer at every address, and remember at which each connection came in."""

    def __init__(self) -> None:
        self.reached: list[str] = []
        for port in (PORT, OTHER_PORT, OWN_PORT):
            listening = socket.create_server(("::", port), family=socket.AF_INET6, dualstack_ipv6=True, backlog=500)
            threading.Thread(target=self._listen, args=(listening,), daemon=True).start()

    def _listen(self, listening: socket.socket) -> None:
        while True:
            peer, _ = listening.accept()
            address = str(peer.getsockname()[0]).removeprefix("::ffff:")
            self.reached.append(f"{address} {peer.getsockname()[1]}")
            threading.Thread(target=self._answer, args=(peer,), daemon=True).start()

    @staticmethod
    def _answer(peer: socket.socket) -> None:
        with peer:
            asked = peer.recv(65_536).split(b" ")
            path = asked[1].decode("latin-1") if len(asked) > 1 else ""
            if match := re.match(r"/to/(.+)", path):
                there = unquote(match[1]).encode("utf-8", "replace")
                peer.sendall(b"HTTP/1.1 302 Found\r\nLocation: " + there + b"\r\nContent-Length: 0\r\n")
                peer.sendall(b"Connection: close\r\n\r\n")
            else:
                peer.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\nConnection: close\r\n\r\nok")


def serve_names() -> None:
    """A resolver that knows :data:`NAMES` and :data:`TURNING` and nothing else."""
    asked: Counter[tuple[str, str]] = Counter()
    listening = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    listening.bind(("127.0.0.1", 53))

    def serve() -> None:
        while True:
            data, peer = listening.recvfrom(4_096)
            query = dns.message.from_wire(data)
            question = query.question[0]
            name = question.name.to_text(omit_final_dot=True).lower()
            kind = dns.rdatatype.to_text(question.rdtype)
            asked[name, kind] += 1
            answers = NAMES.get(name) or (TURNING[name][min(asked[name, kind] - 1, 1)] if name in TURNING else ())
            answer = dns.message.make_response(query)
            answer.flags |= dns.flags.RA
            fitting = [one for one in answers if (":" in one) == (kind == "AAAA")] if kind in ("A", "AAAA") else []
            if fitting:
                answer.answer.append(dns.rrset.from_text(question.name, 0, "IN", kind, *fitting))
            elif not answers:
                answer.set_rcode(dns.rcode.NXDOMAIN)
            listening.sendto(answer.to_wire(), peer)

    threading.Thread(target=serve, daemon=True).start()


def set_up() -> None:
    """Every address of the world is this machine's; names are told by :func:`serve_names`."""
    for line in (
        "link set lo up",
        "route add local 0.0.0.0/0 dev lo",
        "-6 route add local ::/0 dev lo",
        "-6 addr add fd09::ffff/64 dev lo nodad",
        "addr add 10.9.255.1/16 dev lo",
    ):
        ip(line)
    resolver = "nameserver 127.0.0.1\noptions timeout:1 attempts:1\n"
    hosts = "127.0.0.1 localhost\n::1 localhost\n"
    replace_files(Path(os.environ["KETTLE_HOSTILE"]), {"resolv.conf": resolver, "hosts": hosts})


def by_load(case: Case) -> str:
    """One request by the builder that the load and the trial use; why it was refused, or ""."""
    step = {"name": "a", "request": "GET /", "redirects": True}
    plan = document.from_document(
        {
            "name": "hostile",
            "system": {"name": "s", "base_url": "http://127.0.0.1"},
            "journeys": [{"name": "j", "steps": [step]}],
            "load": [{"hold": {"users": 1, "for": "1 s"}}],
        }
    )
    (request,) = compile_plan(plan).journeys[0]
    request = replace(request, url=case.url, fill_url=lambda values: case.url, time_limit_ms=3_000)
    user = TrialUser(0, Allowance.of(json.loads(os.environ["KETTLE_ALLOWANCE"])))
    try:
        return user.perform(request, Values({}, 1, 1, Random(1))).fault or ""
    finally:
        user.close()


def by_meter(case: Case) -> str:
    """A page of metrics read there."""
    allowance = Allowance.of(json.loads(os.environ["KETTLE_ALLOWANCE"]))
    meter = {"openmetrics": [case.url]}
    described = {"name": "s", "base_url": "http://127.0.0.1", "components": [{"name": "c", "meters": [meter]}]}
    try:
        scraper = Scraper(system_document.from_document(described), allowance.refusal)
    except PlanError as error:
        return str(error)
    try:
        return first_fault(scraper.check(3.0)) or ""
    finally:
        scraper.close()


def tried(listeners: Listeners) -> Iterator[tuple[str, str, str, list[str]]]:
    for way, walk in (("load", by_load), ("meter", by_meter)):
        for case in cases():
            listeners.reached.clear()
            fault = walk(case)
            time.sleep(0.01)
            yield way, case.name, fault, list(listeners.reached)


def main() -> None:
    set_up()
    serve_names()
    listeners = Listeners()
    json.dump(list(tried(listeners)), sys.stdout)
    sys.stdout.flush()
    os._exit(0)  # threads that listen end with it


if __name__ == "__main__":
    main()
