"""What people note of runs: a remark, and that one is left out of the history and why."""

from __future__ import annotations

from stonekettle.server.access.roles import Role
from stonekettle.server.acts import Account, act
from stonekettle.server.runs.models import Run

LONGEST = 500


@act("noted of", Role.PLANNER)
def note(account: Account, run: Run, remark: str) -> None:
    """This is what there is to say of the run; nothing where it is empty."""
    _change(account, run, "remark", remark.strip())


@act("changed what is left out:", Role.PLANNER)
def leave_out(account: Account, run: Run, why: str) -> None:
    """Leave a run out of its experiment's history for a reason, or take it in again without one."""
    _change(account, run, "left_out", why.strip())


def _change(account: Account, run: Run, field: str, value: str) -> None:
    before = getattr(run, field)
    if before == value:
        return
    account.about("run", run.pk, run.revision.experiment.name, note=value)
    account.changed({field: before}, {field: value})
    Run.objects.filter(pk=run.pk).update(**{field: value})
