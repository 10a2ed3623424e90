"""One device with its plan, made from scratch: what tests of plans look at."""

from msgspec.structs import replace

from builders import CATALOG, NOW, POLICY, sheet
from ovek.engine.bootwalk import walk_device
from ovek.engine.change_text import dos_of
from ovek.engine.plan import Asked, Fixed, plan
from ovek.engine.releases import ReleaseIndex
from ovek.engine.rules import subject_of
from ovek.engine.run_rules import findings_of
from ovek.engine.runbook import runbook_of
from ovek.engine.times import times_of
from ovek.engine.verdicts import judge_device, judge_for
from ovek.engine.wanted import Wants
from ovek.model.change import Delete
from ovek.model.shelf import ShelfFacts


class Planned:
    """A device, what the rules find on it, and its plan.

    `shelf` are the digests that the shelf proves; None: the site has no shelf.
    """

    def __init__(
        self, what, kind=None, catalog=CATALOG, policy=POLICY, *, shelf=frozenset(), judge=None,
        now=NOW, **asked,
    ):  # fmt: skip
        self.asked = Asked(**asked)
        self.policy, self.now = policy, now
        self.judge = judge or judge_for(kind or sheet(), ReleaseIndex(catalog))
        self.judged = judge_device(what, self.judge)
        self.wants = Wants(policy)
        self.shelf = shelf
        facts = None if shelf is None else ShelfFacts(proven=shelf, broken={})
        self.subject = subject_of(
            self.judged,
            walk_device(self.judged),
            policy,
            self.wants.of(self.judged),
            times_of(self.judged.device, now),
            facts,
        )
        self.plan = plan(self.subject, self.asked)

    @property
    def dos(self):
        """The steps as results tell them."""
        return dos_of(self.plan.stages, self.judged.device, self.judge.sheet)

    @property
    def told(self):
        """The steps in short: `copy to flash:sw-2.0.img`."""
        return [short(each) for each in self.dos]

    @property
    def danger(self):
        """The steps, counted from 1, that a power failure must not meet."""
        return [each.number for each in self.dos if each.harm]

    @property
    def book(self):
        """The plan as a person reads it."""
        return runbook_of(self.subject, self.plan, self.wants, self.asked)

    @property
    def found(self):
        """What the rules find on the device as it stands."""
        return findings_of(self.subject)

    @property
    def fixed(self):
        """After which step each finding is gone, by rule; None: it stays."""
        fixed = Fixed(self.subject, self.plan, self.wants)
        return {each.rule.slug: fixed.after(each.rule.slug, each.said) for each in self.found}

    @property
    def why(self):
        """What is barred, in words."""
        return "; ".join(each.why for each in self.plan.barred)

    def after(self, number):
        """The same device after so many steps, planned for anew."""
        there = self.plan.course.trial.passed[number - 1] if number else self.plan.before
        return Planned(
            there.judged.device, policy=self.policy, shelf=there.shelf, judge=self.judge,
            now=self.now, aim=self.asked.aim, may_drop=self.asked.may_drop, keep=self.asked.keep,
            waivers=self.asked.waivers,
        )  # fmt: skip

    def device(self, what):
        """Another device, planned for as this one is."""
        return Planned(what, policy=self.policy, shelf=self.shelf, judge=self.judge, now=self.now)


def short(do) -> str:
    """A step in short: the change, and what it is about."""
    front = f"{do.member}/" if do.member is not None else ""
    match do.change:
        case "copy":
            return f"copy to {do.place}"
        case "check-digest" | "delete":
            return f"{do.change} {do.place}"
        case "back-up":
            return f"back-up {do.place or 'configuration'}"
        case "write-bank" | "set-default":
            return f"{do.change} {front}{do.bank}"
        case "copy-bank":
            return f"copy-bank {front}{do.source} {do.bank}"
        case "set-order":
            return f"set-order {front}{' '.join(do.order)}"
        case "set-once":
            return f"set-once {front}{do.place or 'nothing'}"
        case "save":
            return "save configuration" if do.config else f"save {front}".rstrip(" ")
        case "load-component" | "set-component":
            return f"{do.change} {front}{do.component}"
        case "boot-by-hand":
            return f"boot-by-hand {do.place}"
        case _:
            return f"{do.change} {front}".rstrip(" ")


def bare(change):
    """A change without what only says why, and without the catalog's own values."""
    if isinstance(change, Delete):
        change = replace(change, tier=None, why="")
    if hasattr(change, "content"):
        change = replace(change, content=replace(change.content, release=None))
    return change
