"""What every piece of a document shares: strictness, names, addresses."""

from __future__ import annotations

from functools import cached_property
from typing import Annotated
from urllib.parse import urlsplit

from pydantic import BaseModel, ConfigDict, Field
from pydantic_core import PydanticCustomError

PRACTICE = "practice"
CHOICE = "·"
"""Leads the tag of a kind where parts of several kinds may stand: not a piece of a path."""
Name = Annotated[str, Field(min_length=1, max_length=80)]


class Part(BaseModel):
    """A piece of the document: unknown fields are refused, since they are typing errors."""

    model_config = ConfigDict(extra="forbid", frozen=True, ignored_types=(cached_property,))


def address(value: str) -> str:
    """An address that can be asked over HTTP, or in the practice system."""
    parts = urlsplit(value)
    if parts.scheme not in ("http", "https", PRACTICE) or not parts.hostname:
        raise PydanticCustomError(
            "address",
            "{text} is not an address.",
            {"text": repr(value), "mend": "Write http://host:port or https://host:port."},
        )
    return value
