"""What the machine under the tests did meanwhile.

On a shared host the processors are taken away for a tenth of a second at a time. No generator can
measure then, and the product says so itself; a test that needs its verdict cannot have it.
"""

from __future__ import annotations

from pathlib import Path

import pytest

TAKEN_AWAY = 0.02
"""A share of processor time taken by other machines beyond which nothing can be timed."""
_STEAL = 7


class Steal:
    """The share of processor time that the host gave to others, from now on."""

    def __init__(self) -> None:
        self._begun = self._ticks()

    @staticmethod
    def _ticks() -> list[int]:
        return list(map(int, Path("/proc/stat").read_text().split("\n")[0].split()[1:9]))

    @property
    def share(self) -> float:
        spent = [now - before for now, before in zip(self._ticks(), self._begun, strict=True)]
        return spent[_STEAL] / max(1, sum(spent))

    def skip_if_high(self) -> None:
        """Give the test up where the machine, not the product, is at fault."""
        if self.share > TAKEN_AWAY:
            pytest.skip(f"the host took {self.share:.0%} of the processors' time away: nothing can be timed here")
