"""Asks every rule about a device, and says which finding covers which.

A rule that has told a trouble whole covers the rules that it speaks for: what those say of the same
member is no finding then.
"""

from collections.abc import Iterator, Sequence
from graphlib import TopologicalSorter

from msgspec import Struct

from ovek.engine.rules import Rule, Said, Subject
from ovek.engine.rules.every import RULES
from ovek.model.finding import Severity
from ovek.model.place import Place


class Found(Struct, frozen=True, gc=False):
    """One thing that a rule said, and how severe it is here."""

    rule: Rule
    said: Said
    severity: Severity

    @property
    def key(self) -> tuple[str, str | None, Place | None]:
        """What it is about: two with one key are the same trouble."""
        return self.rule.slug, self.said.member, self.said.place


def _covering_first() -> list[Rule]:
    """The rules so that each comes before those it speaks for, else as they are listed."""
    graph: dict[str, set[str]] = {slug: set() for slug in RULES}
    for rule in RULES.values():
        for quiet in rule.speaks_for:
            graph[quiet].add(rule.slug)
    return [RULES[slug] for slug in TopologicalSorter(graph).static_order()]


_ORDER = _covering_first()


def run_rules(subject: Subject) -> Iterator[Found]:
    """All that any rule says of a device; a rule that policy turned off is not asked."""
    changed = subject.policy.severity
    for rule in _ORDER:
        asked = changed.get(rule.slug) if changed else None
        if asked != "off":
            for said in rule.check(subject):
                yield Found(rule, said, asked or said.severity or rule.severity)


def uncovered(found: Sequence[Found], *, alone: bool) -> list[Found]:
    """What no other finding covers; `alone` is whether the device has but one member."""
    covered, kept = set[tuple[str | None, str]](), list[Found]()
    for finding in found:  # covering rules come first
        slug, member = finding.rule.slug, None if alone else finding.said.member
        if (member, slug) in covered or (None, slug) in covered:
            continue
        if finding.said.whole:
            covered.update((member, quiet) for quiet in finding.rule.speaks_for)
        kept.append(finding)
    return kept


def findings_of(subject: Subject) -> list[Found]:
    """What the rules find on a device, each trouble once."""
    return uncovered(list(run_rules(subject)), alone=len(subject.members) == 1)
