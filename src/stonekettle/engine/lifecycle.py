"""The states of a run and the moves between them, as one table."""

from __future__ import annotations

from enum import StrEnum

from stonekettle.engine.errors import IllegalTransition


class RunState(StrEnum):
    QUEUED = "queued"
    PREPARING = "preparing"
    RUNNING = "running"
    DRAINING = "draining"
    ANALYSING = "analysing"
    FINISHED = "finished"
    STOPPED = "stopped"
    FAILED = "failed"


MOVES: dict[RunState, frozenset[RunState]] = {
    RunState.QUEUED: frozenset({RunState.PREPARING, RunState.STOPPED, RunState.FAILED}),
    RunState.PREPARING: frozenset({RunState.RUNNING, RunState.STOPPED, RunState.FAILED}),
    RunState.RUNNING: frozenset({RunState.DRAINING, RunState.ANALYSING, RunState.FAILED}),
    RunState.DRAINING: frozenset({RunState.ANALYSING, RunState.FAILED}),
    RunState.ANALYSING: frozenset({RunState.FINISHED, RunState.STOPPED, RunState.FAILED}),
    RunState.FINISHED: frozenset(),
    RunState.STOPPED: frozenset(),
    RunState.FAILED: frozenset(),
}

ENDED = frozenset(state for state, moves in MOVES.items() if not moves)


def check_move(old: RunState, new: RunState) -> None:
    """Raise :class:`IllegalTransition` unless a run may go from ``old`` to ``new``."""
    if new not in MOVES[old]:
        allowed = ", ".join(sorted(MOVES[old])) or "none, it has ended"
        raise IllegalTransition(f"a run that is {old} cannot become {new} (possible: {allowed})")
