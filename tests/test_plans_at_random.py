"""What holds for every plan, on random devices (`builders.chance`): without exception.

Every change is applied here one by one, and each device is judged, walked and planned for anew.
"""

import os
from random import Random

import pytest
from msgspec.structs import replace

import plain
from builders import (
    MIB,
    bank,
    device,
    digest,
    flash,
    image,
    member,
    published,
    release,
    sheet,
)
from builders.chance import Case, cases
from builders.planned import Planned, bare
from ovek.engine.bootwalk import walk_device
from ovek.engine.changes import middle, refusal
from ovek.engine.replay import done
from ovek.engine.verdicts import judge_device
from ovek.model.catalog import Origin, Published
from ovek.model.change import (
    BackUp,
    CheckDigest,
    Copy,
    Delete,
    LoadComponent,
    Reload,
    Save,
    WriteBank,
)
from ovek.model.digest import Digests
from ovek.model.policy import Policy
from ovek.model.snapshot import Bank
from ovek.model.walk import RELOADS_WORST_FIRST
from search import cheapest, price, reached
from test_random_devices import now_readable, shuffled, without_a_fact

TIMES = int(os.environ.get("OVEK_CASES", "1"))
BLOCKS = range(1 if "OVEK_QUICK" in os.environ else 2)


def block(number: int, size: int, **more):
    return cases(number * 1_000_000 + 500_000, size * TIMES, **more)


def planned(case: Case, what=None, **more) -> Planned:
    judge = more.pop("judge", None) or case.judged().judge
    return Planned(
        what or case.device, policy=case.policy, shelf=case.shelf, judge=judge, keep=case.keep,
        **more,
    )  # fmt: skip


@pytest.mark.parametrize("number", BLOCKS)
def test_after_any_step_planning_again_gives_exactly_the_rest(number):
    for case in block(number, 40):
        made = planned(case)
        for step in range(1, len(made.plan.changes) + 1):
            again = made.after(step)
            rest = [bare(each) for each in made.plan.changes[step:]]
            assert [bare(each) for each in again.plan.changes] == rest, (case.seed, step)


@pytest.mark.parametrize("number", BLOCKS)
def test_at_the_end_nothing_is_left_that_a_step_could_do_and_what_was_said_to_be_gone_is(number):
    for case in block(number, 40):
        made = planned(case)
        end = made.after(len(made.plan.changes))
        assert end.plan.changes == (), case.seed
        left = {(each.key, each.severity) for each in end.found}
        gone = made.fixed
        for each in made.found:
            if gone[each.rule.slug] is not None and len(made.found) == len(gone):
                assert (each.key, each.severity) not in left, (case.seed, each.key)


@pytest.mark.parametrize("number", BLOCKS)
def test_every_step_can_be_made_and_a_power_failure_in_it_harms_nobody_or_is_told(number):
    for case in block(number, 40):
        made = planned(case)
        now, judge = made.judged.device, made.judge
        before = walk_device(made.judged)
        for change, do in zip(made.plan.changes, made.dos, strict=True):
            judged = judge_device(now, judge)
            walk = walk_device(judged)
            assert not refusal(now, change, judge.sheet), (case.seed, change)
            half = middle(now, change, judge.sheet)
            now = done(judged, now, change, walk)
            for there in (half, now):
                if there is not None and not do.harm:
                    after = walk_device(judge_device(there, judge))
                    assert no_less_sure(walk, after), (case.seed, do.words)
            if isinstance(change, LoadComponent):
                assert do.harm, (case.seed, do.words)
        assert no_less_sure(before, made.plan.after.walk), case.seed


def passages(made: Planned):
    """Each change with the device before and after it."""
    passed = made.plan.course.trial.passed
    return zip((made.plan.before, *passed), made.plan.changes, passed, strict=False)


def no_less_sure(before, after) -> bool:
    rank = RELOADS_WORST_FIRST.index
    ours = {each.member: rank(each.outcome) for each in before.members}
    return all(rank(each.outcome) >= ours[each.member] for each in after.members)


@pytest.mark.parametrize("number", BLOCKS)
def test_no_reload_leaves_the_same_running_and_each_boots_what_is_proven(number):
    reloads = 0
    for case in block(number, 80):
        made = planned(case)
        for before, change, there in passages(made):
            if isinstance(change, Reload):
                reloads += 1
                assert before.walk.next_boot == "proven", case.seed
                ran, running = (
                    ([r.version for r in s.running], [m.member.components for m in s.members])
                    for s in (before, there)
                )
                assert ran != running, case.seed
    assert reloads > 1


