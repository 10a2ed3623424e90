"""The aim: what is wanted of each member, as data, before any step is sought.

1. The image that a member should run and boot is the target for just this member; without a target,
   or where it cannot be reached, what runs, if policy allows that; else what is recommended.
2. Members are moved together: where one of them cannot get to the target, none is moved.
3. A part of the aim that cannot be reached is *unknown because* or *impossible because*; it holds
   up no other part.
4. On the way to its image a member boots one install after another: that is its leg.
"""

from collections.abc import Iterable, Mapping
from fnmatch import fnmatchcase
from functools import cmp_to_key

from msgspec import Struct

from ovek.engine.layouts import layout_named, layout_of
from ovek.engine.layouts.paired import COMMITTED, TRIAL
from ovek.engine.plan.situation import Situation
from ovek.engine.releases import brought
from ovek.engine.room import sized
from ovek.engine.verdicts import JudgedMember
from ovek.engine.wanted import of_version, way_to
from ovek.model.fit import Install
from ovek.model.place import BANK, Place
from ovek.model.plain_word import typed
from ovek.model.runbook import Barred
from ovek.model.verdict import Image, KnownRelease, Verdict
from ovek.model.version import compare

BOOTABLE = ("proven", "unverified")


class MemberAim(Struct, frozen=True, kw_only=True):
    """What one member should run and boot in the end.

    `release` None: it is known only as what lies at `place`, or not at all. `target` is whether it
    is what policy wants, not only what runs.
    """

    member: str
    release: KnownRelease | None
    version: str | None
    place: Place | None = None
    target: bool = False


class Aim(Struct, frozen=True, kw_only=True):
    """The aim of a device: of every member, and the parts that cannot be reached."""

    members: Mapping[str, MemberAim]
    barred: tuple[Barred, ...] = ()


class Leg(Struct, frozen=True, kw_only=True):
    """What one member is to boot next on the way to its aim.

    `loads` is firmware that has to be there before. `home` is where the image lies, `checked`
    whether its digest is known. `last` is whether it is the aim itself. `why` is why there is none.
    """

    member: str
    release: KnownRelease | None
    version: str | None
    loads: tuple[Install, ...] = ()
    home: Place | None = None
    checked: bool = False
    last: bool = True


def aim_of(now: Situation, *, moves: bool = True) -> Aim:
    """The aim of a device; `moves` False: every member is to stay on what it runs."""
    return now.once(("aim", moves), lambda: _aim_of(now, moves=moves))


def _aim_of(now: Situation, *, moves: bool) -> Aim:
    barred, members = list[Barred](), dict[str, MemberAim]()
    for one in now.members if moves else ():
        wanted = _wanted(now, one, barred)
        if wanted is not None:
            members[one.member.id] = wanted
    if not moves or barred or len(members) < len(now.members):
        members = {one.member.id: _staying(now, one) for one in now.members}
    for name, each in members.items():
        if each.release is None and each.place is None:
            running = now.runs_on(name)
            text = "its running image is unknown"
            words = "Read it again (ovek survey), or import its release (ovek catalog import)"
            if running.image is not None and running.image.judgement.verdict in (
                "altered",
                "truncated",
            ):
                text = (
                    f"{running.image.place} is broken, and the catalog has not exactly one "
                    "file of its version"
                )
                words = "Copy its packages there again, or name a target in policy.toml"
            barred.append(
                Barred(part="boot settings", member=name, unknown=True, why=text, words=words)
            )
    return Aim(members=members, barred=tuple(barred))


