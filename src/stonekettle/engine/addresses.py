"""What a numeric address is, and which no load may ever go to, whoever allows it."""

from __future__ import annotations

import ipaddress
import socket
from functools import lru_cache

Address = ipaddress.IPv4Address | ipaddress.IPv6Address
Network = ipaddress.IPv4Network | ipaddress.IPv6Network

_NEVER: tuple[tuple[str, str], ...] = (
    ("0.0.0.0/8", "an unspecified address"),
    ("100.100.100.200/32", "where a cloud tells its machines their secrets"),
    ("168.63.129.16/32", "where a cloud tells its machines their secrets"),
    ("169.254.0.0/16", "a link-local address, where clouds tell their machines' secrets"),
    ("192.0.0.0/24", "a reserved address"),
    ("224.0.0.0/4", "a multicast address"),
    ("240.0.0.0/4", "a reserved address"),
    ("::/128", "an unspecified address"),
    ("::/96", "an IPv4 address in an old IPv6 form"),
    ("::ffff:0:0:0/96", "an IPv4 address translated to IPv6"),
    ("64:ff9b::/96", "an IPv4 address translated to IPv6 (NAT64)"),
    ("64:ff9b:1::/48", "an IPv4 address translated to IPv6 (NAT64)"),
    ("100::/64", "an address that discards"),
    ("2001::/32", "an IPv4 address tunnelled in IPv6"),
    ("2002::/16", "an IPv4 address tunnelled in IPv6 (6to4)"),
    ("fd00:ec2::/96", "where a cloud tells its machines their secrets"),
    ("fd20:ce::/96", "where a cloud tells its machines their secrets"),
    ("fe80::/10", "a link-local address"),
    ("fec0::/10", "a site-local address"),
    ("ff00::/8", "a multicast address"),
)
_NEVER_NETWORKS = tuple((ipaddress.ip_network(network), what) for network, what in _NEVER)


def plain(address: str) -> Address:
    """A numeric address as what it is: IPv4 written as IPv6 is IPv4. Raises ``ValueError`` for anything else."""
    ip = ipaddress.ip_address(address)
    mapped = ip.ipv4_mapped if isinstance(ip, ipaddress.IPv6Address) else None
    return ip if mapped is None else mapped


def is_numeric(host: str) -> bool:
    """Whether a host is written as a numeric address, not as a name."""
    try:
        plain(host)
    except ValueError:
        return False
    return True


def why_never(ip: Address) -> str | None:
    """What it is, where nothing may ever be sent to it; None elsewhere."""
    if ip.is_loopback:
        return None
    if isinstance(ip, ipaddress.IPv6Address) and ip.scope_id is not None:
        return "a link-local address"
    return next((what for network, what in _NEVER_NETWORKS if ip in network), None)


def overlaps_never(network: Network) -> str | None:
    """What a range holds that nothing may be sent to; None where it is free of it. An IPv4 range in IPv6 is one of
    those."""
    return next(
        (what for never, what in _NEVER_NETWORKS if never.version == network.version and _meet(never, network)), None
    )


def _meet(a: Network, b: Network) -> bool:
    return int(a.network_address) <= int(b.broadcast_address) and int(b.network_address) <= int(a.broadcast_address)


@lru_cache(maxsize=4_096)
def is_of_this_machine(ip: Address) -> bool:
    """Whether this machine answers at the address: only then can a socket be bound to it."""
    if ip.is_loopback:
        return True
    family = socket.AF_INET if ip.version == 4 else socket.AF_INET6
    try:
        with socket.socket(family, socket.SOCK_DGRAM) as probe:
            probe.bind((str(ip), 0))
    except OSError:
        return False
    return True
