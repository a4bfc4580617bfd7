"""Stretches of a run that people leave out of its findings, with a reason; the findings of all of it stay beside."""

from __future__ import annotations

from ninja import Field, Schema

from stonekettle.server.access.roles import Role
from stonekettle.server.acts import Account, act
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import analysing, data
from stonekettle.server.runs.models import Run, SetAside

MOST = 20


class Aside(Schema):
    """Seconds to leave out, from one to before another, and why."""

    from_s: int = Field(ge=0)
    until_s: int = Field(ge=1)
    why: str = Field(max_length=300)


class SetAsideLine(Schema):
    """Seconds that are left out of the findings."""

    id: int
    from_s: int
    until_s: int
    why: str
    who: str


def of(run: Run) -> list[SetAsideLine]:
    return [SetAsideLine.from_orm(one) for one in run.set_aside.all()]


def check(run: Run, stretch: Aside) -> None:
    """Raises :class:`Conflict` for what cannot be left out."""
    seconds = data.seconds_stored(run)
    if not stretch.why.strip():
        raise Conflict("Say why these seconds tell nothing of the system: whoever reads the findings will ask.")
    if stretch.until_s <= stretch.from_s:
        raise Conflict(f"It ends at {stretch.until_s} s, before it begins at {stretch.from_s} s. Choose a stretch.")
    if stretch.from_s >= seconds:
        raise Conflict(f"The run has {seconds} seconds; there is nothing from {stretch.from_s} s on.")
    left_out = analysing.seconds_of(run.set_aside.all(), seconds)
    left_out[stretch.from_s : stretch.until_s] = True
    if left_out.all():
        raise Conflict("Nothing of the run would be left. Leave out what tells nothing, and no more.")
    if run.set_aside.count() >= MOST:
        raise Conflict(f"{MOST} stretches are left out already. Let one count again first.")


@act("left seconds out of the findings of", Role.PLANNER)
def leave_out(account: Account, run: Run, stretch: Aside) -> None:
    """Leave seconds out; the findings are made anew without them, and those of the whole run are kept."""
    check(run, stretch)
    made = SetAside.objects.create(
        run=run,
        from_s=stretch.from_s,
        until_s=min(stretch.until_s, data.seconds_stored(run)),
        why=stretch.why.strip(),
        who=account.actor.name,
    )
    account.about("run", run.pk, run.revision.experiment.name, note=_told(made))
    analysing.analyse(run, state=run.state, cause=run.cause)


@act("let seconds count again in", Role.PLANNER)
def count_again(account: Account, one: SetAside) -> None:
    """Let seconds count again; the findings are made anew with them."""
    run = one.run
    account.about("run", run.pk, run.revision.experiment.name, note=_told(one))
    one.delete()
    analysing.analyse(run, state=run.state, cause=run.cause)


def _told(one: SetAside) -> str:
    return f"{one.from_s} to {one.until_s} s: {one.why}"
