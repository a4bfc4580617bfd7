"""Where an installation listens, where people reach it, and whose word it takes for who they are."""

from __future__ import annotations

import ipaddress
import re
import socket
from collections.abc import Iterable
from dataclasses import dataclass
from urllib.parse import urlsplit

from stonekettle.door.places import DoorError


@dataclass(frozen=True)
class Site:
    """It listens at ``bind`` and ``port``; people reach it at ``public`` (scheme, host and port; "": on this machine
    only), by way of ``proxy``, whose word is taken for whom it asks."""

    port: int
    bind: str = "127.0.0.1"
    public: str = ""
    proxy: str = ""

    def check(self) -> None:
        """Raises :class:`DoorError` for what cannot work, and where the port is taken."""
        for name, text in (("--bind", self.bind), ("--proxy", self.proxy)):
            if text and _address(text) is None:
                raise DoorError(f"{name} is {text!r}. Write a numeric address, for example 127.0.0.1 or 0.0.0.0.")
        if self.public and not _is_origin(self.public):
            raise DoorError(
                f"--public is {self.public!r}. Write scheme and host as people type them, without a path: "
                "https://kettle.example.com"
            )
        if not self.public and not ipaddress.ip_address(self.bind).is_loopback:
            raise DoorError(
                f"It would listen at {self.bind}, where others reach it, and knows no name to answer to. "
                "Say how they reach it:  --public https://kettle.example.com"
            )
        self._check_port()

    @property
    def local(self) -> str:
        """Where it answers on this machine."""
        address = ipaddress.ip_address(self.bind)
        host = str(address)
        if address.is_unspecified:
            host = "127.0.0.1" if address.version == 4 else "::1"
        return f"http://{f'[{host}]' if ':' in host else host}:{self.port}"

    @property
    def arguments(self) -> list[str]:
        """For the web server's process."""
        proxy = ["--proxy", self.proxy] if self.proxy else []
        return ["--port", str(self.port), "--host", self.bind, *proxy]

    def warnings(self) -> Iterable[str]:
        """What whoever starts it should know about who can listen in."""
        host = urlsplit(self.public).hostname or ""
        if self.public.startswith("http://") and not ((ip := _address(host)) and ip.is_loopback):
            yield "Passwords go over the network as they are: put a proxy with TLS before it (docs/deployment.md)."
        if self.public.startswith("https://") and not self.proxy:
            yield "It does not speak TLS itself: without --proxy it cannot tell that its proxy does, nor who asks."

    def _check_port(self) -> None:
        family = socket.AF_INET6 if ":" in self.bind else socket.AF_INET
        with socket.socket(family) as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                probe.bind((self.bind, self.port))
            except OSError as error:
                raise DoorError(
                    f"Port {self.port} cannot be used ({(error.strerror or '').lower()}). "
                    f"Choose another:  ./kettle start --port {self.port + 1}"
                ) from error


def _address(text: str) -> ipaddress.IPv4Address | ipaddress.IPv6Address | None:
    try:
        return ipaddress.ip_address(text)
    except ValueError:
        return None


def _is_origin(text: str) -> bool:
    try:
        parts = urlsplit(text)
        port = parts.port
    except ValueError:
        return False
    host = re.fullmatch(r"[a-z0-9.-]+|[0-9a-f:]+", parts.hostname or "")
    if "@" in parts.netloc:
        return False
    return bool(host) and port != 0 and text == f"{parts.scheme}://{parts.netloc}" and parts.scheme in ("http", "https")