def _wanted(now: Situation, one: JudgedMember, barred: list[Barred]) -> MemberAim | None:
    """The target of a member; None where it is to stay, or where it is barred."""
    wanted, member = now.wanted, one.member.id
    running, scheme = now.runs_on(member), now.judged.judge.sheet.versions.pattern
    if wanted.target is None:
        if wanted.asks_recommended:
            barred.append(_none_recommended(now))
            return None
        if _allowed(now, member):
            return _staying(now, one)
    if now.is_accepted("release-not-target"):
        return _staying(now, one)
    release = wanted.goal_of(member)
    version = release.version if release is not None else wanted.goal_version
    known = running.version is not None and version is not None
    if known and compare(running.version or "", version or "", scheme) == 0:
        return _staying(now, one, release)
    if release is None:
        barred.append(_no_release(now, member))
        return None
    if running.version is None:
        text = "its running version is unknown"
        barred.append(
            Barred(part="target", member=member, unknown=True, why=text, words="Read it again")
        )
        return None
    way = way_to(now.judged, release, wanted, member, now.standings)
    if way.hops is None:
        text = f"there is no upgrade path to {release.file}: {way.missing}"
        if not way.known:
            text = f"whether there is an upgrade path to {release.file} is unknown: {way.missing}"
        words = "See ovek catalog path"
        barred.append(
            Barred(part="target", member=member, unknown=not way.known, why=text, words=words)
        )
        return None
    return MemberAim(member=member, release=release, version=release.version, target=True)


def _none_recommended(now: Situation) -> Barred:
    """That it is not known which release is recommended, and how somebody may say it."""
    models = [each.hardware.model for each in now.members]
    unversioned = now.judged.judge.releases.without_version(models)
    if None in models:
        why = "its model is unknown"
        words = "Read its model (ovek survey), or name a target in policy.toml"
    elif unversioned:
        file = unversioned[0].file
        why = f"{file} is recommended for it, and its version is unknown"
        words = f"Add it: ovek catalog annotate {typed(file, 'FILE')} --version VERSION"
    else:
        why = "the catalog recommends none for it"
        words = "Mark one as recommended (ovek catalog annotate), or name a target in policy.toml"
    reason = f"the recommended release is unknown: {why}"
    return Barred(part="target", member=None, unknown=True, why=reason, words=words)


def _no_release(now: Situation, member: str) -> Barred:
    wanted, words = now.wanted, "Name another target in policy.toml, or see ovek catalog pick"
    if wanted.target is None:
        why = (
            "policy does not allow the running version and names no target, and the "
            "catalog recommends "
        )
        "no release"
        words = "Name a target in policy.toml"
        return Barred(part="target", member=member, unknown=True, why=why, words=words)
    why, unknown = f"not exactly one file of {wanted.target} is for it", False
    if wanted.unfit is not None:
        why = f"{wanted.unfit.release.file} is not compatible: {'; '.join(wanted.unfit.against)}"
        unknown = not any(each.holds is False for each in wanted.unfit.conditions)
    elif wanted.unlisted is not None:
        why = f"the catalog does not list {wanted.unlisted}"
        words = "Import the release (ovek catalog import), or name another target in policy.toml"
    return Barred(part="target", member=member, unknown=unknown, why=why, words=words)


def _allowed(now: Situation, member: str) -> bool:
    """Whether policy lets a member stay on what it runs."""
    running, wanted = now.runs_on(member), now.wanted
    release = running.image.judgement.release if running.image is not None else None
    starting = now.starting(member)
    next_ = starting.judgement.release if starting is not None else None
    if any(each is not None and each.status == "withdrawn" for each in (release, next_)):
        return False
    if (
        wanted.track is not None
        and release is not None
        and release.track not in (None, wanted.track)
    ):
        return False
    if wanted.allowed is None or running.version is None:
        return True
    return any(fnmatchcase(running.version, glob) for glob in wanted.allowed)


