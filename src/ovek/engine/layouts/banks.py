"""`banks`: fixed places that hold an image each, one of them the default.

1. A once entry, then the default bank, then the others where the fallback is `other-bank`.
2. A bank may be written that no member runs or starts next, that is not the only proven one, that
   shares no file with those, and of which nothing else holds an image.
3. Of several, the one whose loss costs least: empty or broken, then what is also elsewhere, then
   what the bank rule does not want there, then the oldest. One that holds the image already needs
   no writing.
"""

from collections.abc import Iterator
from functools import cmp_to_key

from ovek.engine.layouts.interface import Attempt, Layout, NotKnownError, Seen
from ovek.engine.layouts.writing import (
    Spot,
    Unwritable,
    Writing,
    bank_spot,
    elsewhere,
    files_of,
    not_known,
    shared,
)
from ovek.engine.verdicts import is_empty
from ovek.model.change import Change, Save, SetDefault, SetOnce
from ovek.model.place import BANK, Place
from ovek.model.snapshot import Bank, Boot, Member
from ovek.model.verdict import Image
from ovek.model.version import compare


class Banks(Layout):
    """Fixed places, one of them the default."""

    start_facts = ("boot.default_bank.saved", "bank.bank")
    holder = "banks"

    def candidates(self, seen: Seen) -> Iterator[Attempt]:
        """A once entry, the default, then the others."""
        boot = seen.boot
        yield from seen.once()
        default = seen.setting(boot.default_bank)
        if default is None:
            raise NotKnownError("the default bank is unknown")
        yield Attempt("default-bank", Place(BANK, default))
        if seen.scheme.fallback == "other-bank":
            if seen.member.banks is None:
                raise NotKnownError("the banks are unknown")
            for bank in seen.member.banks:
                if bank.name != default:
                    yield Attempt("other-bank", Place(BANK, bank.name))

    def spots(self, writing: Writing) -> list[Spot] | Unwritable:
        """The banks that may be written, that of the least loss first."""
        if why := not_known(writing, "bank"):
            return Unwritable(why)
        one, walk = writing.one, writing.member_walk
        holding = [n for n, image in one.banks.items() if writing.holds(image) and _good(image)]
        if holding:
            boots = walk.boots.at if walk.boots is not None else None
            named = next((n for n in holding if Place(BANK, n, one.member.id) == boots), None)
            name = named or min(holding)
            done = Place(BANK, name, one.member.id) == boots
            why = f"bank {name} has this image already, " + (
                "and is the next boot" if done else "and only has to be booted"
            )
            return [Spot(place=None, bank=name, why=why, there=True)]
        able = [bank for bank in one.member.banks or () if not _needed(writing, bank)]
        if not able:
            text = "every bank is running, is the next boot or is the only proven one"
            kept = {why for bank in one.member.banks or () if (why := _kept(writing, bank))}
            return Unwritable("; ".join([text, *sorted(kept)]) if kept else text)
        able.sort(key=cmp_to_key(lambda one, other: _loses_less(writing, one, other)))
        return [bank_spot(writing, bank, _why(writing, bank)) for bank in able]

    def point(self, member: Member, spot: Spot) -> tuple[Change, ...]:
        """Make it the default, and save."""
        assert spot.bank is not None
        boot, changes = member.boot or Boot(), list[Change]()
        if (boot.default_bank.live, boot.default_bank.saved) != (spot.bank, spot.bank):
            changes += [SetDefault(member=member.id, bank=spot.bank), Save(member=member.id)]
        if boot.once is not None:
            changes.append(SetOnce(member=member.id, entry=None))
        return tuple(changes)

    def settings_known(self, member: Member) -> bool:
        """Whether its banks are known."""
        return member.banks is not None


def _good(image: Image | None) -> bool:
    """Whether a bank holds a proven image that may start this member."""
    if image is None or image.judgement.verdict != "proven":
        return False
    return image.starts_members and image.suits is not False


def _needed(writing: Writing, bank: Bank) -> bool:
    """Whether a bank runs, starts next, is the only proven one or is held by something else."""
    files = files_of(writing, bank)
    proven = [
        each for each in writing.one.member.banks or () if _good(writing.one.banks.get(each.name))
    ]
    if len(proven) == 1 and files & files_of(writing, proven[0]):
        return True
    return bool(files & writing.busy()) or bool(shared(writing, bank)) or bool(_kept(writing, bank))


def _kept(writing: Writing, bank: Bank) -> str:
    """Which image of a bank something else holds; empty where none is."""
    images = writing.one.images
    for place in sorted(files_of(writing, bank) & writing.kept):
        if place.on(None) in images or place.on(None) in writing.one.sets:
            return f"{place.on(None)} of bank {bank.name} is kept"
    return ""


def _why(writing: Writing, bank: Bank) -> str:
    return f"write to bank {bank.name} (not running, not the next boot)"


def _loss(writing: Writing, bank: Bank) -> tuple[bool, bool, bool]:
    """What is lost by writing to a bank, the least first."""
    image = writing.one.banks.get(bank.name)
    broken = is_empty(bank) or bank.state == "bad" or image is None
    if image is not None:
        verdict = image.judgement.verdict
        broken = broken or verdict in ("altered", "truncated")
        broken = broken or image.suits is False or not image.starts_members
    return not broken, not (image and elsewhere(writing, image)), not _unwanted(writing, image)


def _unwanted(writing: Writing, image: Image | None) -> bool:
    """Whether the bank rule, once the release is the default, does not want this image there."""
    if image is None or writing.bank_rule is None:
        return image is None
    scheme = writing.judged.judge.sheet.versions.pattern
    version, new = image.version, writing.release.version
    order = compare(version, new, scheme) if version is not None and new is not None else None
    return order != (0 if writing.bank_rule == "match" else -1)


def _loses_less(writing: Writing, one: Bank, other: Bank) -> int:
    """Order two banks by what is lost, then by age, then by name."""
    ours, theirs = _loss(writing, one), _loss(writing, other)
    if ours != theirs:
        return -1 if ours < theirs else 1
    images = [writing.one.banks.get(bank.name) for bank in (one, other)]
    versions = [image.version if image is not None else None for image in images]
    order = 0
    if versions[0] is not None and versions[1] is not None:
        scheme = writing.judged.judge.sheet.versions.pattern
        order = compare(versions[0], versions[1], scheme) or 0
    return order or (one.name > other.name) - (one.name < other.name)


LAYOUT = Banks()
