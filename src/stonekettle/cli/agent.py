"""``kettle agent``: serve this machine's metrics until interrupted."""

from __future__ import annotations

import ipaddress
import sys
from pathlib import Path

from stonekettle.meters.agent import Agent, token_from


def serve(host: str, port: int, token_file: Path | None) -> int:
    """Serve; returns the exit code."""
    try:
        token = token_from(token_file)
        agent = Agent(host, port, token)
    except (OSError, ValueError, OverflowError) as error:
        print(f"The agent cannot start: {error}.", file=sys.stderr)
        return 2
    print(f"This machine's metrics are at  {agent.url}", flush=True)
    if token is None and not _is_loopback(host):
        print("Anybody who reaches it can read them: give --token-file to ask for a token.", flush=True)
    try:
        agent.serve_forever()
    except KeyboardInterrupt:
        pass
    finally:
        agent.server_close()
    return 0


def _is_loopback(host: str) -> bool:
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"
