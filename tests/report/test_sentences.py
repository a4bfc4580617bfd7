"""Findings in words, for every kind of outcome."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np
import pytest

from stonekettle.core import analysis
from stonekettle.core.analysis import Arriving
from stonekettle.core.changes import Change
from stonekettle.core.load_profile import LoadProfile
from stonekettle.core.objectives import BreakingPoint, ComfortLimit
from stonekettle.core.orders import as_planned
from stonekettle.core.run_data import RunData
from stonekettle.core.types import Declined, Estimate, Reason
from stonekettle.plan import document
from stonekettle.plan.models import Plan
from stonekettle.practice.config import PracticeConfig
from stonekettle.practice.twin import simulate
from stonekettle.practice.unfit import Blocked, Laborious
from stonekettle.report import result, sentences
from stonekettle.report.sentences import Note
from tests.conftest import PLAN_TEXT, climb, one_server_system, visits

PLAN = document.read(
    PLAN_TEXT.format(base="http://127.0.0.1:9", metrics="http://127.0.0.1:9/m", think="1 s", users=5, hold="20 s")
)
SATURATING = climb(20, 180, 20)


def told(
    config: PracticeConfig, profile: LoadProfile = SATURATING, plan: Plan = PLAN, run: RunData | None = None
) -> tuple[str, dict[str, Note]]:
    found = analysis.analyse(
        run or simulate(config, visits(1.0), profile, seed=2),
        as_planned(profile),
        document.core_objectives(plan),
        plan.error_limit,
        promised=document.throughput_goals(plan),
    )
    return sentences.verdict(found, plan), {note.kind: note for note in sentences.notes(found, plan)}


def test_the_verdict_says_limit_interval_and_cause() -> None:
    verdict, notes = told(one_server_system(20, servers=2))
    assert verdict.startswith("Holds 1")
    assert "90 % interval" in verdict
    assert "throughput stops growing" in verdict
    assert "The limit is `shop` CPU" in verdict
    assert notes["saturation"].grade == "saturated"
    assert notes["limiting"].evidence.rows == ("resource:shop.cpu",)
    assert notes["comfort"].evidence.low is not None
    assert notes["comfort"].text == "Beyond it the first objective breaks: 95 % of page within 1 s."
    assert notes["measuring"].title == "Measured soundly"
    assert notes["measuring"].text == "Measuring shifted the load by at most 0 %."
    assert notes["laws"].grade == "holds"


def test_a_run_that_never_saturates_says_so_and_what_would_decide() -> None:
    verdict, notes = told(one_server_system(10, servers=4), climb(10, 80, 10))
    assert "Holds at least 80 users" in verdict
    assert "Saturation not reached up to 80 users" in verdict
    assert "would decide" in notes["saturation"].text
    assert notes["limiting"].title == "No resource is full yet"


def test_a_few_levels_with_room_say_how_far_saturation_is_not_reached() -> None:
    verdict, notes = told(one_server_system(20, servers=2), climb(20, 40, 20, 40))
    assert "Saturation not reached up to 40 users" in verdict
    assert "4 levels to tell: 60, 80 and 120 users would be the next." in notes["saturation"].text
    assert notes["saturation"].details == ()


def test_a_pool_is_named_with_those_waiting() -> None:
    verdict, notes = told(one_server_system(20, servers=8, pool=2))
    assert "`shop` connections" in verdict
    assert "waiting" in notes["limiting"].title


def test_errors_are_told_with_their_first_moment() -> None:
    _, notes = told(one_server_system(20, servers=2, refuse_over=30))
    assert notes["breaking"].title.startswith("Breaks between")
    assert any(line.startswith("First status 503") for line in notes["breaking"].details)


def test_a_generator_that_did_not_deliver_says_so_and_keeps_what_stands() -> None:
    run = simulate(one_server_system(2, servers=8), visits(1.0), SATURATING, loop=Laborious(0.01))
    verdict, notes = told(one_server_system(20), run=run)
    assert "The generators were the limit" in verdict
    assert verdict.endswith("Not trustworthy: the saturation point.")
    assert "Holds at least" in verdict
    assert notes["saturation"].grade == "open"
    assert "were overdue or unanswered at the generators" in notes["limiting"].text
    assert notes["measuring"].title == "Not trustworthy in part"


def test_lateness_that_changes_nothing_is_told_and_claims_stand() -> None:
    config = one_server_system(20, servers=2)
    late = Blocked([(k * 0.02, (k + 1) * 0.02) for k in range(14_000)])
    verdict, notes = told(config, run=simulate(config, visits(1.0), SATURATING, seed=2, loop=late))
    assert "throughput stops growing" in verdict
    assert "Not trustworthy" not in verdict
    assert notes["limiting"].title.startswith("The limit is `shop` CPU")
    assert "blurred a 95th percentile by at most" in notes["measuring"].text


def test_a_pause_of_the_system_is_a_finding_of_its_own() -> None:
    config = one_server_system(20, servers=2)
    run = simulate(config, visits(1.0), SATURATING, seed=2, loop=Blocked([(40, 43)]))
    _, notes = told(config, run=replace(run, stalls=np.zeros((0, 2))))
    assert notes["pauses"].title.startswith("Nobody could go on for 3")
    _, notes = told(config, run=run)
    assert "pauses" not in notes
    assert notes["measuring"].details[-1] == "They stood still 1 time for over 20 ms, 3.00 s in all, 3.00 s at most."


def test_without_objectives_the_note_asks_for_some() -> None:
    _, notes = told(one_server_system(20), plan=PLAN.model_copy(update={"objectives": ()}))
    assert notes["comfort"].title == "No objectives, no comfort limit"


def test_a_broken_law_names_the_level() -> None:
    run = simulate(one_server_system(5, servers=2), visits(1.0), SATURATING)
    lost = np.where(run.planned_users == 100, 12.0, 0.0)
    _, notes = told(one_server_system(5), run=replace(run, in_flight=run.in_flight - lost))
    assert notes["laws"].grade == "strained"
    assert "At 100 users" in notes["laws"].details[0]


@pytest.mark.parametrize("seconds", [0, 5])
def test_a_run_too_short_is_inconclusive(seconds: int) -> None:
    run = simulate(one_server_system(5), visits(1.0), climb(5, 5, 1, max(seconds, 1)))
    verdict, notes = told(one_server_system(5), climb(5, 5, 1, 1), run=run)
    assert verdict.startswith("Inconclusive")
    assert "no answer" in notes["saturation"].title


def test_without_meters_nothing_is_said_of_resources() -> None:
    config, profile = one_server_system(10, servers=4), climb(10, 80, 10)
    run = replace(simulate(config, visits(1.0), profile), resources=())
    _, notes = told(config, profile, run=run)
    assert notes["limiting"].title == "No component is metered"
    assert "full" not in notes["limiting"].text


@pytest.mark.parametrize(
    ("came", "title"),
    [
        (Arriving(1_000, 980, 3), "People arrived as ordered"),
        (Arriving(1_000, 700, 290), "29 % of those who arrived were turned away"),
        (Arriving(10_000, 9_000, 0), "Fewer people arrived than ordered"),
    ],
)
def test_what_became_of_arrivals_is_told(came: Arriving, title: str) -> None:
    run = simulate(one_server_system(20, servers=2), visits(1.0), SATURATING, seed=2)
    found = analysis.analyse(run, as_planned(SATURATING), [], 0.05)
    told = [note for note in sentences.notes(replace(found, arriving=came), PLAN) if note.kind == "arrivals"]
    assert [note.title for note in told] == [title]
    assert not [note for note in sentences.notes(found, PLAN) if note.kind == "arrivals"]


@pytest.mark.parametrize(
    ("point", "title", "text"),
    [
        (BreakingPoint(0.05, 3, Estimate(45, 40, 60), 0.2), "Breaks between 40 and 60 users", "At no higher load"),
        (
            BreakingPoint(0.05, 3, Estimate(45, 40, 60), 0.2, 100.0),
            ", and recovers",
            "At 100 users they are under it again",
        ),
    ],
)
def test_a_breaking_says_whether_it_recovered(point: BreakingPoint, title: str, text: str) -> None:
    run = simulate(one_server_system(20, servers=2), visits(1.0), SATURATING, seed=2)
    found = replace(analysis.analyse(run, as_planned(SATURATING), [], 0.05), breaking=point)
    (note,) = [note for note in sentences.notes(found, PLAN) if note.kind == "breaking"]
    assert title in note.title
    assert "20 % at 60 users" in note.text
    assert text in note.text


def test_errors_where_the_generators_were_short_are_no_breaking_point() -> None:
    run = simulate(one_server_system(20, servers=2), visits(1.0), SATURATING, seed=2)
    found = replace(analysis.analyse(run, as_planned(SATURATING), [], 0.05), breaking=Declined(Reason.GENERATOR, 40.0))
    (note,) = [note for note in sentences.notes(found, PLAN) if note.kind == "breaking"]
    assert (note.grade, note.title) == ("open", "Breaking point: no answer")
    assert "errors may be their own" in note.text


def test_a_goal_missed_in_between_is_said_and_takes_the_good_grade_away() -> None:
    run = simulate(one_server_system(10, servers=4), visits(1.0), climb(10, 80, 10), seed=2)
    found = analysis.analyse(run, as_planned(climb(10, 80, 10)), document.core_objectives(PLAN), PLAN.error_limit)
    assert isinstance(found.comfort, ComfortLimit)
    results = (replace(found.comfort.results[0], missed_at=(20.0, 30.0, 40.0, 50.0)), *found.comfort.results[1:])
    hurt = replace(found, comfort=replace(found.comfort, results=results))
    before, after = (sentences.notes(one, PLAN)[0] for one in (found, hurt))
    assert (before.grade, after.grade) == ("holds", "strained")
    assert "Every objective held at every level" in before.text
    assert "Every objective held" not in after.text
    assert "95 % of page within 1 s at 20, 30 and 40 users and 1 more" in after.text
    assert "but not at 20, 30 and 40 users and 1 more" in after.details[0]


def test_an_overload_says_what_is_thrown_away_and_where_the_peak_was() -> None:
    run = simulate(one_server_system(20, servers=2), visits(1.0), SATURATING, seed=2)
    share = np.interp(run.planned_users, [110, 180], [0.0, 0.84])[:, None]
    run = replace(run, errors=np.random.default_rng(1).binomial(run.completed, share))
    verdict, notes = told(one_server_system(), run=run)
    assert "Throughput peaks at" in verdict
    assert re.search("Overloaded: `shop` CPU is full, and 8[2-6] % of its work is thrown away", verdict)
    assert "More load gets less done" in notes["saturation"].text
    assert notes["limiting"].grade == "saturated"


@pytest.mark.parametrize(
    ("change", "title", "text"),
    [
        (
            Change("slower", "shop.cpu", 0.23, load=40.0),
            "The system grew slower during the run, by 23 %",
            "When the load came back to 40 users, a step's work at `shop` CPU was 23 % more than before.",
        ),
        (
            Change("faster", "shop.cpu", 0.3),
            "The system grew faster during the run, by 30 %",
            "Within its levels, while the load stayed the same, a step's work at `shop` CPU was 30 % less than before.",
        ),
        (
            Change("slower", "response", 0.5, load=40.0),
            "The system grew slower during the run, by 50 %",
            "When the load came back to 40 users, the response was 50 % more than before.",
        ),
        (
            Change("not recovered", "throughput", 0.6, load=60.0),
            "Not itself again after the overload: 60 % less gets done",
            "Later, at 60 users, throughput is lower than it was on the way up.",
        ),
        (
            Change("periodic", "shop.cpu", 0.1, period_s=20.0),
            "Something else happens each 20.0 s",
            "`shop` CPU stands out for 2.00 s at a time",
        ),
    ],
)
def test_what_changed_is_told_with_what_would_settle_it(change: Change, title: str, text: str) -> None:
    run = simulate(one_server_system(20, servers=2), visits(1.0), SATURATING, seed=2)
    found = analysis.analyse(run, as_planned(SATURATING), document.core_objectives(PLAN), PLAN.error_limit)
    changed = replace(found, changes=(change,))
    assert sentences.verdict(changed, PLAN) == f"{sentences.verdict(found, PLAN)} {title}."
    notes = {note.kind: note for note in sentences.notes(changed, PLAN)}
    note = notes[f"change:{change.kind}"]
    assert note.title == title
    assert text in note.text
    assert note.grade == "strained"
    assert not [kind for kind in sentences_kinds(found) if kind.startswith("change")]


def sentences_kinds(found: analysis.Analysis) -> list[str]:
    return [note.kind for note in sentences.notes(found, PLAN)]


def promising(*goals: dict[str, object]) -> Plan:
    return document.from_document({**document.to_document(PLAN), "objectives": list(goals)})


def test_work_that_was_promised_is_told_with_what_was_done_of_it() -> None:
    """Two processors of 20 ms do 100 steps/s; 95 % within 100 ms holds up to some 75 of them."""
    config = one_server_system(20, servers=2)
    quick = {"p95": "100 ms"}
    verdict, notes = told(config, plan=promising(quick, {"throughput": "60 /s", "step": "page"}))
    assert re.search(r"Does 7\d\.\d steps/s of page at \d+ users, 60 were promised\.", verdict)
    assert notes["throughput"].grade == "holds"
    verdict, notes = told(config, plan=promising(quick, {"throughput": 98}))
    assert re.search(r"Does no more than 7\d\.\d steps/s of all steps, 98 were promised\.", verdict)
    assert notes["throughput"].grade == "broken"
    assert notes["throughput"].details[0].startswith("✕ 98 steps/s of all steps or more: 7")
    assert "up to the load at which the other objectives hold" in notes["throughput"].text
    verdict, notes = told(config, plan=promising(quick, {"throughput": 98, "role": "for information"}))
    assert "promised" not in verdict
    assert notes["throughput"].grade == "strained"
    verdict, notes = told(config, plan=promising({"p95": "1 ms"}, {"throughput": 5}))
    assert "Other objectives are broken already where" in verdict


@pytest.mark.parametrize(("promised", "said"), [(60, "objectives met"), (140, "objectives broken")])
def test_work_alone_decides_where_nothing_else_was_promised(promised: int, said: str) -> None:
    plan = promising({"throughput": promised})
    run = simulate(one_server_system(20, servers=2), visits(1.0), SATURATING, seed=2)
    goals = document.throughput_goals(plan)
    found = analysis.analyse(run, as_planned(SATURATING), document.core_objectives(plan), 0.05, promised=goals)
    assert result.outcome(found) == said
    assert sentences.notes(found, plan)[1].text.startswith("The most that was done at any load of this run.")


def test_an_objective_says_when_it_was_first_missed() -> None:
    _, notes = told(one_server_system(20, servers=2))
    (line,) = notes["comfort"].details
    found = re.search(r"holds to (\d+) users .*; first missed (\d+) min(?: (\d+) s)? in, with (\d+) users$", line)
    assert found, line
    limit, minutes, seconds, users = (int(part or 0) for part in found.groups())
    assert limit < users <= limit + 40
    assert (minutes * 60 + seconds) % 30 == 0  # where a level begins
    _, notes = told(one_server_system(20, servers=2), climb(10, 50, 10))
    assert all("first missed" not in line for line in notes["comfort"].details)
