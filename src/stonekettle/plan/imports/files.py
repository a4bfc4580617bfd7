"""Any file a journey can come from: told apart by what it holds."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field, replace
from typing import Any, Literal

from stonekettle.plan import clean, journey_document
from stonekettle.plan.imports import addresses, dynamic, har, openapi
from stonekettle.plan.imports.dynamic import Proposal
from stonekettle.plan.imports.har import Recorded
from stonekettle.plan.problems import PlanError, Problem

Kind = Literal["recording", "description", "list", "journey"]
_OWN = re.compile(rb'^steps:|^\s*"steps"\s*:', re.MULTILINE)


@dataclass(frozen=True)
class Imported:
    """A journey's document as the file gives it, what was left out in words, and of a recording the
    hosts with their requests, the values to keep anew, and what was answered to each step."""

    kind: Kind
    document: dict[str, Any]
    notes: tuple[str, ...]
    host: str = ""
    hosts: Mapping[str, int] = field(default_factory=dict)
    proposals: tuple[Proposal, ...] = ()
    answers: tuple[Recorded, ...] = ()

    def accepted(self, names: set[str]) -> dict[str, Any]:
        """The document with the proposals of these names applied."""
        made = dynamic.accepted(self.document, [p for p in self.proposals if p.name in names])
        return har.literal_credentials(made)[0] if self.kind == "recording" else made


def read(content: bytes, name: str, system: str, others: Collection[str] = ()) -> Imported:
    """The journey in a file; of a recording, what went to its main host and the ``others`` named.
    Raises :class:`PlanError` where there is none."""
    try:
        found = _read(content, name, system, others)
    except (TypeError, ValueError, LookupError, AttributeError, RecursionError) as error:
        if isinstance(error, PlanError):
            raise
        message = f"something in the file is not as its format has it ({error})."
        raise PlanError([Problem("file", message[:300], "Save or export it once more.")]) from error
    document = clean.checked(_mended(found.document))
    answers = tuple(replace(a, body=_mended(a.body), content_type=_mended(a.content_type)) for a in found.answers)
    return replace(found, document=document, answers=answers)


def _mended(value: Any) -> Any:
    """Plain data without what no text can hold here: NUL characters, and halves of characters."""
    if isinstance(value, str):
        return value.replace("\0", "").encode("utf-8", "replace").decode()
    if isinstance(value, dict):
        return {_mended(key): _mended(item) for key, item in value.items()}
    return [_mended(item) for item in value] if isinstance(value, list) else value


def _read(content: bytes, name: str, system: str, others: Collection[str]) -> Imported:
    start = content[:100_000].lstrip(b"\xef\xbb\xbf \t\r\n")
    if b"openapi" in start[:2_000] and not start.startswith(b'{"log"'):
        document, said = openapi.read(content, name, system)
        return Imported("description", document, tuple(said))
    if _OWN.search(start) and b'"log"' not in start[:200]:
        own = journey_document.parsed(content)
        return Imported("journey", {**own, "name": name, "system": system or own.get("system", "")}, ())
    if start[:1] in (b"{", b"[") or not start:
        found = har.read(content, others)
        made, proposals = found.document(name, system), dynamic.proposals(found.steps)
        notes = (*found.notes, *har.literal_credentials(dynamic.accepted(made, proposals))[1])
        return Imported("recording", made, notes, found.host, found.hosts, proposals, found.answers)
    document, said = addresses.read(content, name, system)
    return Imported("list", document, tuple(said))
