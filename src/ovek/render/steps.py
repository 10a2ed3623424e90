"""The words of a cleanup plan: what the space is made of, what a bank loses."""

from collections.abc import Sequence

from ovek.model.plan import Lost, Need
from ovek.model.size import show_mib


def need_of(need: Need) -> str:
    """What the room for an image is made of, in words."""
    there = f"{need.file} is already there"
    parts = [there if need.there else f"{show_mib(need.image)} for the image"]
    if need.unpacked:
        parts.append(f"{show_mib(need.unpacked)} for unpacking")
    if need.installing:
        parts.append(f"{show_mib(need.installing)} during installation")
    if need.reserve is None:
        parts.append("no reserve, because the capacity is unknown")
    elif need.reserve:
        parts.append(f"{show_mib(need.reserve)} for the reserve")
    return ", ".join(parts)


def lost_of(lost: Lost) -> str:
    """What is lost by writing to a bank, in words."""
    if lost.verdict is None:
        return f"nothing: the bank is {lost.state}"
    text = f"{lost.version or 'an unknown version'} ({lost.verdict})"
    if lost.verdict in ("altered", "truncated"):
        return f"nothing bootable: {text}"
    if lost.elsewhere:
        return f"{text}; there is another copy"
    return f"{text}; no other copy is known: back it up first"


def which_of(danger: Sequence[int]) -> str:
    """The steps, from the first to the last, that a power failure must not meet."""
    first, last = danger[0], danger[-1]
    return f"step {first}" if first == last else f"steps {first} to {last}"


def danger_of(danger: Sequence[int]) -> str:
    """Where the danger of a plan begins and ends, and what to have at hand; empty: none is."""
    if not danger:
        return ""
    return (
        f"a power failure during {which_of(danger)} may leave the device unbootable. Have console "
        "access, the image on a stick and someone on site"
    )
