"""Installs what is missing, step by step; a step that is up to date is skipped."""

from __future__ import annotations

import hashlib
import os
import shutil
import subprocess
import sys
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path

from stonekettle.door.places import PYTHON, ROOT, STAMPS, VENV, WEB, DoorError, tool_environment
from stonekettle.door.postgres import find_binaries

FREE_BYTES = 2_000_000_000


@dataclass(frozen=True)
class Step:
    """One thing to install: what it is called, whether it is there, how to get it, how to fix it."""

    name: str
    is_done: Callable[[], bool]
    do: Callable[[], None]
    fix: str


def steps(*, testing: bool = False) -> list[Step]:
    """Everything ``start`` needs, or everything the tests need."""
    found = [
        Step(
            "Debian packages",
            lambda: not missing_packages(testing),
            lambda: install_packages(testing),
            "./kettle start",
        ),
        Step("Python environment", PYTHON.exists, make_environment, "./kettle start"),
    ]
    requirements = ROOT / "requirements" / ("dev.txt" if testing else "base.txt")
    name = "python-dev" if testing else "python-base"
    both = [ROOT / "requirements" / "base.txt", ROOT / "requirements" / "dev.txt"]
    found.append(
        Step(
            "Python packages",
            lambda: is_stamped(name, both) or is_stamped("python-dev", both),
            lambda: install_python(requirements, name, both),
            "./kettle start",
        )
    )
    found.append(Step("Front-end packages", lambda: is_stamped("npm", _lock()), install_npm, "./kettle start"))
    found.append(Step("Front end", lambda: is_stamped("web", web_sources()) and _built(), build_web, "./kettle start"))
    return found


def install(*, testing: bool = False, say: Callable[[str], None] = print) -> None:
    """Do every step that is not done yet, with its progress."""
    todo = [step for step in steps(testing=testing) if not step.is_done()]
    if todo:
        _check_disk()
    for number, step in enumerate(todo, start=1):
        say(f"[{number}/{len(todo)}] {step.name} …")
        began = time.monotonic()
        step.do()
        say(f"[{number}/{len(todo)}] {step.name}: done in {time.monotonic() - began:.0f} s")
    compile_modules()


def _check_disk() -> None:
    free = shutil.disk_usage(ROOT).free
    if free < FREE_BYTES:
        raise DoorError(
            f"The disk of {ROOT} is nearly full: {free / 1e9:.1f} GB free, {FREE_BYTES / 1e9:.0f} GB are needed. "
            "Free some space, then try again."
        )


def missing_packages(testing: bool) -> list[str]:
    """Debian packages that are needed and not there."""
    missing = []
    if find_binaries() is None:
        missing.append("postgresql")
    if not PYTHON.exists() and not _has_ensurepip():
        missing.append("python3-venv")
    if testing:
        if shutil.which("chromium") is None:
            missing.append("chromium")
        if shutil.which("nginx", path=f"{os.environ.get('PATH', '')}:/usr/sbin") is None:
            missing.append("nginx-light")
        if shutil.which("prometheus-node-exporter") is None:
            missing.append("prometheus-node-exporter")
        if shutil.which("ip", path=f"{os.environ.get('PATH', '')}:/usr/sbin:/sbin") is None:
            missing.append("iproute2")
    return missing


def install_packages(testing: bool) -> None:
    packages = missing_packages(testing)
    line = f"apt-get install -y --no-install-recommends {' '.join(packages)}"
    if os.geteuid() != 0:
        raise DoorError(f"Some Debian packages are missing. Install them with:  sudo {line}  and try again.")
    environment = {**os.environ, "DEBIAN_FRONTEND": "noninteractive"}
    run(["apt-get", "update"], "reading the list of Debian packages", environment)
    run(line.split(), f"installing {', '.join(packages)}", environment)


def make_environment() -> None:
    run([sys.executable, "-m", "venv", str(VENV)], "making the Python environment")


def install_python(requirements: Path, name: str, sources: Iterable[Path]) -> None:
    run(
        [str(PYTHON), "-m", "pip", "install", "--quiet", "--disable-pip-version-check", "-r", str(requirements)],
        "installing Python packages",
    )
    stamp(name, sources)


def install_npm() -> None:
    """The versions of the lock file. Not ``npm ci``: it refuses a lock without the optional binaries
    of other operating systems, which a registry need not have."""
    run(
        ["npm", "install", "--no-save", "--no-audit", "--no-fund", "--ignore-scripts"],
        "installing front-end packages",
        cwd=WEB,
    )
    stamp("npm", _lock())


def build_web() -> None:
    run(["npm", "run", "--silent", "build"], "building the front end", cwd=WEB)
    stamp("web", web_sources())


def compile_modules() -> None:
    """Whoever runs the processes may not write beside the modules, and each would compile them all for itself."""
    subprocess.run([str(PYTHON), "-m", "compileall", "-q", str(ROOT / "src")], stdout=subprocess.DEVNULL, check=False)


def web_sources() -> list[Path]:
    names = ("index.html", "package-lock.json", "vite.config.ts", "tsconfig.json")
    return [*(WEB / name for name in names), *sorted(p for p in (WEB / "src").rglob("*") if p.is_file())]


def run(command: list[str], what: str, environment: dict[str, str] | None = None, cwd: Path = ROOT) -> None:
    """Run a command quietly; on failure its first and last lines become part of one clear error."""
    env = environment or tool_environment()
    found = shutil.which(command[0], path=env.get("PATH"))
    if found is None:
        raise DoorError(f"While {what}: {command[0]} is not installed.")
    done = subprocess.run(
        [found, *command[1:]], cwd=cwd, env=env, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True
    )
    if done.returncode != 0:
        lines = done.stdout.strip().splitlines()
        tail = "\n  ".join(lines if len(lines) <= 16 else [*lines[:8], "…", *lines[-8:]])
        raise DoorError(f"While {what}, `{' '.join(command)}` failed:\n  {tail}")


def stamp(name: str, sources: Iterable[Path]) -> None:
    STAMPS.mkdir(parents=True, exist_ok=True)
    (STAMPS / name).write_text(fingerprint(sources))


def is_stamped(name: str, sources: Iterable[Path]) -> bool:
    """Whether the step was done from exactly these files."""
    path = STAMPS / name
    return path.exists() and path.read_text() == fingerprint(sources)


def fingerprint(sources: Iterable[Path]) -> str:
    digest = hashlib.sha256()
    for path in sources:
        digest.update(str(path.relative_to(ROOT)).encode() + b"\0" + path.read_bytes() + b"\0")
    return digest.hexdigest()


def _lock() -> list[Path]:
    return [WEB / "package.json", WEB / "package-lock.json"]


def _built() -> bool:
    return (WEB / "dist" / "index.html").exists()


def _has_ensurepip() -> bool:
    try:
        import ensurepip  # noqa: F401
    except ImportError:
        return False
    return True
