"""Where it listens and how people reach it: what cannot work is told before anything starts."""

from __future__ import annotations

import pytest

from stonekettle.door.places import DoorError
from stonekettle.door.postgres import free_port
from stonekettle.door.reach import Site

HTTPS = "https://kettle.example.com"


@pytest.mark.parametrize(
    ("site", "message"),
    [
        (Site(8800, bind="localhost"), "--bind is 'localhost'"),
        (Site(8800, proxy="*"), r"--proxy is '\*'"),
        (Site(8800, bind="0.0.0.0"), "Say how they reach it"),
        (Site(8800, public="kettle.example.com"), "--public is"),
        (Site(8800, public=f"{HTTPS}/kettle"), "--public is"),
        (Site(8800, public="https://anna@kettle.example.com"), "--public is"),
        (Site(8800, public="https://kettle.example.com:99999"), "--public is"),
        (Site(8800, public="https://*"), "--public is"),
        (Site(8800, bind="192.0.2.77", public=HTTPS), "Port 8800 cannot be used"),
    ],
)
def test_what_cannot_work_is_told(site: Site, message: str) -> None:
    with pytest.raises(DoorError, match=message):
        site.check()


def test_it_is_asked_where_it_listens() -> None:
    assert Site(8800).local == "http://127.0.0.1:8800"
    assert Site(8800, bind="0.0.0.0").local == "http://127.0.0.1:8800"
    assert Site(8800, bind="::").local == "http://[::1]:8800"
    assert Site(8800, bind="10.1.2.3").local == "http://10.1.2.3:8800"
    Site(free_port(), public="https://[2001:db8::5]:8443").check()


def test_whoever_could_be_listened_to_is_told() -> None:
    assert "as they are" in " ".join(Site(1, public="http://kettle.example.com").warnings())
    assert "does not speak TLS itself" in " ".join(Site(1, public=HTTPS).warnings())
    assert list(Site(1, public=HTTPS, proxy="127.0.0.1").warnings()) == []
    assert list(Site(1, public="http://127.0.0.1:8800").warnings()) == []
    assert Site(1, proxy="10.0.0.1").arguments == ["--port", "1", "--host", "127.0.0.1", "--proxy", "10.0.0.1"]
