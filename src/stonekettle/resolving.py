"""What a host's name means here and now."""

from __future__ import annotations

import socket


def addresses(host: str) -> list[str]:
    """The numeric addresses of a host, each once, in the order to try them: of a name that has several kinds, those
    this machine could reach; a numeric one as it is. Raises ``OSError`` or ``UnicodeError`` where it has none."""
    try:
        found = socket.getaddrinfo(host, None, type=socket.SOCK_STREAM, flags=socket.AI_ADDRCONFIG)
    except socket.gaierror:
        # Loopback alone does not count as reaching IPv6, and yet ::1 answers.
        found = socket.getaddrinfo(host, None, type=socket.SOCK_STREAM)
    return list(dict.fromkeys(str(info[4][0]) for info in found))
