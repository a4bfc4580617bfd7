"""The benches of histories and of comparison, in small."""

from __future__ import annotations

from stonekettle.cli.bench import compare, history


def test_the_history_finds_what_was_planted() -> None:
    assert [one.name for one in history.measure(quick=True) if one.met is False] == []


def test_a_pair_that_does_more_work_is_called_slower_and_like_ones_are_not() -> None:
    like, slower = (compare.examine((3, more)) for more in (1.0, 1.2))
    assert not like.told
    assert slower.verdict == "slower"
    named = {figure.name for figure in compare.figures_of([like], [slower])}
    assert "detectable difference told over true, p95" in named