def _staying(now: Situation, one: JudgedMember, release: KnownRelease | None = None) -> MemberAim:
    """What a member runs, as its aim."""
    member, running = one.member.id, now.runs_on(one.member.id)
    image = running.image if running.image is not None and running.image.starts_members else None
    trial = one.banks.get(TRIAL)
    if (
        layout_of(now.judged).pair
        and trial is not None
        and trial.judgement.verdict != "proven"
        and runs_trial(now, one)
        and (back := one.banks.get(COMMITTED)) is not None
        and back.judgement.verdict == "proven"
    ):
        known = back.judgement.release
        return MemberAim(member=member, release=known, version=back.version)
    known = image.judgement.release if image is not None else None
    broken = image is not None and image.judgement.verdict in ("altered", "truncated")
    if known is None or broken:
        known = release or _whole(known)
    if known is None and running.version is not None:
        known = _of_version(now, running.version, member)
    if known is None and running.version is not None:
        known = _there(one, running.version)
    place = None if broken else image.place.on(member) if image is not None else None
    return MemberAim(
        member=member,
        release=known,
        version=running.version if running.version is not None or known is None else known.version,
        place=place,
        target=release is not None,
    )


def _of_version(now: Situation, version: str, member: str) -> KnownRelease | None:
    """The system image of a version for a member; asked once for all that run it."""
    key = ("of version", version)
    chosen, _ = now.once(key, lambda: of_version(version, now.judged, now.standings))
    return chosen.get(member, chosen.get(None))


def _whole(release: KnownRelease | None) -> KnownRelease | None:
    """A release that a member boots by itself; a package is but a part of a set."""
    return None if release is not None and release.kind == "package" else release


def _there(member: JudgedMember, version: str) -> KnownRelease | None:
    """The release of the one proven image of a version that a member has."""
    found = {
        image.judgement.release
        for image in (*member.banks.values(), *member.sets.values(), *member.images.values())
        if image.judgement.verdict == "proven" and image.starts_members and image.version == version
        if _whole(image.judgement.release) is not None
    }
    return next(iter(found)) if len(found) == 1 else None


def runs_trial(now: Situation, one: JudgedMember) -> bool:
    """Whether a member of a paired layout runs its trial directory."""
    trial, member = one.banks.get(TRIAL), one.member.id
    if trial is None:
        return False
    ours = {Place(BANK, TRIAL, member), *(part.on(member) for part in trial.parts)}
    committed = one.banks.get(COMMITTED)
    theirs = {Place(BANK, COMMITTED, member)} | {
        part.on(member) for part in (committed.parts if committed is not None else ())
    }
    places = set(now.runs_on(member).places)
    return bool(ours & places) and not theirs & places


def leg_of(now: Situation, aim: MemberAim) -> Leg:
    """What a member is to boot next on the way to its aim, and where that lies."""
    member, running = aim.member, now.runs_on(aim.member)
    one = now.judged.member(member)
    assert one is not None
    scheme = now.judged.judge.sheet.versions.pattern
    release, loads, last = aim.release, tuple[Install, ...](), True
    at_aim = (
        running.version is not None
        and aim.version is not None
        and compare(running.version, aim.version, scheme) == 0
    )
    if aim.target and release is not None and not at_aim:
        hops = way_to(now.judged, release, now.wanted, member, now.standings).hops or ()
        images = [hop for hop in hops if hop.loads == "image"]
        if images:
            loads = tuple(hops[: hops.index(images[0])])
            release, last = images[0].release, images[0] is images[-1]
    if release is None:
        place = aim.place
        image = now.judged.image(place) if place is not None else None
        good = image is not None and image.starts_members and image.suits is not False
        return Leg(
            member=member, release=None, version=aim.version, home=place if good else None,
            checked=good and image is not None and image.judgement.verdict != "unverified",
        )  # fmt: skip
    release = sized(brought(release, now.judged.judge.naming), now.judged, now.sizes)
    home = home_of(now, one, release)
    return Leg(
        member=member,
        release=release,
        version=release.version,
        loads=loads,
        home=home.place.on(member) if home is not None else None,
        checked=home is not None and home.judgement.verdict == "proven",
        last=last,
    )


