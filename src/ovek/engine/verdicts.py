"""What is known about each image of a device.

Of a file, in this order, the strongest common algorithm first:

1. A digest equals a published one: `proven` by that release, whatever the file is called. Where a
   stronger common algorithm disagrees while a weaker agrees: `altered`, the pattern of a forged
   collision. A digest on which sources disagree proves nothing by itself: `disputed`.
2. Its name is a published one: smaller than published, `cut-short`; another digest or size,
   `altered`, or `disputed` where sources disagree or the digest is doubtful; no digest known to
   both, `unmeasured`.
3. It looks like an image and no release is known: `unlisted`. Otherwise it is no image.

A set is as good as its worst package; a package that is missing makes it `altered`. A bank that
lists places is judged by those files, else by its own digests, else by version alone, which
proves nothing.
"""

from collections.abc import Iterable, Iterator
from fnmatch import fnmatchcase
from functools import lru_cache

from msgspec import Struct
from msgspec.structs import replace

from ovek.engine.releases import ReleaseIndex
from ovek.model.catalog import ReleaseKind
from ovek.model.digest import STRONGEST_FIRST, TITLES, Algorithm, Digests
from ovek.model.naming import Named, Naming
from ovek.model.place import BANK, Place, parse_place
from ovek.model.sheet import Role, Sheet
from ovek.model.size import show_size
from ovek.model.snapshot import Bank, BootEntry, Device, File, FileSet, Hardware, Member, Volume
from ovek.model.verdict import WORST_FIRST, Image, Judgement, KnownRelease, Verdict


class Judge(Struct, frozen=True, kw_only=True):
    """What images are held against: the sheet, its naming, and all known releases.

    `weakest` is the weakest digest that may prove an image; `asks` the facts that the sheet asks
    for, and the question of each.
    """

    sheet: Sheet
    naming: Naming
    releases: ReleaseIndex
    weakest: Algorithm = "md5"
    asks: dict[str, str] = {}

    def accepted(self, judgement: Judgement) -> Judgement:
        """The judgement, unless its proof is by a digest that policy calls too weak."""
        if self.weakest == "md5":  # anything proves: do not ask for every image of a fleet
            return judgement
        return accepted(judgement, self.weakest)


class JudgedMember(Struct, frozen=True, kw_only=True):
    """One member with the verdicts of its images.

    `images` are the files that are images, by place without member; `sets` by the place of the
    set file, `banks` by name. `cited` are the places that boot settings name.
    """

    member: Member
    images: dict[Place, Image]
    sets: dict[Place, Image]
    banks: dict[str, Image]
    cited: frozenset[Place]


class JudgedDevice(Struct, frozen=True, kw_only=True):
    """One device with the verdicts of its images; `members` None: not known."""

    device: Device
    judge: Judge
    members: tuple[JudgedMember, ...] | None

    def member(self, name: str) -> JudgedMember | None:
        """The member of this id."""
        return next((one for one in self.members or () if one.member.id == name), None)


def judge_for(sheet: Sheet, releases: ReleaseIndex, weakest: Algorithm = "md5") -> Judge:
    """Make ready to judge devices of one kind; keep the result, since it remembers names."""
    return Judge(
        sheet=sheet,
        naming=Naming(sheet),
        releases=releases,
        weakest=weakest,
        asks=sheet.asks(),
    )


def judge_device(device: Device, judge: Judge) -> JudgedDevice:
    """Give every image of a device its verdict."""
    members = None
    if device.members is not None:
        members = tuple(_judge_member(member, device.hardware, judge) for member in device.members)
    return JudgedDevice(device=device, judge=judge, members=members)


def judge_file(
    name: str,
    size: int | None,
    digests: Digests | None,
    looks: bool,
    known: list[KnownRelease],
    releases: ReleaseIndex,
) -> Judgement | None:
    """Judge one file by its name, size in bytes and digests; None where it is no image.

    `looks` is whether it looks like an image by its name, `known` the releases of that name.
    """
    worse: Judgement | None = None
    for algorithm, digest in digests or ():
        for release in releases.by_digest.get(digest, ()):
            if digest in release.digests.get(algorithm, ()):
                if algorithm == next(iter(release.digests)) and algorithm not in release.disputed:
                    return _proven(release, algorithm)
                judgement = _against_equal(digests, release)
                if judgement.verdict == "proven":
                    return judgement
                worse = worse or judgement
    if worse is not None:
        return worse
    if known:
        judgements = [_against_named(size, digests, release) for release in known]
        return max(judgements, key=lambda one: WORST_FIRST.index(one.verdict))
    if looks:
        return Judgement(verdict="unlisted", why=f"no source publishes {name}")
    return None


