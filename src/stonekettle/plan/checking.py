"""From text to plain data to a checked model, with problems that say how to mend them."""

from __future__ import annotations

import difflib
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from typing import Any, TypeVar, cast

import yaml
from pydantic import ValidationError

from stonekettle.plan import clean
from stonekettle.plan.parts import CHOICE, Part
from stonekettle.plan.problems import PlanError, Problem
from stonekettle.plan.secrecy import hidden

MAX_BYTES = 5_000_000
Model = TypeVar("Model", bound=Part)
_MENDS = {
    "missing": "Add it.",
    "extra_forbidden": "Remove it, or correct its spelling.",
    "greater_than": "Use a larger number.",
    "greater_than_equal": "Use a larger number.",
    "less_than_equal": "Use a smaller number.",
    "int_parsing": "Write a whole number.",
    "int_from_float": "Write a whole number.",
    "too_short": "Add at least one.",
    "string_too_short": "Write some text.",
    "string_too_long": "Shorten it.",
}


def parse(text: str) -> object:
    """Plain data from YAML or JSON text. Raises :class:`PlanError` where it cannot be read."""
    if len(text.encode()) > MAX_BYTES:
        raise PlanError([Problem("document", "the document is over 5 MB.", "Shorten its feeds.")])
    try:
        return clean.from_yaml(text)
    except yaml.YAMLError as error:
        raise PlanError([_syntax_problem(error)]) from error


def validated(model: type[Model], document: Mapping[str, Any]) -> Model:
    """The model of plain data. Raises :class:`PlanError` with every problem found."""
    try:
        return model.model_validate(document)
    except ValidationError as error:
        raise PlanError(map(_problem, _innermost(error))) from error


def plain(part: Part) -> dict[str, Any]:
    """Plain data that is read back as the same part."""
    return part.model_dump(mode="json", by_alias=True, exclude_none=True, exclude_defaults=True)


def to_yaml(document: Mapping[str, Any]) -> str:
    return yaml.safe_dump(document, sort_keys=False, allow_unicode=True, width=100)


def repeated(path: str, names: Sequence[str]) -> Iterable[Problem]:
    for name in sorted(name for name, count in Counter(names).items() if count > 1):
        yield Problem(path, f"the name {name!r} is used more than once.", "Give each its own name.")


def did_you_mean(name: str, known: Iterable[str], otherwise: str) -> str:
    close = difflib.get_close_matches(name, list(known), n=1)
    return f"Did you mean {close[0]!r}?" if close else otherwise


def _innermost(error: ValidationError) -> list[dict[str, Any]]:
    """The errors without those of a list that is only too short because its items are wrong."""
    found = cast(list[dict[str, Any]], error.errors())
    within = {e["loc"][:length] for e in found for length in range(len(e["loc"]))}
    return [e for e in found if e["loc"] not in within]


def _problem(error: dict[str, Any]) -> Problem:
    path = ""
    for part in error["loc"]:
        if isinstance(part, str) and part.startswith(CHOICE):
            continue
        path += f"[{part}]" if isinstance(part, int) else f".{part}" if path else str(part)
    context = error.get("ctx", {})
    mend = context.get("mend") or _MENDS.get(error["type"], "Correct the value.")
    message = error["msg"]
    if error["type"] == "missing":
        message = "this field is missing."
    elif error["type"] == "extra_forbidden":
        message = "there is no such field."
    elif "mend" not in context:
        message = f"{hidden(repr(error['input'])[:200])}: {message[0].lower()}{message[1:]}."
    return Problem(path or "document", message, mend)


def _syntax_problem(error: yaml.YAMLError) -> Problem:
    mark = getattr(error, "problem_mark", None)
    path = f"line {mark.line + 1}, column {mark.column + 1}" if mark else "document"
    what = getattr(error, "problem", None) or "it cannot be read"
    mend = "Check the indentation and quotes there."
    return Problem(path, f"this is neither YAML nor JSON: {what}.", mend)
