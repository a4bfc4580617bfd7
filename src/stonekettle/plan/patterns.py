"""Regular expressions that take time in proportion to the text, whatever they are and whatever it holds
(RE2's syntax; Cox 2010, "Regular Expression Matching in the Wild")."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import re2

MAX_LENGTH = 2_000
_UNSUPPORTED = {
    "(?=": "looking ahead",
    "(?!": "looking ahead",
    "(?<": "looking behind",
    "(?>": "atomic groups",
    "(?#": "comments",
    "(?P": "references to a group",
    "(?(": "conditions",
}
_OPTIONS = re2.Options()
_OPTIONS.log_errors = False


class PatternError(ValueError):
    """What is no regular expression here; the message says why, ``mend`` what to write instead."""

    def __init__(self, why: str, mend: str) -> None:
        super().__init__(why)
        self.mend = mend


@lru_cache(maxsize=1_000)
def compiled(pattern: str) -> Any:
    """The pattern with ``search``, ``findall`` and ``groups`` as in :mod:`re`. Raises :class:`PatternError`."""
    if len(pattern) > MAX_LENGTH:
        raise PatternError(f"it is over {MAX_LENGTH} characters long", "Shorten it.")
    try:
        return re2.compile(pattern, options=_OPTIONS)
    except re2.error as error:
        raise _explained(error.args[0].decode(errors="replace")) from error


def _explained(told: str) -> PatternError:
    what, _, where = told.partition(": ")
    name = next((name for start, name in _UNSUPPORTED.items() if where.startswith(start)), None)
    if name is not None:
        mend = "Write it without: capture what stands between fixed texts, as in 'code=([0-9]+);'."
        return PatternError(f"{name} ({where}) would let its time grow without bound and is not supported", mend)
    if what == "invalid escape sequence" and where[1:2].isdigit():
        return PatternError(f"referring back to a group ({where}) is not supported", "Write the text out again.")
    return PatternError(f"{what}{f' ({where})' if where else ''}", "Correct it.")
