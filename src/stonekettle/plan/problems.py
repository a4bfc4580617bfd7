"""What is wrong with a plan, where, and how to mend it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import asdict, dataclass

MAX_PROBLEMS = 50


@dataclass(frozen=True)
class Problem:
    """One fault: ``path`` in the document (``load[0].climb.every``), what is wrong, the mend."""

    path: str
    message: str
    mend: str

    def __str__(self) -> str:
        return f"{self.path}: {self.message} {self.mend}"

    def as_dict(self) -> dict[str, str]:
        return asdict(self)


class PlanError(ValueError):
    """A document that is not a runnable plan, with its problems, as many as one can read.

    ``PlanError`` is raised whole: nothing is changed by a document that has problems.
    """

    title = "The document has problems"

    def __init__(self, problems: Iterable[Problem]) -> None:
        found = tuple(problems)
        self.problems = found[:MAX_PROBLEMS]
        if (more := len(found) - MAX_PROBLEMS) > 0:
            self.problems += (Problem("document", f"there are {more} more problems.", "Mend these first."),)
        super().__init__("\n".join(str(problem) for problem in self.problems))
