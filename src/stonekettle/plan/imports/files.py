"""Any file a journey can come from: told apart by what it holds."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from stonekettle.plan.imports import addresses, dynamic, har, openapi
from stonekettle.plan.imports.dynamic import Proposal
from stonekettle.plan.imports.har import Recorded

Kind = Literal["recording", "description", "list"]


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
        return dynamic.accepted(self.document, [p for p in self.proposals if p.name in names])


def read(content: bytes, name: str, system: str, others: Collection[str] = ()) -> Imported:
    """The journey in a file; of a recording, what went to its main host and the ``others`` named.
    Raises :class:`PlanError` where there is none."""
    start = content[:100_000].lstrip(b"\xef\xbb\xbf \t\r\n")
    if b"openapi" in start[:2_000] and not start.startswith(b'{"log"'):
        document, notes = openapi.read(content, name, system)
        return Imported("description", document, tuple(notes))
    if start[:1] in (b"{", b"[") or not start:
        found = har.read(content, others)
        return Imported(
            "recording",
            found.document(name, system),
            found.notes,
            found.host,
            found.hosts,
            dynamic.proposals(found.steps),
            found.answers,
        )
    document, notes = addresses.read(content, name, system)
    return Imported("list", document, tuple(notes))