@pytest.mark.parametrize("number", BLOCKS)
def test_nothing_is_brought_that_is_there_and_nothing_comes_only_to_go(number):
    for case in block(number, 50):
        made = planned(case)
        brought = set()
        for before, change, _ in passages(made):
            if isinstance(change, Copy | WriteBank):
                place = getattr(change, "place", None)
                image = before.judged.image(place) if place is not None else None
                assert image is None or image.judgement.verdict != "proven", case.seed
                brought.add(place)
            if isinstance(change, Delete):
                assert not brought & {change.place, *change.also}, case.seed


@pytest.mark.parametrize("number", BLOCKS)
def test_leaving_out_any_step_breaks_a_later_one_or_the_end(number):
    for case in block(number, 20):
        made = planned(case)
        end = made.plan.after.judged.device
        for left_out, change in enumerate(made.plan.changes):
            if isinstance(change, BackUp):
                later = made.plan.changes[left_out + 1 :]
                assert change.place is None or any(
                    change.place in (getattr(e, "place", None), *getattr(e, "also", ()))
                    or getattr(e, "bank", None) == change.place.path
                    for e in later
                ), case.seed
                continue
            if isinstance(change, CheckDigest) and change.place in deleted(made):
                continue  # what was read is why it goes
            if change == Save(member=None):
                continue  # what is not saved is lost at the reload
            now, judge, broke, sure = made.judged.device, made.judge, False, True
            for at, each in enumerate(made.plan.changes):
                if at == left_out:
                    continue
                judged = judge_device(now, judge)
                walk = walk_device(judged)
                broke = broke or bool(refusal(now, each, judge.sheet))
                if at > left_out:  # what comes later is less sure without it
                    with_it = made.plan.course.trial.passed[at - 1].walk
                    sure = sure and no_less_sure(with_it, walk)
                now = done(judged, now, each, walk)
            assert broke or not sure or now != end, (case.seed, change)


@pytest.mark.parametrize("number", BLOCKS)
def test_no_step_deletes_what_is_held_on_any_member(number):
    deleted = 0
    for case in block(number, 80):
        made = planned(case)
        for before, change, _ in passages(made):
            if isinstance(change, Delete):
                now = Case(**{**vars(case), "device": before.judged.device})
                written = {
                    text
                    for one in before.judged.device.members
                    for each in one.banks or ()
                    for text in each.places or ()
                }
                for place in (change.place, *change.also):
                    if case.sheet.boot.layout != "files" and str(place.on(None)) in written:
                        continue  # the files of the bank that is written to
                    volume = plain.volume_of(now.device, place.member, place.volume)
                    file = next(f for f in volume.files if f.path == place.path)
                    held = plain.is_held(now, before.walk, place.member, volume, file)
                    assert not held, (case.seed, str(place))
                    deleted += 1
    assert deleted > 20


@pytest.mark.parametrize("number", BLOCKS)
def test_the_order_of_members_files_and_sources_changes_no_step(number):
    for case in block(number, 40):
        case = Case(**{**vars(case), "catalog": [
            Published(each.release, Origin(each.origin.file, 0), each.publisher)
            for each in case.catalog
        ]})  # fmt: skip
        other = shuffled(case, Random(case.seed))
        ours, theirs = planned(case).told, planned(other).told
        assert ours == theirs, case.seed


@pytest.mark.parametrize("number", BLOCKS)
def test_every_device_that_gets_no_course_is_told_what_is_missing(number):
    asks = told = 0
    for case in block(number, 70):
        made = planned(case)
        open_ = [each for each in made.found if each.rule.stops in ("boot", "target")]
        if not open_:
            continue
        asks += 1
        if made.plan.changes:
            told += 1
        else:
            assert made.plan.barred or made.plan.find_out, case.seed
    assert told > 0.85 * asks > 30


