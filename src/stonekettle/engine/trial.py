"""Does each journey pass once, as one user, before any load? And if not, why?

The requests are those the load loop would send; here everything about them is kept to be shown.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, fields, is_dataclass, replace
from random import Random
from typing import Any, TypeVar, cast

from stonekettle.engine.allowance import LOOPBACK, Allowance
from stonekettle.engine.comparison import Comparison, compare
from stonekettle.engine.errors import TargetError, TrialFailed
from stonekettle.engine.examine import Examiner, Outcome, Response
from stonekettle.engine.exchange import SHOWN, Exchange, TrialUser, exchange_of, status_fault
from stonekettle.engine.lives import Values
from stonekettle.engine.script import Request, Script
from stonekettle.engine.targets import resolve
from stonekettle.plan import secrecy

LIMIT_S = 120.0
Tell = Callable[[str, int, int], None]
"""Told what is being done, and how much of how much is done."""


def silent(text: str, done: int, total: int) -> None:
    """Nobody listens."""


@dataclass(frozen=True)
class KeptValue:
    """A value a step keeps, where it was looked for, and what it is (of a secret only how long); None: not found."""

    name: str
    place: str
    value: str | None


@dataclass(frozen=True)
class StepTrial:
    """How a step went; ``reason`` says in a sentence why it failed. ``comparison`` sets what a
    recording holds beside it."""

    name: str
    passed: bool
    reason: str
    exchanges: tuple[Exchange, ...]
    checks: tuple[Outcome, ...] = ()
    kept: tuple[KeptValue, ...] = ()
    comparison: Comparison | None = None

    def beside(self, recorded: tuple[int, str, str]) -> StepTrial:
        """The step with what was received compared to a recorded (status, content type, body)."""
        main = next(iter(self.exchanges), None)
        if main is None or main.status == 0:
            return self
        status, kind, body = recorded
        received = main.status, main.content_type, main.received_body
        return replace(self, comparison=compare((status, kind, secrecy.hidden(body)), received))


@dataclass(frozen=True)
class JourneyTrial:
    """A journey walked once: its steps as far as it came."""

    journey: str
    passed: bool
    reason: str
    took_s: float
    steps: tuple[StepTrial, ...]

    @property
    def requests(self) -> int:
        return sum(1 + len(exchange.hops) for step in self.steps for exchange in step.exchanges)


@dataclass(frozen=True)
class TrialResult:
    """How many requests the trial sent; they are part of no measurement."""

    requests: int


def try_all(script: Script, base_url: str, tell: Tell = silent, allowance: Allowance = LOOPBACK) -> TrialResult:
    """Walk every journey once; ``tell`` hears each step begun. Raises :class:`TrialFailed` at the first step that
    fails."""
    requests = 0
    for number in range(len(script.journeys)):
        trial = try_journey(script, base_url, number, tell, allowance=allowance)
        requests += trial.requests
        if not trial.passed:
            raise TrialFailed(trial.reason)
    return TrialResult(requests)


def try_journey(
    script: Script,
    base_url: str,
    number: int,
    tell: Tell = silent,
    user: int = 1,
    allowance: Allowance = LOOPBACK,
) -> JourneyTrial:
    """Walk one journey as ``user`` (from 1, with the rows it would have), no longer than :data:`LIMIT_S`;
    ``tell`` hears each step begun. Raises :class:`TrialFailed` where load may not go at all."""
    try:
        resolve("system.base_url", base_url, allowance)
    except TargetError as error:
        raise TrialFailed(str(error)) from error
    requests = script.journeys[number]
    values = Values({**script.samples[number], **script.row(number + user - 1)}, user, 1, Random())
    name = script.step_names[requests[0].step][0]
    walker = TrialUser(user - 1, allowance)
    steps: list[StepTrial] = []
    try:
        for place, request in enumerate(requests):
            step = script.step_names[request.step][1]
            tell(f"Trying {step!r}", place, len(requests))
            if walker.elapsed() > LIMIT_S:
                steps.append(StepTrial(step, False, f"the trial had taken {LIMIT_S:.0f} s by then and ended.", ()))
                break
            steps.append(_try_step(walker, step, request, values))
            if not steps[-1].passed:
                break
    finally:
        walker.close()
    last = steps[-1]
    reason = "" if last.passed else f"The trial of {name!r} failed at step {last.name!r}: {last.reason}"
    trial = JourneyTrial(name, last.passed, reason, walker.elapsed(), tuple(steps))
    return _out_of_view(trial, script.secrets | _secrets(requests, values))


def _secrets(requests: Sequence[Request], values: Values) -> set[str]:
    """What is known to be secret: credentials, and the values of secret names, given or kept."""
    credentials = (request.session.credentials for request in requests)
    given = {text for c in credentials if c for text in (c.bearer, c.password, *c.headers.values()) if text}
    return given | {value for name, value in values.items() if secrecy.is_secret_name(name)}


T = TypeVar("T")


def _out_of_view(part: T, known: Collection[str]) -> T:
    """The same with secrets masked in every text of it."""
    made: Any = part
    if isinstance(part, KeptValue) and part.value is not None and _is_secret(part):
        return cast(T, replace(part, value=f"{secrecy.MASK} ({len(part.value)} characters)"))
    if isinstance(part, str):
        made = secrecy.hidden(part, known)
    elif isinstance(part, tuple):
        made = tuple(_out_of_view(one, known) for one in part)
    elif is_dataclass(part) and not isinstance(part, type):
        made = replace(part, **{f.name: _out_of_view(getattr(part, f.name), known) for f in fields(part)})
    return cast(T, made)


def _is_secret(kept: KeptValue) -> bool:
    words = kept.place.replace(".", " ").split()
    return secrecy.is_secret_name(kept.name) or secrecy.is_secret_name(words[-1]) or "cookie" in words


def _try_step(user: TrialUser, name: str, request: Request, values: Values) -> StepTrial:
    main = user.perform(request, values)
    exchanges = [exchange_of(main)]
    fault = main.fault or status_fault(main)
    if fault is not None:
        return StepTrial(name, False, fault, tuple(exchanges))
    checks, kept, fault = _examined(request.examiner, main.response, values)
    if fault is None and request.accompanying:
        others = user.accompany(request.accompanying, values)
        exchanges += [exchange_of(other, accompanying=True) for other in others]
    return StepTrial(name, fault is None, fault or "", tuple(exchanges), checks, kept)


def _examined(
    examiner: Examiner | None, response: Response, values: Values
) -> tuple[tuple[Outcome, ...], tuple[KeptValue, ...], str | None]:
    """Checks and kept values with the first failure in a sentence."""
    if examiner is None:
        return (), (), None
    checks = examiner.outcomes(response)
    found = examiner.kept(response)
    kept = tuple(KeptValue(name, examiner.places[name], value) for name, value in found.items())
    failed = next((check for check in checks if not check.passed), None)
    if failed is not None:
        return checks, kept, f"the check that {failed.text} failed: {failed.found}."
    missing = next((value for value in kept if value.value is None), None)
    if missing is not None:
        begun = response.text[:SHOWN].strip()
        return (
            checks,
            kept,
            f"there is no value {missing.place} to keep as {missing.name!r}. The answer began: {begun!r}",
        )
    values.update({value.name: value.value for value in kept if value.value is not None})
    return checks, kept, None
