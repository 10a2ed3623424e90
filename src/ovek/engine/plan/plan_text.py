"""What a plan says of each finding: after which step it is gone, or what a person may do."""

from collections.abc import Iterator

from ovek.engine.change_text import dos_of, told
from ovek.engine.changes import NO_RATES, Rates
from ovek.engine.hold import LOG_IS_OLD
from ovek.engine.plan import Fixed, Plan
from ovek.engine.rules import Stops, Subject
from ovek.engine.run_rules import RuleFindings
from ovek.engine.wanted import Wants
from ovek.model.do import Do
from ovek.model.plain_word import typed
from ovek.model.runbook import Barred

_FEW = 3  # steps that a finding says itself
# The parts of the aim that findings of a kind wait for.
_WAITS_FOR: dict[Stops, frozenset[str]] = {
    "boot": frozenset({"boot settings", "boot loader", "commit"}),
    "target": frozenset({"target", "image", "components", "reload", "boot settings", "commit"}),
    "fallback": frozenset({"fallback", "other bank"}),
}


class PlanText:
    """The findings of one device in the light of its plan."""

    def __init__(self, subject: Subject, plan: Plan, wants: Wants, rates: Rates = NO_RATES) -> None:
        self.subject, self.made = subject, plan
        self.fixed = Fixed(subject, plan, wants)
        judged = subject.judged
        self.dos: tuple[Do, ...] = dos_of(
            plan.stages, judged.device, judged.judge.sheet, subject.shelf, rates
        )

    def of(self, findings: RuleFindings) -> tuple[int | None, str]:
        """After which step a finding is gone, and what to do in words."""
        after = self.fixed.after(findings.rule.slug, findings.said)
        if after is None:
            return None, ". ".join(dict.fromkeys(self._barred(findings)))
        if after <= _FEW:
            return after, told(self.dos[:after])
        device = typed(self.subject.judged.device.device, "DEVICE")
        return after, f"Steps 1 to {after} of ovek runbook {device}"

    def _barred(self, findings: RuleFindings) -> Iterator[str]:
        """Why the steps that would end a finding are none, and what would help."""
        concerned = [barred for barred in self.made.barred if _concerns(barred, findings)]
        for barred in concerned[:1]:
            yield _sentence(barred.why)
            yield _sentence(barred.words or usual_words(findings))
        if not concerned:
            yield usual_words(findings)


def _concerns(barred: Barred, findings: RuleFindings) -> bool:
    member = findings.said.member
    if barred.member is not None and member is not None and barred.member != member:
        return False
    stops = findings.rule.stops
    return stops is not None and barred.part in _WAITS_FOR.get(stops, frozenset())


def _sentence(text: str) -> str:
    return text[:1].upper() + text[1:]


def usual_words(findings: RuleFindings) -> str:
    """What a rule has to say to a person."""
    return findings.said.do or findings.rule.remedy


def logs_stay(subject: Subject) -> None:
    """Space may be made of old logs: a plan holds while no file gets to be an old one.

    Where nothing is to be done, and nothing is in the way, no log is looked at.
    """
    (subject.times.clock - LOG_IS_OLD).splits(
        file.modified
        for one in subject.judged.members or ()
        for volume in one.member.volumes or ()
        for file in volume.files or ()
        if file.modified is not None
    )