def home_of(now: Situation, one: JudgedMember, release: KnownRelease) -> Image | None:
    """The copy of a release that a member is to boot: proven first, then as it stands now."""
    member, sheet = one.member.id, now.judged.judge.sheet
    layout = layout_named(sheet.boot.layout)
    found = [
        image
        for image in homes(now, one)
        if image.judgement.verdict in BOOTABLE
        and image.suits is not False
        and (release.same_bytes(image.judgement.release) or _names_it(image, release))
    ]
    if not found:
        return None
    boots, running = now.walk_of(member).boots, now.runs_on(member)
    next_at = boots.at if boots is not None else None
    named = _named(one)
    kept = (
        set(running.places)
        if running.sure and layout.holder == "banks" and not layout.pair
        else set()
    )

    def rank(image: Image) -> tuple[object, ...]:
        place = image.place.on(member)
        return (
            image.judgement.verdict != "proven",
            place not in kept,
            place != next_at,
            image.place not in named,
            image.place.volume != sheet.boot.default_volume,
            image.place.name != release.file,
            image.role != "set-file",
            image.place[:2],
        )

    return min(found, key=rank)


def homes(now: Situation, member: JudgedMember) -> tuple[Image, ...]:
    """The images of a member that it may be left to boot from: none that can be pulled."""
    return now.once(("homes", member.member.id), lambda: tuple(_homes(now, member)))


def _homes(now: Situation, member: JudgedMember) -> Iterable[Image]:
    layout = layout_of(now.judged)
    if layout.holder == "banks":
        yield from (image for image in member.banks.values() if image.starts_members)
        return
    parts = {part for image in member.sets.values() for part in image.parts}
    for image in (*member.sets.values(), *member.images.values()):
        there = image.starts_members and image.file is not None and image.place not in parts
        if there and stays(now, member, image.place):
            if image.place in member.sets and image is not member.sets[image.place]:
                continue
            yield image


def stays(now: Situation, member: JudgedMember, place: Place) -> bool:
    """Whether a device may be left to boot from a place: not from what can be pulled."""
    volume = None if place.is_bank else member.member.volume(place.volume)
    removable = volume is not None and volume.removable is True
    return not removable or now.policy.boot_from_removable


def _named(member: JudgedMember) -> set[Place]:
    """The places that the order of a member names, without member."""
    boot = member.member.boot
    order = (boot.order.effective or ()) if boot is not None else ()
    return {
        place.on(None)
        for entry in order
        if (place := entry.at) is not None and place.member in (None, member.member.id)
    }


def _names_it(image: Image, release: KnownRelease) -> bool:
    """Whether a bank whose digest was not read says that it holds the release."""
    return (
        image.place.is_bank
        and image.judgement.release is None
        and image.version is not None
        and image.version == release.version
    )


def fallback_of(now: Situation, member: JudgedMember, leg: Leg) -> Image | None:
    """The proven image of a layout of files that a member falls back to, where it has one."""
    key = ("fallback", leg.member, leg.home, leg.release)
    return now.once(key, lambda: next(iter(fallbacks_of(now, member, leg, "proven")), None))


def fallbacks_of(now: Situation, one: JudgedMember, leg: Leg, verdict: Verdict) -> list[Image]:
    """What a member may fall back to, of one verdict: never the image itself.

    What runs comes first, then what its order names, then the newest.
    """
    member = one.member.id
    scheme = now.judged.judge.sheet.versions.pattern
    able = [
        image
        for image in homes(now, one)
        if image.judgement.verdict == verdict
        and image.suits is True
        and image.place.on(member) != leg.home
        and not (image.judgement.release and image.judgement.release.status == "withdrawn")
        and not (leg.release is not None and leg.release.same_bytes(image.judgement.release))
    ]
    if len(able) < 2:
        return able
    running, named = set(now.runs_on(member).places), _named(one)

    def better_first(image: Image, other: Image) -> int:
        ours, theirs = (
            (each.place.on(member) not in running, each.place not in named)
            for each in (image, other)
        )
        if ours != theirs:
            return -1 if ours < theirs else 1
        newer = compare(other.version or "", image.version or "", scheme) or 0
        return newer or (-1 if image.place[:2] < other.place[:2] else 1)

    return sorted(able, key=cmp_to_key(better_first))