def possible(chance: Random):
    """A device whose aim can surely be reached: every fact is known, and there is space."""
    layout = chance.choice(("files", "files", "banks", "paired"))
    catalog = published(*(release(v, hardware=("SW*",)) for v in ("1.0", "2.0", "3.0")))
    units = []
    number = chance.choice((1, 1, 2)) if layout == "files" else 1  # which bank each runs is asked
    for name in range(number):
        if layout == "files":
            files = [image("1.0")] if chance.random() < 0.8 else []
            if chance.random() < 0.4:
                files.append(image("2.0", digests=chance.choice((None, known("2.0"), known("x")))))
            if chance.random() < 0.3:
                files.append(image("3.0"))
            paths = [f"flash:{file.path}" for file in files] + [
                "flash:gone.img",
                "flash:sw-1.0.img",
            ]
            saved = tuple(chance.sample(paths, chance.choice((1, 1, 2))))
            live = saved if chance.random() < 0.7 else tuple(chance.sample(paths, 1))
            unit = member(
                volumes=(flash(*files, free=chance.choice((250, 400)) * MIB),),
                boots=saved, live=live, id=str(name + 1),
            )  # fmt: skip
        elif layout == "banks":
            banks = (
                bank("a", "1.0"),
                chance.choice((bank("b"), bank("b", "1.0"), bank("b", "2.0"))),
            )
            unit = member(banks=banks, default=chance.choice("aab"), id=str(name + 1))
        else:
            unit = pair(chance, str(name + 1))
        units.append(unit)
    more = {"place": "flash:sw-1.0.img"} if layout == "files" else {"in_bank": "a"}
    more = {"in_bank": "committed"} if layout == "paired" else more
    what = device(*units, running="1.0", **more)
    fallback = chance.choice(("none", "first-found" if layout == "files" else "other-bank"))
    kind = sheet(layout, fallback=fallback, on_bad_image=chance.choice(("next", "halt")))
    return what, kind, catalog


def known(version: str) -> Digests:
    return Digests(md5=digest(f"sw-{version}.img"))


def pair(chance: Random, name: str):
    trial = chance.choice(("1.0", "2.0"))
    files = (image(trial, path="t/sw.img"), image("1.0", path="c/sw.img"))
    banks = (
        Bank(name="trial", state="ok", places=("flash:t/sw.img",)),
        Bank(name="committed", state="ok", places=("flash:c/sw.img",)),
    )
    return member(volumes=(flash(*files),), banks=banks, id=name)


TARGET = Policy(target="2.0", reserve="0%", keep=1)


@pytest.mark.parametrize("number", BLOCKS)
def test_a_device_whose_aim_is_possible_gets_a_course_that_reaches_it(number):
    reached_ = 0
    for seed in range(100 * TIMES):
        chance = Random(f"possible {number} {seed}")
        what, kind, catalog = possible(chance)
        made = Planned(what, kind, catalog, TARGET)
        if reached(made.judge, made.plan.after.judged.device, "2.0"):
            reached_ += 1
        else:
            assert made.plan.barred, (number, seed, made.told)
    assert reached_ >= 0.99 * 100 * TIMES


@pytest.mark.parametrize("number", BLOCKS)
def test_no_other_list_of_changes_leads_to_the_target_at_less_cost(number):
    compared = 0
    for seed in range(6 * TIMES):
        chance = Random(f"cheapest {number} {seed}")
        what, kind, catalog = possible(chance)
        if len(what.members) > 1 and chance.random() < 0.7:
            what = replace(what, members=what.members[:1])
        made = Planned(what, kind, catalog, TARGET, aim="target")
        try:
            least = cheapest(made.judge, what, "2.0", most=600)
        except OverflowError:
            continue
        spent, end = price(made.judge, what, made.plan.changes)
        assert reached(made.judge, end, "2.0") == (least is not None), (number, seed, made.told)
        if least is not None:
            assert spent <= least, (number, seed, spent, least, made.told)
            compared += 1
    assert compared > 0


@pytest.mark.parametrize("number", BLOCKS)
def test_a_fact_less_deletes_nothing_else(number):
    for case in block(number, 5, asks=True):
        made = planned(case)
        gone = deleted(made)
        for name, what in without_a_fact(case.device):
            if name.startswith(("digests of", "size of", "modified of", "version", "bank")):
                continue  # it tells files apart: which of them is least missed is another then
            less = planned(case, what, judge=made.judge)
            more = deleted(less) - gone
            assert not more or now_readable(case, what), (case.seed, name, more)


def deleted(made: Planned):
    return {
        place
        for change in made.plan.changes
        if isinstance(change, Delete)
        for place in (change.place, *change.also)
    }


def test_a_check_that_cannot_tell_anything_is_no_step():
    for case in cases(9_000_000, 40):
        made = planned(case)
        before = made.plan.before.judged
        for change, there in zip(made.plan.changes, made.plan.course.trial.passed, strict=True):
            if isinstance(change, CheckDigest):
                was, now = before.image(change.place), there.judged.image(change.place)
                assert (was.judgement.verdict, was.file) != (now.judgement.verdict, now.file)
            before = there.judged
