"""What the rules say of a device, each trouble once.

Rules are asked so that the most telling one speaks first; one that another has spoken for about a
member is not heard on it.
"""

from collections.abc import Iterator
from graphlib import TopologicalSorter

from msgspec import Struct

from ovek.engine.rules import Rule, Said, Subject
from ovek.engine.rules.every import RULES
from ovek.model.finding import Severity
from ovek.model.place import Place


class Heard(Struct, frozen=True, gc=False):
    """One thing that a rule said, and how severe it is here."""

    rule: Rule
    said: Said
    severity: Severity

    @property
    def key(self) -> tuple[str, str | None, Place | None]:
        """What it is about: two with one key are the same trouble."""
        return self.rule.slug, self.said.member, self.said.place


def _most_telling_first() -> list[Rule]:
    """The rules so that each comes before those it speaks for, else as they are listed."""
    graph: dict[str, set[str]] = {slug: set() for slug in RULES}
    for each in RULES.values():
        for quiet in each.speaks_for:
            graph[quiet].add(each.slug)
    return [RULES[slug] for slug in TopologicalSorter(graph).static_order()]


_ORDER = _most_telling_first()


def heard(subject: Subject, *, whole: bool = False) -> Iterator[Heard]:
    """Ask every rule about a device; `whole` is also what another has spoken for."""
    changed = subject.policy.severity
    alone = len(subject.members) == 1
    quiet = set[tuple[str | None, str]]()
    for rule in _ORDER:
        asked = changed.get(rule.slug) if changed else None
        if asked == "off":
            continue
        for said in rule.check(subject):
            member = None if alone else said.member
            if quiet and not whole and ((member, rule.slug) in quiet or (None, rule.slug) in quiet):
                continue
            if said.whole:
                quiet.update((member, slug) for slug in rule.speaks_for)
            yield Heard(rule, said, asked or said.severity or rule.severity)
