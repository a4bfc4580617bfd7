"""The table of states."""

from __future__ import annotations

import pytest

from stonekettle.engine.errors import IllegalTransition
from stonekettle.engine.lifecycle import ENDED, MOVES, RunState, check_move


def test_every_state_can_be_reached_from_queued() -> None:
    seen, todo = {RunState.QUEUED}, [RunState.QUEUED]
    while todo:
        for state in MOVES[todo.pop()] - seen:
            seen.add(state)
            todo.append(state)
    assert seen == set(RunState)


def test_every_state_in_progress_can_fail() -> None:
    assert all(RunState.FAILED in MOVES[state] for state in RunState if state not in ENDED)


def test_an_ended_run_cannot_run_again() -> None:
    assert {RunState.FINISHED, RunState.STOPPED, RunState.FAILED} == ENDED
    with pytest.raises(IllegalTransition, match="it has ended"):
        check_move(RunState.FINISHED, RunState.RUNNING)


def test_the_message_of_an_illegal_move_lists_the_legal_ones() -> None:
    with pytest.raises(IllegalTransition, match="preparing"):
        check_move(RunState.QUEUED, RunState.RUNNING)