def _against_equal(digests: Digests | None, release: KnownRelease) -> Judgement:
    """Hold a file against a release of which it has a digest."""
    common = [
        (algorithm, digest in release.digests[algorithm])
        for algorithm, digest in digests or ()
        if algorithm in release.digests
    ]
    sound = [(algorithm, equal) for algorithm, equal in common if algorithm not in release.disputed]
    if not sound:
        algorithm = next(algorithm for algorithm, equal in common if equal)
        why = f"sources disagree on the {TITLES[algorithm]} of {release.file}: {_sources(release)}"
        return Judgement(verdict="disputed", why=why, release=release, by=algorithm)
    strongest, equal = sound[0]
    if equal:
        return _proven(release, strongest)
    weaker = next(algorithm for algorithm, equal in common if equal)
    why = (
        f"its {TITLES[weaker]} is that of {release.file} but its {TITLES[strongest]} is not, "
        "as in a forged collision"
    )
    return Judgement(verdict="altered", why=why, release=release, by=strongest, forged=True)


@lru_cache(maxsize=4096)
def _proven(release: KnownRelease, by: Algorithm) -> Judgement:
    """The verdict that most images of a fleet share."""
    why = f"its {TITLES[by]} is that of {release.file}"
    return Judgement(verdict="proven", why=why, release=release, by=by)


@lru_cache(maxsize=4096)
def accepted(judgement: Judgement, weakest: Algorithm) -> Judgement:
    """The judgement, unless it is a proof by a digest that is weaker than `weakest`."""
    by, release = judgement.by, judgement.release
    if judgement.verdict != "proven" or by is None or release is None:
        return judgement
    if STRONGEST_FIRST.index(by) <= STRONGEST_FIRST.index(weakest):
        return judgement
    why = f"{judgement.why}, but policy takes {TITLES[weakest]} or stronger for a proof"
    return Judgement(verdict="unmeasured", why=why, release=release)


def _against_named(size: int | None, digests: Digests | None, release: KnownRelease) -> Judgement:
    """Hold a file against the release that its name is published for; no digest is equal."""
    if size is not None and release.sizes and size < min(release.sizes):
        whole = min(release.sizes)
        why = f"it has {size} bytes, {whole} are published: {show_size(whole - size)} too few"
        return Judgement(verdict="cut-short", why=why, release=release)
    other = next((name for name, _ in digests or () if name in release.digests), None)
    if other is not None:
        why = f"its {TITLES[other]} is not the published one of {release.file}"
        if release.doubtful or other in release.disputed:
            reason = (
                f"sources disagree on it: {_sources(release)}"
                if other in release.disputed
                else "the publisher's digest is doubtful"
            )
            return Judgement(
                verdict="disputed", why=f"{why}, but {reason}", release=release, by=other
            )
        return Judgement(verdict="altered", why=why, release=release, by=other)
    if size is not None and release.sizes and size not in release.sizes:
        published = " or ".join(str(one) for one in sorted(release.sizes))
        why = f"it has {size} bytes, {published} are published"
        verdict: Verdict = "disputed" if len(release.sizes) > 1 else "altered"
        return Judgement(verdict=verdict, why=why, release=release)
    why = "no digest of it is known"
    if digests is not None and any(True for _ in digests):
        there = ", ".join(TITLES[name] for name in release.digests) or "no digest"
        why = f"{release.file} is published with {there}, which is not known of this file"
    elif not release.digests:
        why = f"no digest of {release.file} is published"
    return Judgement(verdict="unmeasured", why=why, release=release)


def _sources(release: KnownRelease) -> str:
    return ", ".join(str(origin) for origin in release.origins)


def _judge_member(member: Member, hardware: Hardware, judge: Judge) -> JudgedMember:
    cited = frozenset(cited_places(member))
    images: dict[Place, Image] = {}
    sets: dict[Place, Image] = {}
    pointed = {parse_place(pointer.place).on(None) for pointer in member.pointers or ()}
    for volume in member.volumes or ():
        _judge_files(volume, judge, images, cited, pointed)
        for file_set in volume.sets or ():
            image = _judge_set(volume, file_set, images, judge)
            sets[image.place] = image
    banks = {
        bank.name: _judge_bank(bank, member, images, hardware, judge)
        for bank in member.banks or ()
        if bank.state not in ("empty", "bad")
    }
    return JudgedMember(member=member, images=images, sets=sets, banks=banks, cited=cited)


