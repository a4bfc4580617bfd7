"""Exceptions of the engine.

EngineError
├── TargetError       load may not go there, or nothing answers there
├── MeterSilent       a meter does not report before the run
├── TrialFailed       a journey does not pass once, by itself
├── GeneratorLost     a generator stopped without being asked
└── IllegalTransition a run cannot go from this state to that one
"""

from __future__ import annotations


class EngineError(Exception):
    """Base of everything the engine raises on purpose."""


class Halted(EngineError):
    """Nothing may make load now; the message says who decided that."""


class TargetError(EngineError):
    """An address the run may not or cannot use. ``path`` is its place in the plan."""

    def __init__(self, path: str, message: str, mend: str) -> None:
        super().__init__(f"{path}: {message} {mend}")
        self.path, self.message, self.mend = path, message, mend


class MeterSilent(EngineError):
    """A meter that does not report; the message says which and why."""


class TrialFailed(EngineError):
    """A journey failed its trial; the message names journey, step and reason."""


class GeneratorLost(EngineError):
    """A generator ended or fell silent while it should have been making load."""


class IllegalTransition(EngineError):
    """A change of state that the table does not hold. Nothing was changed."""
