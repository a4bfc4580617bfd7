"""A bill of materials: every package the product runs on, as a CycloneDX document."""

from __future__ import annotations

import base64
import json
import re
import subprocess
import uuid
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any
from urllib.parse import quote

from stonekettle.door.places import PYTHON, ROOT, WEB, DoorError, tool_environment

Part = dict[str, Any]
ASK = """
import json
from importlib.metadata import distributions
kinds = ("Name", "License-Expression", "Classifier", "License")
def told(metadata):
    return [metadata.get_all(kind) or [] if kind == "Classifier" else metadata.get(kind) for kind in kinds]
print(json.dumps([told(one.metadata) for one in distributions()]))
"""
"""Said to the environment's own Python, which alone knows what is installed there."""
_PIN = re.compile(r"([A-Za-z0-9._-]+)(?:\[[a-z,]+\])?==(\S+)")
_HASH = re.compile(r"--hash=sha256:([0-9a-f]{64})")


def document() -> Part:
    """The packages of the lock files, with their licences as far as they are installed."""
    python = python_parts((ROOT / "requirements" / "base.txt").read_text(), _licences())
    components = [*python, *web_parts((WEB / "package-lock.json").read_text())]
    return {
        "bomFormat": "CycloneDX",
        "specVersion": "1.5",
        "serialNumber": f"urn:uuid:{uuid.uuid4()}",
        "version": 1,
        "metadata": {
            "timestamp": datetime.now(UTC).isoformat(timespec="seconds"),
            "component": {"type": "application", "bom-ref": "stone-kettle", "name": "Stone Kettle"},
        },
        "components": components,
    }


def python_parts(lock: str, licences: dict[str, str]) -> Iterator[Part]:
    """Every pin of a requirements file with the hashes it may have."""
    for line in lock.replace("\\\n", " ").splitlines():
        if (pin := _PIN.match(line)) is None:
            continue
        name, version = re.sub(r"[-_.]+", "-", pin[1]).lower(), pin[2]
        reference = f"pkg:pypi/{name}@{version}"
        part: Part = {"type": "library", "bom-ref": reference, "name": name, "version": version, "purl": reference}
        if hashes := _HASH.findall(line):
            # One for each file a machine may get of it.
            part["hashes"] = [{"alg": "SHA-256", "content": digest} for digest in hashes]
        if licence := licences.get(name):
            part["licenses"] = [{"license": {"name": licence}}]
        yield part


def _licences() -> dict[str, str]:
    """By name, of what is installed."""
    done = subprocess.run([str(PYTHON), "-c", ASK], capture_output=True, text=True, env=tool_environment())
    if done.returncode != 0:
        raise DoorError(f"The installed packages cannot be read: {done.stderr.strip()[-500:]}")
    found = {}
    for name, expression, classifiers, written in json.loads(done.stdout):
        classified = next((line.split(" :: ")[-1] for line in classifiers if line.startswith("License ::")), "")
        # Some put the whole text where others put its name.
        licence = expression or classified or (written or "").strip().partition("\n")[0]
        found[re.sub(r"[-_.]+", "-", name).lower()] = licence
    return found


def web_parts(lock: str) -> Iterator[Part]:
    """Every package of npm's lock file that is no tool of ours."""
    for place, told in json.loads(lock)["packages"].items():
        name = place.rpartition("node_modules/")[2]
        if not name or told.get("dev") or told.get("devOptional"):
            continue
        reference = f"pkg:npm/{quote(name)}@{told['version']}"
        kind, _, digest = told.get("integrity", "").partition("-")
        part: Part = {"type": "library", "bom-ref": reference, "name": name, "version": told["version"]}
        part |= {"purl": reference, "licenses": [{"license": {"name": told.get("license", "unknown")}}]}
        if kind == "sha512":
            part["hashes"] = [{"alg": "SHA-512", "content": base64.b64decode(digest).hex()}]
        yield part
