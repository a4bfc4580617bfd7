"""What may be loaded is decided by the numeric address, however it is written."""

from __future__ import annotations

import ipaddress
import json

import pytest

from stonekettle.engine.addresses import overlaps_never, plain, why_never
from stonekettle.engine.allowance import Allowance, Ceilings, Permit

NEVER = [
    "0.0.0.0",
    "0.1.2.3",
    "100.100.100.200",
    "168.63.129.16",
    "169.254.1.1",
    "169.254.169.254",
    "192.0.0.192",
    "224.0.0.1",
    "239.255.255.250",
    "240.0.0.1",
    "255.255.255.255",
    "::",
    "::7f00:1",
    "::10.0.0.1",
    "::ffff:0:127.0.0.1",
    "::ffff:169.254.169.254",
    "::ffff:0.0.0.0",
    "64:ff9b::127.0.0.1",
    "64:ff9b::a00:1",
    "64:ff9b:1::a00:1",
    "100::1",
    "2001:0:4136:e378:8000:63bf:3fff:fdd2",
    "2002:7f00:1::",
    "fd00:ec2::254",
    "fd20:ce::254",
    "fe80::1",
    "fe80::1%eth0",
    "fec0::1",
    "ff02::1",
]


@pytest.mark.parametrize("address", NEVER)
def test_some_addresses_are_never_loaded_even_by_a_permit_for_everything(address: str) -> None:
    everything = Allowance((Permit(1, "all", ("0.0.0.0/0", "::/0")),))
    assert "nothing is ever sent there" in (everything.refusal(address, 80) or "")


@pytest.mark.parametrize("address", ["10.1.2.3", "8.8.8.8", "fd12::1", "2001:db8::5", "::ffff:10.1.2.3", "100.64.0.9"])
def test_others_are_loaded_by_a_permit_and_not_without(address: str) -> None:
    assert Allowance().refusal(address, 80) == "is not an allowed target"
    permit = Permit(1, "it", (str(plain(address)),), ((80, 80), (8000, 8010)))
    allowed = Allowance((permit,))
    assert allowed.refusal(address, 80) is None
    assert allowed.refusal(address, 8005) is None
    assert allowed.refusal(address, 81) == "is not an allowed target at port 81"


@pytest.mark.parametrize("address", ["127.0.0.1", "127.255.0.9", "::1", "::ffff:127.0.0.1"])
def test_own_ports_of_this_machine_are_never_loaded(address: str) -> None:
    allowed = Allowance(own_ports=frozenset({5433}))
    assert allowed.refusal(address, 80) is None
    assert allowed.refusal(address, 5433) == "is this machine, and its port 5433 belongs to Stone Kettle itself"


@pytest.mark.parametrize("text", ["localhost", "0177.0.0.1", "0x7f.1", "127.1", "2130706433", "", "１２７.0.0.1"])
def test_what_is_no_numeric_address_is_refused(text: str) -> None:
    assert Allowance().refusal(text, 80) == "is not a numeric address"


def test_a_range_that_holds_something_forbidden_is_told() -> None:
    assert overlaps_never(ipaddress.ip_network("10.0.0.0/8")) is None
    assert overlaps_never(ipaddress.ip_network("169.0.0.0/8")) == (
        "a link-local address, where clouds tell their machines' secrets"
    )
    assert overlaps_never(ipaddress.ip_network("100.100.0.0/16")) is not None
    assert overlaps_never(ipaddress.ip_network("fc00::/7")) is not None
    assert why_never(plain("127.0.0.1")) is None


def test_an_allowance_is_the_same_after_json() -> None:
    permit = Permit(7, "shop", ("10.0.0.0/24",), ((443, 443),), "https", Ceilings(requests=5), 1234.5)
    allowance = Allowance((permit,), {"shop.test": ("10.0.0.1",)}, frozenset({1, 2}))
    assert Allowance.of(json.loads(json.dumps(allowance.as_dict()))) == allowance
    assert allowance.speaks("10.0.0.9", 443, "https")
    assert not allowance.speaks("10.0.0.9", 443, "http")
