"""The commands of the front door."""

from __future__ import annotations

import argparse
import json
import platform
import sys
from pathlib import Path

from stonekettle.door import bill, checks, doctor, house
from stonekettle.door.places import ROOT, Data, DoorError
from stonekettle.door.reach import Site

DEFAULT_PORT = 8800
PRODUCT_COMMANDS = {
    "run": "run a plan without the web application (see ./kettle run --help)",
    "compare": "compare two runs of ./kettle run (see ./kettle compare --help)",
    "agent": "serve this machine's metrics (see ./kettle agent --help)",
    "schema": "print the JSON Schema of the plan, the system, the capacity plan or the result",
    "bench": "measure: engine, timing, truth, capacity, compare, candidates, history, search, unfit, ordinary, meters, "
    "plate, facts, records, requests, feeds, faults",
}


def main(arguments: list[str] | None = None) -> int:
    given = sys.argv[1:] if arguments is None else arguments
    try:
        if given[:1] == ["bench"] and given[1:2] in (["facts"], ["plate"], ["records"], ["requests"]):
            return checks.with_database(f"bench_{given[1]}", given[2:])
        if given[:2] == ["bench", "faults"]:
            from stonekettle.door import faults

            return faults.bench(given[2:])
        if given and given[0] in PRODUCT_COMMANDS:
            return checks.product_command(given)
        if given and given[0] == "test":
            return checks.test(given[1:])
        return _dispatch(_parser().parse_args(given))
    except DoorError as error:
        print(error, file=sys.stderr)
        return 2
    except KeyboardInterrupt:
        return 130


def _dispatch(chosen: argparse.Namespace) -> int:
    if chosen.command == "lint":
        return checks.lint()
    if chosen.command == "bom":
        print(json.dumps(bill.document(), indent=2))
        return 0
    if chosen.command == "api":
        return checks.describe_api()
    if chosen.command == "season":
        return checks.with_database("build_season", [])
    if chosen.command == "generator":
        log = Data(chosen.data.resolve()).logs / f"generator-{chosen.label}.log"
        return house.generate(chosen.region, chosen.label, chosen.count, log)
    data = Data(chosen.data.resolve())
    if chosen.command == "start":
        site = Site(chosen.port, chosen.bind, chosen.public, chosen.proxy)
        return house.start(data, site, demo=not chosen.no_demo, practice=chosen.practice_config)
    if chosen.command == "stop":
        return house.stop(data)
    if chosen.command == "rekey":
        return house.rekey(data)
    if chosen.command == "steer":
        amount = [] if chosen.amount is None else [str(chosen.amount)]
        options = ["--group", chosen.group, "--region", chosen.region, "--within", chosen.within, "--why", chosen.why]
        return house.steer(data, [str(chosen.run), chosen.verb, *amount, *options])
    if chosen.command == "halt":
        return house.halt(data, chosen.why, lift=chosen.lift)
    if chosen.command == "reanalyse":
        return house.reanalyse(data, chosen.runs)
    if chosen.command == "shots":
        from stonekettle.door import shots

        return shots.refresh()
    lines, healthy = doctor.report(data)
    print("\n".join(lines))
    return 0 if healthy else 1


STEER = ["raise", "lower", "hold", "pause", "resume", "skip", "extend", "let go", "stop", "cut off"]


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="./kettle", description="Stone Kettle")
    commands = parser.add_subparsers(dest="command", required=True)
    start = commands.add_parser("start", help="install what is missing and start everything")
    start.add_argument("--port", type=int, default=DEFAULT_PORT, help=f"of the web application ({DEFAULT_PORT})")
    start.add_argument("--bind", default="127.0.0.1", help="address it listens at (127.0.0.1)")
    start.add_argument("--public", default="", help="where people reach it, for example https://kettle.example.com")
    start.add_argument("--proxy", default="", help="address of the proxy before it, which tells who asks")
    start.add_argument("--practice-config", type=Path, help="the practice system's configuration, or changes to it")
    start.add_argument("--no-demo", action="store_true", help="without demo experiments")
    stop = commands.add_parser("stop", help="end everything")
    look = commands.add_parser("doctor", help="what is there, what is missing, and the fix")
    rekey = commands.add_parser("rekey", help="seal the data at rest with a new key")
    steer = commands.add_parser("steer", help="raise, lower, hold, pause or end a run's load, or go on with it")
    steer.add_argument("run", type=int, help="number of the run")
    steer.add_argument("verb", choices=STEER)
    steer.add_argument("amount", type=float, nargs="?", help="to raise or lower to: users, or arrivals per second")
    steer.add_argument("--group", default="", help="of this group of the plan only")
    steer.add_argument("--region", default="", help="of the groups from this region only")
    steer.add_argument(
        "--within",
        default="0 s",
        help="over so long, for example '20 s'; or so much longer",
    )
    steer.add_argument("--why", default="", help="kept with what was done")
    halt = commands.add_parser("halt", help="end all load everywhere at once and keep it off")
    halt.add_argument("--why", default="", help="shown to everybody")
    halt.add_argument("--lift", action="store_true", help="let load be made again")
    again = commands.add_parser("reanalyse", help="make findings anew where the analysis has become better")
    again.add_argument("runs", type=int, nargs="*", metavar="RUN", help="these runs; without, all of older findings")
    for command in (start, stop, look, rekey, steer, halt, again):
        command.add_argument("--data", type=Path, default=ROOT / "var", help="folder with all data (var)")
    generator = commands.add_parser("generator", help="make load on this machine for an installation elsewhere")
    generator.add_argument("--region", required=True, help="whose groups it plays")
    generator.add_argument("--label", default=platform.node(), help="what this machine is called (its name)")
    generator.add_argument("--count", type=int, default=house.GENERATORS_EACH, help="generators at a time")
    generator.set_defaults(data=ROOT / "var")
    commands.add_parser("bom", help="print the bill of materials (CycloneDX JSON)")
    commands.add_parser("lint", help="style, types, layers and the share of tests")
    shots = commands.add_parser("shots", help="refresh docs/screenshots from demo data")
    shots.set_defaults(data=ROOT / "var")
    commands.add_parser("api", help="write the API's description and the front end's types anew")
    commands.add_parser("season", help="play the demo's season of runs anew")
    commands.add_parser("test", help="everything that must pass before a commit")
    for name, text in PRODUCT_COMMANDS.items():
        commands.add_parser(name, help=text)
    return parser
