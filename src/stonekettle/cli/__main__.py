"""The commands that need the product's own packages: run, agent, schema, bench."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path

from pydantic_core import PydanticCustomError

from stonekettle.cli import agent as agent_command
from stonekettle.cli import bench as benches
from stonekettle.cli import compare as compare_command
from stonekettle.cli import run as run_command
from stonekettle.core.differences import MATTERS
from stonekettle.meters.agent import DEFAULT_PORT
from stonekettle.plan import capacity_document, document, system_document
from stonekettle.plan.quantities import parse_share
from stonekettle.report import result


def main() -> int:
    parser = argparse.ArgumentParser(prog="kettle")
    commands = parser.add_subparsers(dest="command", required=True)
    run = commands.add_parser(
        "run",
        help="run a plan without the web application",
        description="Exit code: 0 objectives met, 1 broken, 2 bad input, 3 not trustworthy; with --against also 1 "
        "slower and 3 inconclusive. Of a plan with candidates: 0 none slower, 1 one slower, 3 inconclusive.",
    )
    run.add_argument("file", type=Path, help="plan in YAML or JSON")
    run.add_argument("--out", type=Path, required=True, help="folder for the result")
    run.add_argument("--practice", action="store_true", help="start the practice system for the run")
    run.add_argument("--practice-config", type=Path, help="its configuration, or changes to the demo")
    run.add_argument("--against", type=Path, metavar="RUN", help="compare it with this run: its folder, or result.json")
    run.add_argument("--matters", type=_share, default=MATTERS, help="a smaller difference is none (5 %%)")
    run.add_argument("--generators", type=int, default=run_command.GENERATORS, help="processes that make the load")
    compare = commands.add_parser(
        "compare",
        help="compare two runs of kettle run",
        description="Exit code: 0 faster or no difference, 1 slower, 2 bad input, 3 inconclusive.",
    )
    compare.add_argument("first", type=Path, help="folder of the run that is compared with")
    compare.add_argument("second", type=Path, help="folder of the run that is judged")
    compare.add_argument("--matters", type=_share, default=MATTERS, help="a smaller difference is none (5 %%)")
    compare.add_argument("--json", type=Path, help="write everything here too")
    agent = commands.add_parser("agent", help="serve this machine's metrics")
    agent.add_argument("--host", default="127.0.0.1", help="address to listen at (127.0.0.1)")
    agent.add_argument("--port", type=int, default=DEFAULT_PORT, help=f"port to listen at ({DEFAULT_PORT})")
    agent.add_argument("--token-file", type=Path, help="file with the token to ask for (or KETTLE_AGENT_TOKEN)")
    schema = commands.add_parser("schema", help="print a JSON Schema")
    schema.add_argument("document", choices=["plan", "system", "capacity", "result"])
    bench = commands.add_parser("bench", help="measure; figures are ratios within one run")
    bench.add_argument("name", choices=benches.NAMES)
    bench.add_argument("--json", type=Path, help="write the figures here too")
    bench.add_argument("--quick", action="store_true", help="fewer repetitions, for a first look")
    arguments = parser.parse_args()
    if arguments.command == "schema":
        schemas = {
            "plan": document.json_schema,
            "system": system_document.json_schema,
            "capacity": capacity_document.json_schema,
            "result": result.json_schema,
        }
        print(json.dumps(schemas[arguments.document](), indent=2))
        return 0
    if arguments.command == "agent":
        return agent_command.serve(arguments.host, arguments.port, arguments.token_file)
    if arguments.command == "bench":
        return benches.run(arguments.name, arguments.json, quick=arguments.quick)
    if arguments.command == "compare":
        return compare_command.compare(arguments.first, arguments.second, arguments.matters, arguments.json, sys.stdout)
    return _run(arguments)


def _run(arguments: argparse.Namespace) -> int:
    against: Path | None = arguments.against
    if against is not None and not compare_command.readable(against):
        return compare_command.BAD_INPUT  # before any load is made
    code = run_command.run(
        arguments.file,
        arguments.out,
        practice=arguments.practice,
        practice_config=arguments.practice_config,
        terminal=sys.stdout,
        generators=max(1, arguments.generators),
    )
    if against is None or code == run_command.BAD_INPUT or not (arguments.out / "result.json").exists():
        return code
    print(file=sys.stdout)
    told = arguments.out / "comparison.json"
    compared = compare_command.compare(against, arguments.out, arguments.matters, told, sys.stdout)
    return code or compared


def _share(text: str) -> float:
    """A share as plans write it; argparse tells what is wrong."""
    try:
        return parse_share(text)
    except PydanticCustomError as fault:
        raise argparse.ArgumentTypeError(fault.message()) from fault


if __name__ == "__main__":
    sys.exit(main())
