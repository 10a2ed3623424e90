"""What is told of a device in a cell, whatever the table: a terminal's, CSV, Markdown, a page."""

from collections.abc import Iterable, Sequence
from typing import Protocol

from ovek.model.finding import AuditedStart, Finding, Severity, Space
from ovek.model.signature import SignatureCheck
from ovek.model.walk import NextBoot

UNKNOWN = "unknown"


class NeededImage(Protocol):
    """An image of which it is known whether the device needs it."""

    @property
    def needed(self) -> bool:
        """Whether the device needs it."""

    @property
    def verdict(self) -> str:
        """What it is worth."""


def of_members(values: Iterable[str]) -> str:
    """The values of all members; one where they are the same."""
    return " / ".join(dict.fromkeys(values))


def running(boots: Iterable[AuditedStart], unknown: str = UNKNOWN) -> str:
    """The version that runs."""
    return of_members(start.running or unknown for start in boots) or unknown


def next_boot(boots: Iterable[AuditedStart], reload: NextBoot) -> str:
    """The version that starts next, or where it starts from."""
    return of_members(_next_boot(start, reload) for start in boots) or UNKNOWN


def _next_boot(start: AuditedStart, reload: NextBoot) -> str:
    if start.version is not None or start.place is not None:
        return start.version or start.place or ""
    return "none" if reload == "stranded" else UNKNOWN


def proven(images: Iterable[NeededImage]) -> tuple[int, int]:
    """How many of the images that a device needs are proven, and how many it needs."""
    needed = [image for image in images if image.needed]
    return sum(image.verdict == "proven" for image in needed), len(needed)


def proven_of(images: Iterable[NeededImage]) -> str:
    """The same in words."""
    number, needed = proven(images)
    return f"{number} of {needed}" if needed else "-"


def least_free(spaces: Iterable[Space]) -> Space | None:
    """The free space of the member that has least, of those where it is known."""
    known = [space for space in spaces if space.free is not None]
    return min(known, key=lambda space: space.free or 0) if known else None


def open_severities(findings: Iterable[Finding]) -> list[Severity]:
    """The severities of the findings that nobody has waived, in their order."""
    return [one.severity for one in findings if one.waived is None]


def worst_of(severities: Sequence[Severity]) -> str:
    """How many are of the first severity, and how many others there are; empty: none.

    >>> worst_of(["critical", "warning", "note"]), worst_of(["warning", "note", "note"])
    ('1 critical, 2 others', '1 warning, 2 notes')
    """
    if not severities:
        return ""
    worst = severities.count(severities[0])
    first = counted(worst, severities[0])
    others = len(severities) - worst
    if not others:
        return first
    rest = set(severities[worst:])
    return f"{first}, {counted(others, rest.pop() if len(rest) == 1 else 'other')}"


def counted(number: int, name: str) -> str:
    """So many findings of a severity; `critical` and `waived` have no plural.

    >>> counted(1, "note"), counted(2, "warning"), counted(3, "critical")
    ('1 note', '2 warnings', '3 critical')
    """
    plural = "s" if number != 1 and name in ("warning", "note", "other") else ""
    return f"{number} {name}{plural}"


def signer(check: SignatureCheck | None) -> str:
    """Who signed a file, or what is wrong with its signature, for a column of its own."""
    if check is None:
        return "-"
    return (check.publisher or "") if check.good else check.state.replace("-", " ")