def _judge_files(
    volume: Volume,
    judge: Judge,
    images: dict[Place, Image],
    cited: frozenset[Place],
    pointed: set[Place],
) -> None:
    """Judge the files of a volume into `images`. This runs for every file: keep it short."""
    blind = volume.case_blind
    releases = judge.releases
    published = releases.by_folded if blind else releases.by_name
    digests_published = releases.by_digest
    name_may_be = judge.naming.name_may_be_image[blind]
    path_may_be = judge.naming.path_may_be_image[blind]
    sets = {_folded(each.set_file, volume) for each in volume.sets or ()}
    started = {_folded(p.path, volume) for p in cited if p.volume == volume.name} - sets
    loaded = {_folded(p.path, volume) for p in pointed if p.volume == volume.name}
    used = started | loaded
    files = volume.files or ()
    paths = [file.path.casefold() for file in files] if blind else [file.path for file in files]
    names = [path.rpartition("/")[2] for path in paths]
    for file, path, name in zip(files, paths, names, strict=True):
        digests = file.digests
        if (
            name not in published
            and name_may_be(name) is None
            and (path == name or path_may_be(path) is None)
            and path not in used
            and (
                digests is None
                or (
                    digests.md5 not in digests_published
                    and digests.sha256 not in digests_published
                    and digests.sha512 not in digests_published
                    and digests.sha1 not in digests_published
                )
            )
        ):
            continue
        named = judge.naming.of(file.path, case_blind=blind)
        if named.role == "unknown" and path in started:
            named = Named("system-image", True)
        elif named.role == "unknown" and path in loaded:
            named = Named("part-image", True)
        known = published.get(name, [])
        own_name = file.path.rpartition("/")[2]
        judgement = judge_file(own_name, file.size, digests, named.image, known, releases)
        if judgement is not None:
            judgement = judge.accepted(judgement)
            place = Place(volume.name, file.path)
            images[place] = Image(
                place=place,
                role=_image_role(named, judgement),
                judgement=judgement,
                file=file,
                version=(judgement.release and judgement.release.version) or named.version,
            )


def _image_role(named: Named, judgement: Judgement) -> Role:
    """The role of an image: by the release that proves it, else its name, else its release."""
    kind: ReleaseKind | None = judgement.release.kind if judgement.release else None
    if judgement.verdict == "proven" and kind is not None:
        return kind
    if named.role != "unknown":
        return named.role
    return kind or "system-image"


def _judge_set(
    volume: Volume, file_set: FileSet, images: dict[Place, Image], judge: Judge
) -> Image:
    there = {_folded(file.path, volume): file for file in volume.files or ()}
    places, judgements, versions = [], [], set[str | None]()
    for package in file_set.packages:
        file = there.get(_folded(package, volume))
        place = Place(volume.name, file.path if file else package)
        places.append(place)
        image = images.get(place)
        if file is None and volume.files is not None:
            why = f"its package {package} is missing"
            judgements.append(Judgement(verdict="altered", why=why))
        elif image is None:
            why = f"nothing is known of its package {package}"
            judgements.append(Judgement(verdict="unmeasured", why=why))
        else:
            judgements.append(image.judgement)
            versions.add(image.version)
    place = Place(volume.name, file_set.set_file)
    own = there.get(_folded(file_set.set_file, volume))
    if own is not None and (image := images.get(Place(volume.name, own.path))) is not None:
        place = image.place
        if image.judgement.release is not None:
            judgements.append(image.judgement)
    if not file_set.packages:
        judgements.append(Judgement(verdict="altered", why="it lists no package"))
    named = judge.naming.of(place.path, case_blind=volume.case_blind)
    version = versions.pop() if len(versions) == 1 else named.version
    return Image(
        place=place,
        role="set-file",
        judgement=_whole(judgements),
        file=own,
        version=version,
        parts=tuple(places),
    )


