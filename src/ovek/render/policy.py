"""A policy without mistakes, for a terminal: what is wanted of whom."""

from collections.abc import Iterator

from ovek.model.policy import BACKUP_AGE, SNAPSHOT_AGE, WANTED, Policy, Want
from ovek.model.results.sheets import PolicyCheck
from ovek.render.lines import Line, count, hanging
from ovek.render.view import View


def policy(result: PolicyCheck, view: View) -> Iterator[Line]:
    """Go through the lines; a waiver that is expired or unused is marked."""
    wanted, waivers = result.policy, result.waivers
    marks = [waiver.mark for waiver in waivers]
    parts = [count(len(wanted.want), "[[want]] rule"), count(len(waivers), "waiver")]
    parts += [
        f"{marks.count(mark)} of them {mark}" for mark in ("expired", "unused") if mark in marks
    ]
    yield f"policy.toml and waivers.toml: no mistakes ({', '.join(parts)})."
    longest = max([len("all devices"), *(len(want.selector) for want in wanted.want)])
    indent = longest + 5
    yield from hanging("  all devices:", _said(wanted) or "no target", indent=indent)
    for want in wanted.want:
        yield from hanging(f"  {want.selector}:", _said(want), indent=indent)
    kept = (
        f"keep {count(wanted.keep, 'system image')}; reserve {wanted.reserve}; weakest digest "
        f"{wanted.weakest_digest}; snapshot at most {wanted.snapshot_age or SNAPSHOT_AGE} old, "
        f"configuration backup {wanted.backup_age or BACKUP_AGE}"
    )
    yield from hanging("  and:", kept, indent=indent)
    signed = wanted.require_signature
    if signed:
        whose = ", ".join(signed) if isinstance(signed, tuple) else "every publisher"
        yield from hanging("  signatures:", f"required for lists of {whose}", indent=indent)
    if wanted.prefer_unaffected:
        yield from hanging("  advisories:", "releases that none affects first", indent=indent)
    if wanted.pinned:
        yield from hanging("  pinned:", ", ".join(wanted.pinned), indent=indent)
    for slug, severity in wanted.severity.items():
        yield from hanging("  severity:", f"{slug} is {severity}", indent=indent)
    for waiver in waivers:
        where = f" at {waiver.place}" if waiver.place else ""
        headline = f"{waiver.rule} on {waiver.device}{where} until {waiver.until}, by {waiver.by}"
        front = f"{waiver.mark.upper()}: " if waiver.mark else ""
        yield from hanging("  waived:", f"{front}{headline}: {waiver.why}", indent=indent)


def _said(wanted: Policy | Want) -> str:
    parts = []
    for key in WANTED:
        value = getattr(wanted, key)
        if value is not None:
            words = ", ".join(value) if isinstance(value, tuple) else str(value)
            parts.append(f"{key.replace('_', ' ')} {words}")
    return "; ".join(parts)
