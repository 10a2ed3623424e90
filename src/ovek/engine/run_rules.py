"""Asks every rule about a device, and says which finding covers which.

1. A rule that has told a trouble whole covers the rules that it speaks for: what those say of the
   same member is no finding then.
2. A boot rule that names what is broken at a place covers what the rules that give way say of it,
   and of what it is made of: whatever member's settings name it. Where a member is stranded, all
   that its walk tried is named so.
"""

from collections.abc import Iterable, Iterator, Sequence
from graphlib import TopologicalSorter

from msgspec import Struct

from ovek.engine.rules import SET_ORIGINS, Rule, Said, Subject
from ovek.engine.rules.every import RULES
from ovek.engine.rules.upkeep import FAILED
from ovek.model.finding import Severity
from ovek.model.place import Place
from ovek.model.walk import BROKEN


class RuleFindings(Struct, frozen=True, gc=False):
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


_RULES: list[Rule] = []
LOOK_FURTHER: list[Rule] = []
ORDER: dict[str, int] = {}


def order_rules() -> None:
    """Put all rules that were entered in their order: once more where others were entered since.

    Raises KeyError for a rule that speaks for none that there is.
    """
    _RULES[:] = _covering_first()
    LOOK_FURTHER[:] = [rule for rule in _RULES if rule.reads]
    ORDER.clear()
    ORDER.update({rule.slug: number for number, rule in enumerate(_RULES)})


order_rules()


def run_rules(subject: Subject, rules: Iterable[Rule] | None = None) -> Iterator[RuleFindings]:
    """All that some rules say of a device (None: all); one that policy turned off is not asked."""
    changed = subject.policy.severity
    for rule in _RULES if rules is None else rules:
        asked = changed.get(rule.slug) if changed else None
        if asked != "off":
            try:
                for said in rule.check(subject):
                    yield RuleFindings(rule, said, asked or said.severity or rule.severity)
            except Exception as error:
                wanted = changed.get(FAILED)
                if wanted != "off":
                    yield _failed(rule, error, wanted)


def _failed(rule: Rule, error: Exception, severity: Severity | None) -> RuleFindings:
    """The finding that a rule could not be asked: what it would have said is unknown."""
    seen = f"the rule {rule.slug} failed ({type(error).__name__}: {error})"
    do = f"Report it, and do not rely on {rule.slug} here; or set it to off in policy.toml"
    failed = RULES[FAILED]
    words = Said(member=None, place=None, seen=seen, do=do)
    return RuleFindings(failed, words, severity or failed.severity)


def uncovered(findingss: Sequence[RuleFindings], subject: Subject) -> list[RuleFindings]:
    """What no other finding covers."""
    ways = {each.rule.gives_way for each in findingss}
    named = {
        "named": _named(subject) if "named" in ways else set[Place](),
        "stranded": _stranded_by(subject) if "stranded" in ways else set[Place](),
    }
    covered, kept, alone = (
        set[tuple[str | None, str]](),
        list[RuleFindings](),
        len(subject.members) == 1,
    )
    for finding in findingss:  # covering rules come first
        slug, member = finding.rule.slug, None if alone else finding.said.member
        if (member, slug) in covered or (None, slug) in covered:
            continue
        gives_way = finding.rule.gives_way
        if gives_way is not None and _at(finding.said, subject) & named[gives_way]:
            continue
        if finding.said.whole:
            covered.update((member, quiet) for quiet in finding.rule.speaks_for)
        kept.append(finding)
    return kept


def _named(subject: Subject) -> set[Place]:
    """Where boot rules speak of what is broken."""
    return {
        candidate.at
        for member in subject.members
        for candidate in (
            *member.cited,
            *(each for each in member.walk.tried if member.stranded or each.origin in SET_ORIGINS),
        )
        if candidate.at is not None and candidate.result in BROKEN
    }


def _stranded_by(subject: Subject) -> set[Place]:
    """All that members which are stranded tried."""
    stranded = (member for member in subject.members if member.stranded)
    return {each.at for member in stranded for each in member.walk.tried if each.at is not None}


def _at(said: Said, subject: Subject) -> set[Place]:
    """The place that something is said of, and what that is part of, with the member in front."""
    place = said.place
    member = next((each for each in subject.members if each.id == said.member), None)
    if place is None or member is None:
        return set()
    wholes = (whole.place for whole in member.wholes if place.on(None) in whole.parts)
    return {each.on(each.member or member.id) for each in (place, *wholes)}


def findings_of(subject: Subject) -> list[RuleFindings]:
    """What the rules find on a device, each trouble once."""
    return uncovered(list(run_rules(subject)), subject)
