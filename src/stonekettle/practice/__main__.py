"""``python -m stonekettle.practice``: play Quillport until interrupted."""

from __future__ import annotations

import argparse
import asyncio
import contextlib
import gc
import signal
from pathlib import Path

from stonekettle.practice import config, server
from stonekettle.priority import go_ahead


def main() -> None:
    parser = argparse.ArgumentParser(prog="stonekettle.practice", description=__doc__)
    parser.add_argument("--control-port", type=int, default=0)
    parser.add_argument("--config", type=Path, help="YAML with a configuration, or changes to the demo")
    parser.add_argument("--report-to", help="where traces are pushed to, such as http://127.0.0.1:8800")
    parser.add_argument("--listeners", type=Path, help="the file that names the systems there, and their tokens")
    arguments = parser.parse_args()
    report_to = (arguments.report_to, arguments.listeners) if arguments.report_to and arguments.listeners else None
    chosen = config.load(arguments.config) if arguments.config else config.quillport()
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    gc.freeze()
    go_ahead()
    with contextlib.suppress(KeyboardInterrupt):
        asyncio.run(server.serve_forever(chosen, arguments.control_port, report_to))


if __name__ == "__main__":
    main()
