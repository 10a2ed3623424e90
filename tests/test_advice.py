"""What is advised ends what it is advised for, on thousands of random devices (`builders.chance`).

The changes are applied here one by one to the device; each walk and audit is made from scratch.
"""

import os

import pytest
from msgspec.structs import replace

from builders import NOW, sheet
from builders.chance import Case, cases
from ovek.engine.advice import astray
from ovek.engine.audit import Terms, audit_device
from ovek.engine.bootwalk import walk_device
from ovek.engine.changes import middle, refusal
from ovek.engine.heard import heard
from ovek.engine.remedies import Remedies
from ovek.engine.replay import done, worse
from ovek.engine.rules import subject_of
from ovek.engine.telling import lines_of
from ovek.engine.times import times_of
from ovek.engine.verdicts import judge_device
from ovek.engine.wanted import Wants
from ovek.model.change import (
    BackUp,
    Commit,
    Copy,
    CopyBank,
    Delete,
    Measure,
    Reload,
    SetOrder,
    WriteBank,
)
from ovek.model.finding import SEVEREST_FIRST
from ovek.model.place import Place
from ovek.model.snapshot import BootEntry
from ovek.model.walk import RELOADS_WORST_FIRST

BROUGHT = Copy | WriteBank
RESTS_ON = Delete | WriteBank | CopyBank | Commit | Reload
TIMES = int(os.environ.get("OVEK_CASES", "1"))
BLOCKS = range(1 if "OVEK_QUICK" in os.environ else 4)


class Asked:
    """One random device, what is heard of it, and what is advised."""

    def __init__(self, case: Case, what=None, judge=None) -> None:
        self.case, self.wants = case, Wants(case.policy)
        self.judge = judge or case.judged().judge
        self.judged = judge_device(what or case.device, self.judge)
        self.walk = walk_device(self.judged)
        self.subject = subject_of(
            self.judged,
            self.walk,
            case.policy,
            self.wants.of(self.judged),
            times_of(self.judged.device, self.judged.device.taken_at),
        )
        self.heard = list(heard(self.subject))
        self.remedies = Remedies(self.subject, self.wants)

    def after(self, changes):
        """The device as each change leaves it, and as its middle would."""
        device = self.judged.device
        for change in changes:
            judged = judge_device(device, self.judge)
            assert not refusal(device, change, self.case.sheet), change
            half = middle(device, change, self.case.sheet)
            device = done(judged, device, change, walk_device(judged))
            yield change, half, device


def severe(severity) -> int:
    return SEVEREST_FIRST.index(severity)


def audits(asked: Asked, device):
    return audit_device(device, asked.judge, asked.wants, Terms(now=NOW, advise=False))


def block(number: int, size: int):
    return cases(number * 1_000_000 + 500_000, size * TIMES)


@pytest.mark.parametrize("number", BLOCKS)
def test_what_is_advised_ends_the_finding_and_makes_nothing_worse(number):
    for case in block(number, 40):
        asked = Asked(case)
        before = audits(asked, asked.judged.device)
        for one in asked.heard:
            advice = asked.remedies.of(one)
            if advice is None:
                continue
            where = case.seed, one.rule.slug, advice.changes
            harmful = [bool(each.harm or each.halfway) for each in advice.replay.stages]
            device = asked.judged.device
            meant = {
                at for walk in advice.after.walk.members if walk.starts and (at := walk.starts.at)
            }
            for told, (_, half, device) in zip(harmful, asked.after(advice.changes), strict=True):
                for each in (half, device):
                    if each is not None and not told:
                        walk = walk_device(judge_device(each, asked.judge))
                        rank = RELOADS_WORST_FIRST.index
                        assert rank(walk.reload) >= rank(asked.walk.reload) or not worse(
                            asked.walk, walk, meant
                        ), where
            after = audits(asked, device)
            assert RELOADS_WORST_FIRST.index(after.reload) >= RELOADS_WORST_FIRST.index(
                before.reload
            )
            rank = SEVEREST_FIRST.index(one.severity)
            was = asked.remedies.before  # also what another finding had spoken for
            there = {(key[0], key[2]) for key, told in was.items() if severe(told) <= rank}
            new = {
                (each.rule.slug, each.said.place)
                for each in Asked(case, device, asked.judge).heard
                if severe(each.severity) <= rank
            }
            assert new <= there, (*where, new - there)
            assert one.key not in {each.key for each in Asked(case, device, asked.judge).heard}


