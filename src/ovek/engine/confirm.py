"""A cleanup plan held against a later snapshot: done, not done, done too much."""

from ovek.engine.bootwalk import walk_device
from ovek.engine.verdicts import JudgedDevice, JudgedMember
from ovek.model.place import BANK
from ovek.model.plan import CleanupPlan, Confirmed
from ovek.model.verdict import KnownRelease

# What a device writes and throws away by itself.
_COMES_AND_GOES = ("log", "crash-file", "leftover")


def confirm(plan: CleanupPlan, now: JudgedDevice, release: KnownRelease | None) -> Confirmed:
    """Hold one plan against the same device in a later snapshot.

    `release` is the image that room was made for; where a bank was to be written, the bank is done
    when it holds that, proven.
    """
    one = now.member(plan.member)
    done: list[str] = []
    not_done: list[str] = []
    too_much: list[str] = []
    free, enough = None, None
    if one is not None and plan.volume is not None:
        volume = one.member.volume(plan.volume)
        files = None if volume is None else volume.files
        if volume is not None and files is not None:
            there = {f"{volume.name}:{file.path}" for file in files}
            for drop in plan.drop:
                for place in drop.files:
                    (not_done if place in there else done).append(place)
            too_much = [
                keep.place
                for keep in plan.keep
                if keep.place not in there and keep.role not in _COMES_AND_GOES
            ]
        free = volume.free if volume is not None else None
        # Once the image has been copied, its room is taken as it was meant to be.
        copied = release is not None and any(
            image.judgement.verdict == "proven"
            and release.same_bytes(image.judgement.release)
            and image.place.volume == plan.volume
            for image in one.images.values()
        )
        taken = plan.made_of.image if plan.made_of is not None and copied else 0
        enough = None if free is None else free >= plan.wanted - taken
    if one is not None and plan.bank is not None and release is not None and plan.volume is None:
        held = _holds(one, plan.bank, release)
        (done if held else not_done).append(f"{BANK}:{plan.bank}")
    return Confirmed(
        device=plan.device,
        member=plan.member,
        volume=plan.volume,
        done=tuple(done),
        not_done=tuple(not_done),
        too_much=tuple(too_much),
        free=free,
        wanted=plan.wanted,
        enough=enough,
        next_boot=walk_device(now).next_boot,
    )


def _holds(member: JudgedMember, bank: str, release: KnownRelease) -> bool:
    """Whether a bank holds a release, proven."""
    image = member.banks.get(bank)
    if image is None:
        return False
    return image.judgement.verdict == "proven" and release.same_bytes(image.judgement.release)
