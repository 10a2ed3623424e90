"""Why a difference cannot be put right, as a part of the aim that no step reaches."""

from ovek.engine.plan.kinds import Difference, Kind
from ovek.model.runbook import Barred

PARTS: dict[Kind, str] = {
    "image": "image", "digest": "image", "component": "components", "settings": "boot settings",
    "reload": "reload", "commit": "commit", "other-bank": "other bank", "fallback": "fallback",
    "broken": "tidy", "unread": "digests", "old-proof": "digests", "reserve": "free space",
}  # fmt: skip


def barred_by(
    difference: Difference, why: str, words: str = "", *, unknown: bool = False
) -> Barred:
    """A difference as a part of the aim that no step reaches, and why."""
    return Barred(
        part=PARTS.get(difference.kind, difference.kind), member=difference.member,
        unknown=unknown, why=why, words=words,
    )  # fmt: skip
