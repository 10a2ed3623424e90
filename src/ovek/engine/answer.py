"""The answer for one device: `go`, `no-go` or `unclear`.

1. It was not read, or not by the last survey that tried it → unclear.
2. It is stranded, or has a critical finding that nobody has waived → no-go.
3. Its next start is proven, and is neither what runs nor what is wanted, where that is known →
   no-go.
4. Its next start is proven, is what runs or what is wanted, and reads the saved configuration → go.
   What policy accepts as proven counts as that already.
5. Anything else → unclear.
"""

from collections.abc import Sequence

from msgspec import Struct

from ovek.model.answer import (
    ANOTHER,
    CONFIG_UNKNOWN,
    NOTHING,
    UNKNOWN,
    UNPROVEN,
    UNREAD,
    UNWANTED,
    Answer,
    Answered,
)
from ovek.model.finding import Finding
from ovek.model.unread import Unread
from ovek.model.walk import DeviceWalk, Started


class Meant(Struct, frozen=True, kw_only=True):
    """How the next start of one member stands to what runs and to what is wanted.

    `running` and `wanted` are whether it is that (None: not known); `target` is whether a target is
    known for the member, `config` whether the saved configuration is read (None: not known).
    """

    member: str
    running: bool | None
    wanted: bool
    target: str | None
    config: bool | None = True


def answered(
    walk: DeviceWalk,
    findings: Sequence[Finding],
    not_read: str | None,
    meant: Sequence[Meant] = (),
) -> Answered:
    """The answer for a device by its walk and its findings, the severest of these first."""
    critical = [one for one in findings if one.severity == "critical"]
    waived = sum(one.waived is not None for one in critical)
    open_ = [one for one in critical if one.waived is None]

    def answer(what: Answer, why: str, detail: str, *, read: bool = True) -> Answered:
        return Answered(
            device=walk.device, answer=what, why=why, detail=detail, read=read, waived=waived,
            next_boot=walk.next_boot,
        )  # fmt: skip

    if not_read is not None:
        return answer("unclear", UNREAD, f"{UNREAD}: {not_read}", read=False)
    if walk.next_boot == "stranded":
        detail = f"{_member(walk, 'stranded')}{NOTHING}{_tried(walk)}"
        return answer("no-go", NOTHING, detail)
    if open_:
        first, more = open_[0], len(open_) - 1
        detail = f"{_at(first)}; {_starts(walk)}"
        return answer("no-go", first.rule, detail + _more(more))
    strays = [one for one in meant if not one.wanted and one.running is not True]
    astray = next((one for one in strays if one.running is False and one.target is not None), None)
    if walk.next_boot == "proven" and astray is not None:
        return answer("no-go", UNWANTED, f"{_starts(walk)}, target {astray.target}")
    if walk.next_boot == "proven" and not strays and all(one.config is True for one in meant):
        detail = f"{waived} critical finding{'s' if waived > 1 else ''} waived" if waived else ""
        return answer("go", detail, detail)
    if walk.next_boot == "proven" and strays:
        unsure = strays[0].running is None
        detail = "running version unknown" if unsure else _starts(walk)
        return answer("unclear", ANOTHER, f"{ANOTHER}: {detail}" if unsure else detail)
    if walk.next_boot == "proven":
        return answer("unclear", CONFIG_UNKNOWN, CONFIG_UNKNOWN)
    return answer("unclear", UNPROVEN if walk.next_boot == "unproven" else UNKNOWN, _unclear(walk))


def unread(one: Unread) -> Answered:
    """The answer for a device that was not read: nothing but that is known."""
    return Answered(
        device=one.device, answer="unclear", why=UNREAD, detail=f"{UNREAD}: {one.why}", read=False
    )


def _at(finding: Finding) -> str:
    return f"{finding.rule}: {finding.place}" if finding.place else finding.rule


def _member(walk: DeviceWalk, outcome: str) -> str:
    """Which members it is, where the device has several."""
    ids = [one.member for one in walk.members if one.outcome == outcome]
    if len(walk.members) < 2 or not ids:
        return ""
    return f"member{'s' if len(ids) > 1 else ''} {', '.join(ids)}: "


def _tried(walk: DeviceWalk) -> str:
    """What the loader of the first member that nothing starts meets last."""
    tried = next((one.tried for one in walk.members if one.outcome == "stranded"), ())
    return (
        f": {tried[-1].place} is {tried[-1].result}" if tried else ": the loader has nothing to try"
    )


def _starts(walk: DeviceWalk) -> str:
    boots = list(dict.fromkeys(_name(one.boots) for one in walk.members))
    running = walk.running or "unknown"
    then = " / ".join(boots) or "unknown"
    return f"next boot {then}" + (f", running {running}" if boots != [running] else "")


def _more(number: int) -> str:
    if not number:
        return ""
    return f"; plus {number} more critical finding{'s' if number > 1 else ''}"


def _name(boots: Started | None) -> str:
    if boots is None:
        return "unknown"
    return boots.version or boots.place


def _unclear(walk: DeviceWalk) -> str:
    """Why a device is neither go nor no-go: the first member whose next boot is not proven."""
    for one in walk.members:
        front = f"member {one.member}: " if len(walk.members) > 1 else ""
        if one.outcome == "unproven" and one.boots is not None:
            version = f"{one.boots.version} " if one.boots.version else ""
            return f"{front}next boot {version}from {one.boots.place}, unproven"
        if one.outcome == "unknown":
            return f"{front}{UNKNOWN}: {one.note}" if one.note else f"{front}{UNKNOWN}"
    return UNKNOWN
