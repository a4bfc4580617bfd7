"""What takes long about journeys: trying one, and reading the file of one."""

from __future__ import annotations

from typing import Literal

from ninja import Field, Schema

from stonekettle.engine.errors import TrialFailed
from stonekettle.engine.trial import JourneyTrial
from stonekettle.plan import secrecy
from stonekettle.plan.imports import files
from stonekettle.plan.step import Keep
from stonekettle.server.jobs.work import Work
from stonekettle.server.journeys import rules
from stonekettle.server.journeys.models import Journey
from stonekettle.server.problems import Conflict


class Tried(Schema):
    kind: Literal["trial"] = "trial"
    trial: JourneyTrial


class HostLine(Schema):
    name: str
    requests: int


class FoundStep(Schema):
    name: str
    request: str
    files: int
    think: str


class ProposalLine(Schema):
    """A value an answer delivered and later requests sent back: where it is kept, where it is used. Not
    ``sure``: it may be a mere word of the answer."""

    name: str
    step: str
    place: str
    value: str
    used: list[str]
    sure: bool


class FileLookup(Schema):
    """What a file holds. Of a recording, requests to ``host`` become steps, and those to the other
    hosts that were asked for; the rest is left out."""

    kind: Literal["recording", "description", "list", "journey"]
    host: str
    hosts: list[HostLine]
    notes: list[str]
    steps: list[FoundStep]
    proposals: list[ProposalLine]


class JourneyFileFound(Schema):
    kind: Literal["journey file"] = "journey file"
    found: FileLookup


class JourneyFileUse(Schema):
    """What becomes of a file: the journey's name, its system, the proposals accepted, and of a
    recording the hosts taken besides its main one."""

    name: str = Field(min_length=1, max_length=80)
    system: str = Field(default="", max_length=80)
    accept: list[str] = Field(max_length=1_000)
    hosts: list[str] = Field(default_factory=list, max_length=200)


class JourneyMade(Schema):
    kind: Literal["journey"] = "journey"
    id: int


def trial(work: Work) -> Tried:
    """Walk a journey once, as one user, and show everything that was sent and received."""
    journey = Journey.objects.get(pk=work.given["journey"])
    try:
        return Tried(trial=rules.try_once(work.actor, journey, work.tell, work.given["user"]))
    except TrialFailed as error:
        raise Conflict(str(error)) from error


def look(work: Work) -> JourneyFileFound:
    """What a file holds, and of a recording what should be kept anew each time. Nothing is kept."""
    work.tell("Reading the file and looking for values of this one visit")
    found = files.read(work.content, "Imported", "", work.given["hosts"])
    steps = found.document["steps"]
    return JourneyFileFound(
        found=FileLookup(
            kind=found.kind,
            host=found.host,
            hosts=[HostLine(name=name, requests=count) for name, count in found.hosts.items()],
            notes=list(found.notes),
            steps=[
                FoundStep(
                    name=step["name"],
                    request=secrecy.hidden(step["request"]),
                    files=len(step.get("accompanying", [])),
                    think=step.get("think", ""),
                )
                for step in steps
            ],
            proposals=[
                ProposalLine(
                    name=proposal.name,
                    step=steps[proposal.step]["name"],
                    place=Keep.model_validate({"name": "x", **proposal.keep}).place,
                    value=secrecy.MASK if secrecy.is_secret_name(proposal.name) else proposal.value,
                    used=[f"{steps[place.step]['name']}, {place.where}" for place in proposal.used],
                    sure=proposal.sure,
                )
                for proposal in found.proposals
            ],
        )
    )


def bring_in(work: Work) -> JourneyMade:
    """A journey from a file."""
    work.tell("Reading the file")
    use = JourneyFileUse.model_validate(work.given["use"])
    found = files.read(work.content, use.name, use.system, use.hosts)
    return JourneyMade(id=rules.from_file(work.actor, found, set(use.accept)).pk)