@pytest.mark.parametrize("number", BLOCKS)
def test_no_advised_change_is_superfluous(number):
    """Without any one of them, or in no other way, the finding would stay."""
    for case in block(number, 30):
        asked = Asked(case)
        for one in asked.heard:
            advice = asked.remedies.of(one)
            if advice is None or one.rule.goal == "runs-target":  # the route is whole or none
                continue
            for less in shorter(advice.changes):
                assert not ends(asked, one, less, advice), (
                    case.seed,
                    one.rule.slug,
                    advice.changes,
                    less,
                )


def shorter(changes):
    """Lists that lack a change; a copy goes with its check, and what others rest on stays."""
    for at, change in enumerate(changes):
        checked = at + 1 < len(changes) and isinstance(changes[at + 1], Measure)
        check = at and isinstance(change, Measure) and isinstance(changes[at - 1], BROUGHT)
        rests = any(isinstance(each, RESTS_ON) for each in changes[at + 1 :])
        if not check and not rests:
            number = 2 if isinstance(change, BROUGHT) and checked else 1
            yield (*changes[:at], *changes[at + number :])


def ends(asked: Asked, one, changes, advice) -> bool:
    """Whether changes end a finding as well as what is advised, as far as they can be done."""
    device = asked.judged.device
    for change in changes:
        judged = judge_device(device, asked.judge)
        if refusal(device, change, asked.case.sheet):
            return False
        device = done(judged, device, change, walk_device(judged))
    after = Asked(asked.case, device, asked.judge)
    situation, before = after.remedies.situation, asked.remedies.situation
    if astray(before, situation) > astray(before, advice.after):
        return False
    how = asked.remedies.ended(one, advice.after)
    worsens = worse(asked.walk, after.walk, meant_by(after))
    return not worsens and asked.remedies.ended(one, situation) == how


def meant_by(asked: Asked):
    return {walk.starts.at for walk in asked.walk.members if walk.starts and walk.starts.at}


def kept_away(change):
    """Whether a copy is kept that a device does not tell of."""
    return isinstance(change, BackUp) and change.place is not None


@pytest.mark.parametrize("number", BLOCKS)
def test_after_the_first_change_the_rest_is_advised(number):
    """But for a few, where only live settings are known, or they differ from the saved ones."""
    asks, others = 0, []
    for case in block(number, 30):
        asked = Asked(case)
        for one in asked.heard:
            advice = asked.remedies.of(one)
            if advice is None or len(advice.changes) < 2 or any(map(kept_away, advice.changes)):
                continue
            for _, _, device in asked.after(advice.changes[:1]):
                again = Asked(case, device, asked.judge)
                same = [each for each in again.heard if each.key == one.key]
                if not same:
                    continue
                more = again.remedies.of(same[0])
                asks += 1
                rest = sorted(map(repr, advice.changes[1:]))
                if more is None or sorted(map(repr, more.changes)) != rest:
                    others.append((case.seed, one.rule.slug))
    assert len(others) <= 3 * TIMES, others


@pytest.mark.parametrize("name", ["sw 2.0.img", "sw-2.0.img;reboot", "-sw-2.0.img"])
def test_a_name_that_is_not_safe_is_in_no_line_to_type(name):
    order = SetOrder(member="1", entries=(BootEntry(place=f"flash:{name}"),))
    delete = Delete(place=Place("flash", name, "1"))
    wording = {"set-order": "order {member} {order}", "delete": "drop {volume} {path}"}
    kind = replace(sheet(), wording=wording)
    if not name.startswith("-"):  # behind its volume, a dash is no option
        assert lines_of(order, kind) == ((), True)
    assert lines_of(delete, kind) == ((), True)
    plain = SetOrder(member="1", entries=(BootEntry(place="flash:a"), BootEntry(place="flash:b")))
    assert lines_of(plain, kind) == (("order 1 flash:a flash:b",), False)
    assert lines_of(Reload(), kind) == ((), False), "the sheet has no line for it"
