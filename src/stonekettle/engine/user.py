"""One virtual user: where it is in its life, and what belongs to it while it is there."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from stonekettle.engine.lives import Life

if TYPE_CHECKING:
    import pycurl

    from stonekettle.engine.flight import Flight


@dataclass(slots=True, eq=False)
class User:
    """``life`` is None until somebody who arrives is there. ``waiting`` counts the accompanying requests of its step
    that are not answered yet, ``parts`` all of its requests so far; ``visit`` counts its journeys; ``between`` two of
    them it may leave at once, ``leaving`` it is about to, ``gone`` it has; ``succeeded`` is what its life has yet to
    hear of its step."""

    number: int
    life: Life | None
    group: int = 0
    slot: int = 0
    share: pycurl.CurlShare | None = None
    main: Flight | None = None
    free: list[Flight] = field(default_factory=list)
    cached: set[str] = field(default_factory=set)
    waiting: int = 0
    visit: int = 0
    parts: int = 0
    failed: int = 0
    begun: bool = False
    in_step: bool = False
    between: bool = True
    leaving: bool = False
    gone: bool = False
    succeeded: bool = True
