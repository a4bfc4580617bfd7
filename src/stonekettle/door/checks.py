"""``./kettle test`` and ``./kettle lint``: everything that is checked before a commit."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import tempfile
import time
from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path

from stonekettle.door import install
from stonekettle.door.places import PYTHON, ROOT, WEB, DoorError, new_key, tool_environment
from stonekettle.door.postgres import Cluster, free_port, new_password
from stonekettle.door.supervisor import Child, Supervisor

CODE = {".py", ".ts", ".vue", ".css", ".sh"}
SKIPPED = {"node_modules", "dist", ".venv", "migrations", "__pycache__"}
GENERATED = {"schema.d.ts"}


QUICK = [
    *("tests/core", "tests/plan", "tests/meters", "tests/practice", "tests/report", "tests/server"),
    "--ignore=tests/server/test_malformed.py",
]
"""What neither makes real load nor needs a browser, but for the thousands of malformed requests."""
SIDE_BY_SIDE = ["-n", "3", "--dist", "loadfile", "--no-loadscope-reorder"]
"""Three processes, the tests of a file always in the same one: what makes real load mostly waits."""


def test(arguments: list[str]) -> int:
    """Lint, front-end tests, then all Python tests against an own database. ``arguments`` go to
    pytest; with any given, only pytest runs. "quick" stands for the inner loop."""
    install.install(testing=True)
    whole, quick = not arguments, arguments[:1] == ["quick"]
    if quick:
        arguments = [*QUICK, "-x", *arguments[1:]]
        if code := run_steps(python_checks()):
            return code
    if whole and (code := lint(FRONT_END_TESTS)):
        return code
    side_by_side = SIDE_BY_SIDE if whole or quick else []
    with database() as environment:
        print("── Python tests", flush=True)
        command = [str(PYTHON), "-m", "pytest", *side_by_side, *arguments]
        return subprocess.run(command, cwd=ROOT, env=environment).returncode


Check = tuple[str, list[str], Path]
"""A check's name, its command, and the folder it runs in."""
FRONT_END_CHECKS: list[Check] = [
    ("Front-end types", ["npm", "run", "--silent", "types"], WEB),
    ("Front-end style", ["npm", "run", "--silent", "lint"], WEB),
]
FRONT_END_TESTS: list[Check] = [("Front-end tests", ["npm", "run", "--silent", "test"], WEB)]


def lint(further: Sequence[Check] = ()) -> int:
    """Style, types, layers and sizes, and what more is to be checked of the front end: Python beside the front end.
    Every check runs; the first failure's code is returned."""
    install.install(testing=True)
    with ThreadPoolExecutor() as lanes:
        codes = list(lanes.map(run_steps, [python_checks(), [*FRONT_END_CHECKS, *further]]))
    failed = next((code for code in codes if code), 0)
    code, tests = count_lines()
    print(f"Code {code} lines, tests {tests} lines: tests are {tests / (code + tests):.0%} of all.")
    return failed


def python_checks() -> list[Check]:
    python = str(PYTHON)
    return [
        ("Style", [python, "-m", "ruff", "check", "."], ROOT),
        ("Format", [python, "-m", "ruff", "format", "--check", "."], ROOT),
        ("Types", [python, "-m", "mypy"], ROOT),
        ("Layers", [str(PYTHON.parent / "lint-imports")], ROOT),
    ]


def run_steps(checks: Iterable[Check]) -> int:
    """Run every check; the first failure's code, or 0."""
    codes = [_step(name, command, folder) for name, command, folder in checks]
    return next((c for c in codes if c), 0)


def count_lines(root: Path = ROOT) -> tuple[int, int]:
    """Lines of code and of tests that are not blank."""
    code = tests = 0
    for folder, folders, files in os.walk(root):
        folders[:] = [f for f in folders if f not in SKIPPED and not f.startswith(".")]
        for name in files:
            path = Path(folder) / name
            if (path.suffix not in CODE and path.name != "kettle") or name in GENERATED:
                continue
            lines = sum(1 for line in path.read_text(errors="replace").splitlines() if line.strip())
            if "tests" in path.parts or ".test." in name:
                tests += lines
            else:
                code += lines
    return code, tests


@contextmanager
def database() -> Iterator[dict[str, str]]:
    """An own PostgreSQL for the tests, gone afterwards; yields the environment that reaches it."""
    folder = Path(tempfile.mkdtemp(prefix="kettle-test-", dir="/tmp"))
    folder.chmod(0o755)
    cluster = Cluster.for_data(folder, free_port(), new_password())
    supervisor = Supervisor(print)
    try:
        cluster.initialise()
        log = folder / "postgres.log"
        supervisor.start(
            Child(
                "postgres",
                [*cluster.command, "-c", "fsync=off"],
                tool_environment(),
                log,
                signal.SIGINT,
                cluster.identity(),
            )
        )
        cluster.wait_until_ready()
        keys = folder / "keys"
        keys.write_text(new_key())
        yield tool_environment(
            **cluster.environment, DJANGO_SETTINGS_MODULE="stonekettle.server.settings", KETTLE_KEY_FILE=str(keys)
        )
    finally:
        supervisor.stop_all()
        shutil.rmtree(folder, ignore_errors=True)
        shutil.rmtree(cluster.folder, ignore_errors=True)


def describe_api() -> int:
    """Write the OpenAPI description and the front end's types from it."""
    install.install(testing=True)
    environment = tool_environment(DJANGO_SETTINGS_MODULE="stonekettle.server.settings")
    command = [str(PYTHON), "-m", "django", "export_openapi_schema", "--api", "stonekettle.server.api.api"]
    target = WEB / "src" / "api" / "schema.json"
    code = _step("API", [*command, "--indent", "1", "--output", str(target)], ROOT, environment)
    return code or _step("Types", ["npm", "run", "--silent", "api"], WEB)


def with_database(name: str, arguments: list[str]) -> int:
    """A command that needs a database: in one of its own."""
    install.install(say=lambda line: None)
    with database() as environment:
        command = [str(PYTHON), "-m", "django", name, *arguments]
        return subprocess.run(command, cwd=ROOT, env=environment, check=False).returncode


def product_command(arguments: list[str]) -> int:
    """A command of the product itself (run, schema, bench), once its packages are there."""
    install.install(testing=arguments[0] == "bench", say=lambda line: None)
    return subprocess.run(
        [str(PYTHON), "-m", "stonekettle.cli", *arguments], env=tool_environment(), check=False
    ).returncode


def _step(name: str, command: list[str], folder: Path, environment: dict[str, str] | None = None) -> int:
    env = environment or tool_environment()
    found = shutil.which(command[0], path=env["PATH"])
    if found is None:
        raise DoorError(f"{name}: {command[0]} is not installed.")
    began = time.monotonic()
    done = subprocess.run(
        [found, *command[1:]], cwd=folder, env=env, check=False, stdout=subprocess.PIPE, stderr=subprocess.STDOUT
    )
    outcome = f"{'passed' if done.returncode == 0 else 'FAILED'} in {time.monotonic() - began:.0f} s"
    # In one piece: another check may be under way beside it.
    print(f"── {name}\n{done.stdout.decode(errors='replace')}── {name}: {outcome}\n", end="", flush=True)
    return done.returncode
