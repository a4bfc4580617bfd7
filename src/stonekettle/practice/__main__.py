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
    arguments = parser.parse_args()
    chosen = config.load(arguments.config) if arguments.config else config.quillport()
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    gc.freeze()
    go_ahead()
    with contextlib.suppress(KeyboardInterrupt):
        asyncio.run(server.serve_forever(chosen, arguments.control_port))


if __name__ == "__main__":
    main()
