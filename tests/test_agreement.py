"""One plan per device: every command names the same steps, protects the same and counts the same.

On random devices for what commands make of one plan, and on the sample site for what they print.
"""

import os

import pytest

from builders import NOW
from builders.chance import Case, cases
from builders.planned import Planned, short
from conftest import Ovek
from ovek.demo import write_site
from ovek.engine.audit import Terms, audit_judged
from ovek.engine.cleanup import plan_device, with_steps
from ovek.engine.compare import compare_device
from ovek.engine.plan import Asked
from ovek.engine.plan.space_choices import SpaceAsked
from ovek.model.plan import Room
from ovek.model.shelf import ShelfFacts
from test_report import drawn

TIMES = int(os.environ.get("OVEK_CASES", "1"))
BLOCKS = range(1 if "OVEK_QUICK" in os.environ else 2)


def block(number: int, size: int, **more):
    return cases(number * 1_000_000 + 300_000, size * TIMES, **more)


def planned(case: Case, **asked) -> Planned:
    return Planned(
        case.device, policy=case.policy, shelf=case.shelf, judge=case.judged().judge, **asked
    )


def audited(case: Case):
    shelf = ShelfFacts(proven=case.shelf, broken={}) if case.shelf is not None else None
    terms = Terms(now=NOW, shelf=shelf)
    made = planned(case)
    return audit_judged(made.judged, made.wants, terms)


@pytest.mark.parametrize("number", BLOCKS)
def test_audit_and_runbook_name_the_same_steps_with_the_same_numbers(number):
    with_steps_ = 0
    for case in block(number, 20):
        found, made = audited(case), planned(case)
        assert found.steps == tuple(step.do for step in made.book.steps), case.seed
        assert [each.number for each in found.steps] == list(range(1, len(found.steps) + 1))
        fixed = {(each.rule, each.place, each.seen): each.fixed_after for each in found.findings}
        assert all(each is None or 1 <= each <= len(found.steps) for each in fixed.values())
        # What the runbook leaves open is what the audit says no step ends.
        left = {(each.rule, each.place, each.seen) for each in made.book.open}
        ends = {key for key, after in fixed.items() if after is not None}
        assert not left & ends, case.seed
        with_steps_ += bool(found.steps)
    assert with_steps_ > 10


@pytest.mark.parametrize("number", BLOCKS)
def test_cleanup_deletes_what_the_plan_deletes_before_the_copy_and_nothing_else(number):
    deleted = 0
    for case in block(number, 100):
        made = planned(case)
        goals = {made.subject.wanted.goal_of(each.member.id) for each in made.judged.members or ()}
        release = next((each for each in goals if each is not None), None)
        if release is None or len(goals) > 1:
            continue
        asked = SpaceAsked(policy=case.policy, room=Room(release=release), shelf=case.shelf)
        plans = with_steps(made.subject, plan_device(made.judged, asked), Asked(aim="target"))
        steps = {step.do.number: step.do for plan in plans for step in plan.steps}
        ours = {each.number: each for each in made.dos}
        for number_, do in steps.items():
            assert short(do) == short(ours[number_]), case.seed
        reload = next((d.number for d in made.dos if d.change == "reload"), len(ours) + 1)
        copies = [n for n in ours if n < reload and ours[n].image == release.file]
        copied = max((n for n in copies if ours[n].change == "copy"), default=0)
        for each in made.dos[:copied]:
            assert each.change != "delete" or each.number in steps, case.seed
        deleted += sum(do.change == "delete" for do in steps.values())
        held = {(plan.member, each.place) for plan in plans for each in plan.keep}
        gone = {(do.member, do.place) for do in steps.values() if do.change == "delete"}
        assert not held & gone, case.seed
    assert deleted


@pytest.mark.parametrize("number", BLOCKS)
def test_audit_and_compare_agree_on_what_is_on_target(number):
    for case in block(number, 30):
        found = audited(case)
        if found.target is None:
            continue
        compared = compare_device(case.judged(), case.judged(), found.target)
        if found.on_target:
            assert compared.done is not False, case.seed
        if compared.done is False:
            assert not found.on_target, case.seed
        assert compared.outcome == "same", case.seed


@pytest.fixture(scope="module")
def sample(tmp_path_factory) -> Ovek:
    """The sample site, and the program run on it."""
    folder = tmp_path_factory.mktemp("sample") / "site"
    write_site(folder)
    return Ovek(folder)


@pytest.fixture(scope="module")
def books(sample) -> dict:
    """The runbooks of the sample site by device."""
    return {each["device"]: each for each in sample.json("runbook", exits=1)["devices"]}


def words_of(book: dict) -> list[str]:
    return [step["do"]["words"] for step in book["steps"]]


