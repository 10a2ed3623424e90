"""Which findings a person has accepted.

A waiver is for a rule, for devices by name or glob, and for any place or a glob of places; it
holds to the end of its last day. An ended one waives nothing, and the finding says that it ended.
"""

from collections.abc import Iterable
from datetime import date
from fnmatch import fnmatchcase

from msgspec.structs import replace

from ovek.model.finding import Finding
from ovek.model.waiver import Waiver


def waive(
    findings: Iterable[Finding], device: str, waivers: Iterable[Waiver], today: date
) -> tuple[tuple[Finding, ...], set[Waiver]]:
    """Mark the waived findings of a device; return them all, and the waivers that were of use."""
    ours = [waiver for waiver in waivers if fnmatchcase(device, waiver.device)]
    if not ours:
        return tuple(findings), set()
    used, marked = set[Waiver](), []
    for finding in findings:
        fitting = [waiver for waiver in ours if _fits(waiver, finding)]
        used |= set(fitting)
        holding = next((waiver for waiver in fitting if waiver.until >= today), None)
        if holding is not None:
            waived = f"by {holding.by}, until {holding.until}. Reason: {holding.why}"
            finding = replace(finding, waived=waived)
        elif fitting:
            last = max(fitting, key=lambda waiver: waiver.until)
            seen = (
                f"{finding.seen}; was waived by {last.by}, and that waiver expired on {last.until}"
            )
            finding = replace(finding, seen=seen)
        marked.append(finding)
    return tuple(marked), used


def _fits(waiver: Waiver, finding: Finding) -> bool:
    if waiver.rule != finding.rule:
        return False
    return waiver.place is None or fnmatchcase(finding.place or "", waiver.place)
