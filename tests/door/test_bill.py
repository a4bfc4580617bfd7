"""The bill of materials tells everything the product runs on."""

from __future__ import annotations

import json
import re

import pytest

from stonekettle.door import bill, main
from stonekettle.door.places import ROOT

LOCKS = ("base.txt", "dev.txt")


def test_every_package_of_the_locks_is_in_it(capsys: pytest.CaptureFixture[str]) -> None:
    assert main.main(["bom"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert (told["bomFormat"], told["specVersion"]) == ("CycloneDX", "1.5")
    names = {part["name"] for part in told["components"]}
    assert {"django", "numpy", "pycurl", "vue", "echarts"} <= names
    django = next(part for part in told["components"] if part["name"] == "django")
    assert django["purl"].startswith("pkg:pypi/django@5.2")
    assert "BSD" in django["licenses"][0]["license"]["name"]
    assert all(part.get("hashes") for part in told["components"])
    assert "pytest" not in names
    assert not names & {"vitest", "vite"}


@pytest.mark.parametrize("name", LOCKS)
def test_every_package_is_locked_with_hashes_and_no_address(name: str) -> None:
    text = (ROOT / "requirements" / name).read_text()
    parts = list(bill.python_parts(text, {}))
    assert len(parts) == len(re.findall(r"^[^#\s-]", text, re.M)) > 25
    assert all(part["hashes"] for part in parts)
    assert "://" not in text