def test_what_audit_prints_is_what_runbook_prints(sample, books):
    told = sample.json("audit", exits=1)["devices"]
    for each in told:
        assert each["steps"] == [step["do"] for step in books[each["device"]]["steps"]]
        assert each["answer"] == books[each["device"]]["answer"]
    assert sum(bool(each["steps"]) for each in told) > 10


def test_what_cleanup_prints_is_the_first_part_of_the_runbook(sample, books):
    told = sample.json("cleanup", "--room-for", "target", exits=1)["plans"]
    for each in told:
        ours = {step["do"]["number"]: step for step in books[each["device"]]["steps"]}
        for step in each["steps"]:
            assert step["do"] == ours[step["do"]["number"]]["do"], each["device"]
            assert step["cut"] == ours[step["do"]["number"]]["cut"], each["device"]
    assert sum(bool(each["steps"]) for each in told) > 5


def test_checklists_and_report_number_the_same_steps_with_the_same_words(sample, books):
    sample("runbook", "--into", "lists", exits=1)
    sample("report", "-o", "page.html", exits=3)
    page = drawn(sample.folder / "page.html")
    markdown = sample("runbook", "--format", "markdown", exits=1).stdout.replace("\\", "")
    for name, book in books.items():
        if not book["steps"]:
            continue
        written = (sample.folder / "lists" / f"{name}.md").read_text().replace("\\", "")
        for step in book["steps"]:
            line = f"{step['do']['number']}. {step['do']['words']}"
            assert f"- [ ] {line}" in written and f"- [ ] {line}" in markdown, name
        shown = [words for _, words, _ in page[name]["book"]["steps"]]
        assert shown == words_of(book), name
        assert bool(page[name]["book"]["danger"]) == bool(book["danger"]), name


def test_the_calendar_marks_the_waves_in_which_a_plan_has_danger(sample, books):
    told = sample.json("runbook", exits=1)
    calendar = sample("runbook", "--format", "ical", exits=1).stdout
    dated = [each for each in told["waves"] if each["begins"] is not None]
    for wave in dated:
        risky = {name for name in wave["devices"] if books[name]["danger"]}
        assert set(wave["danger"]) == risky
    marked = calendar.count("SUMMARY:DANGER:")
    assert marked == sum(bool(wave["danger"]) for wave in dated) > 0


def test_the_counts_are_the_same_in_every_command(sample, books):
    audit = sample.json("audit", exits=1)
    listed = [each["device"] for each in audit["devices"]]
    assert set(listed) == set(books)
    answers = {key: audit["summary"][key] for key in ("go", "no-go", "unclear")}
    runbook = sample.json("runbook", exits=1)["answers"]
    assert answers == {key: runbook[key] for key in answers}
    first = [sample(name, exits=1).stdout.splitlines()[0] for name in ("audit", "runbook")]
    for line in first:
        for count in answers.values():
            assert str(count) in line


def test_what_a_person_unlocks_means_the_same_in_audit_cleanup_and_runbook(sample):
    name, asked = "heron-bridge", ("--may-drop", "running")
    audit = sample.json("audit", name, *asked)["devices"][0]
    book = sample.json("runbook", name, *asked, exits=1)["devices"][0]
    room = sample.json("cleanup", name, "--room-for", "target", *asked)["plans"][0]
    assert audit["steps"] == [step["do"] for step in book["steps"]]
    assert [each["place"] for each in room["drop"]] == [audit["steps"][0]["place"]]
    assert [step["do"] for step in room["steps"]] == audit["steps"][: len(room["steps"])]
    assert book["danger"] == [1, 2] and room["danger"] == [1, 2]
    plain = sample.json("audit", name)["devices"][0]
    assert plain["steps"] == []


@pytest.mark.parametrize("command", ["audit", "runbook", "cleanup"])
def test_what_may_be_unlocked_is_named_where_it_is_misspelt(sample, command):
    more = ("--room-for", "target") if command == "cleanup" else ()
    told = sample(command, *more, "--may-drop", "runing", exits=2).stderr
    assert "'runing' is not a valid choice; use one of: fallback, running;" in told
    assert "did you mean 'running'?" in told


def test_each_plan_says_once_what_a_power_failure_does(sample):
    safe, worse = "A power failure is safe during every step.", "next boot no worse than it is now."
    for name, told in (("arle-quay", safe), ("brack-pier", worse), ("arle-chassis", "DANGER: ")):
        shown = sample("runbook", name, exits=1).stdout
        assert [each for each in (safe, worse, "DANGER: ") if each in shown][:1] == [told]
    assert "power failure" not in sample("runbook", "arle-core").stdout