def _judge_bank(
    bank: Bank, member: Member, images: dict[Place, Image], hardware: Hardware, judge: Judge
) -> Image:
    """Judge what a bank holds (it is neither empty nor bad, as far as is known)."""
    version, role, parts = bank.version, "system-image", []
    if bank.places:
        judgements = []
        for text in bank.places:
            place, image = find_image(parse_place(text).on(None), member, images)
            parts.append(place)
            if image is not None:
                judgements.append(image.judgement)
                version = version or image.version
            elif find_file(place, member) is None:
                judgements.append(Judgement(verdict="altered", why=f"its file {text} is missing"))
            else:
                why = f"its file {text} is no image that is known"
                judgements.append(Judgement(verdict="unlisted", why=why))
        judgement = _whole(judgements)
    else:
        judgement = _judge_bank_itself(bank, hardware, judge)
        if judgement.verdict == "proven" and judgement.release is not None:
            version = judgement.release.version or version
            role = judgement.release.kind or role
    return Image(
        place=Place(BANK, bank.name),
        role="system-image" if role == "system-image" else "part-image",
        judgement=judgement,
        version=version,
        parts=tuple(parts),
    )


def _judge_bank_itself(bank: Bank, hardware: Hardware, judge: Judge) -> Judgement:
    known = [
        release
        for release in judge.releases.by_version.get(bank.version or "", ())
        if release.kind in (None, "system-image")
        and (bank.variant is None or release.variant in (None, bank.variant))
        and fits(release, hardware) is not False
    ]
    if bank.digests is None or not any(True for _ in bank.digests):
        why = (
            "a version alone proves nothing"
            if bank.version
            else "nothing is known of what is in it"
        )
        release = known[0] if len(known) == 1 else None
        return Judgement(verdict="unmeasured", why=why, release=release)
    named = f"version {bank.version}" if bank.version else "what is in it"
    judgement = judge_file(named, None, bank.digests, True, known, judge.releases)
    assert judgement is not None, "a bank looks like an image"
    return judge.accepted(judgement)


def _worst(judgements: Iterable[Judgement]) -> Judgement:
    """The judgement that counts for the whole: the worst, and the weakest digest of those."""

    def rank(one: Judgement) -> tuple[int, int]:
        return WORST_FIRST.index(one.verdict), -STRONGEST_FIRST.index(one.by or "sha512")

    return min(judgements, key=rank)


def _whole(judgements: list[Judgement]) -> Judgement:
    """Judge what is made of several files."""
    worst = _worst(judgements)
    if worst.verdict != "proven" or worst.by is None or len(judgements) == 1:
        return worst
    return replace(
        worst, why=f"its {len(judgements)} files are proven, the weakest by {TITLES[worst.by]}"
    )


def _folded(path: str, volume: Volume) -> str:
    return path.casefold() if volume.case_blind else path


def cited_places(member: Member) -> Iterator[Place]:
    """The places that a member's boot settings name: saved, live and once; without member."""
    if member.boot is None:
        return
    entries: list[BootEntry | None] = [member.boot.once]
    for order in (member.boot.order.saved, member.boot.order.live):
        entries += order or ()
    for entry in entries:
        if entry is not None and entry.place is not None:
            place = parse_place(entry.place)
            if not place.is_bank and place.member in (None, member.id):
                yield place.on(None)


def find_file(place: Place, member: Member) -> File | None:
    """The file at a place of this member, case-blind where the volume is."""
    volume = member.volume(place.volume)
    if volume is None:
        return None
    for file in volume.files or ():
        if file.path == place.path:
            return file
    if volume.case_blind:
        wanted = place.path.casefold()
        return next((f for f in volume.files or () if f.path.casefold() == wanted), None)
    return None


def find_image(
    place: Place, member: Member, images: dict[Place, Image]
) -> tuple[Place, Image | None]:
    """The image at a place and the place as the volume spells it."""
    if place in images:
        return place, images[place]
    file = find_file(place, member)
    spelled = Place(place.volume, file.path) if file else place
    return spelled, images.get(spelled)


@lru_cache(maxsize=16_384)
def fits(release: KnownRelease, hardware: Hardware) -> bool | None:
    """Whether a release is for this hardware; None where that is not known."""
    answers = [
        _any_fits(release.fits, hardware.model),
        _any_fits(release.revisions, hardware.revision),
    ]
    if False in answers:
        return False
    return None if None in answers else True


def _any_fits(globs: tuple[str, ...] | None, name: str | None) -> bool | None:
    if globs is None:
        return True
    if name is None:
        return None
    return any(fnmatchcase(name, glob) for glob in globs)
