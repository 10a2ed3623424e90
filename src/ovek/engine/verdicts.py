"""What is known about each image of a device.

Digests that any source gives for one set of bytes belong together (see `releases`). Of a file:

1. A digest equals a published one and none that belongs with it differs: `proven` by that release,
   whatever the file is called. One that belongs with it differs: `altered`, the pattern of a forged
   collision. Sources disagree on the strongest that both know, or the publisher's digest is
   doubtful: `disputed`, whatever weaker ones say.
2. Its name is a published one: surely smaller than published, `cut-short`; another digest or a
   size that cannot be the published one, `altered`, or `disputed` where sources disagree or the
   digest is doubtful; no digest known to both, `unmeasured`. A name that the listing cut is a
   published one where only one begins so; where several do, it is `unmeasured`.
3. Else a digest equals one of a list of own copies: `matched`, the same bytes as a copy of ours,
   which no publisher vouches for. Policy may accept that as a proof.
4. It looks like an image and no release is known: `unlisted`. Otherwise it is no image.

A set is as good as its worst package; a package that is missing makes it `altered`. A bank that
lists places is judged by those files (a set file among them by its set), and is `altered` where it
lacks a file that its release contains, or mixes two releases; else it is judged by its own digests,
else by version alone, which proves nothing.
"""

from collections.abc import Iterable, Iterator
from fnmatch import fnmatchcase
from functools import lru_cache

from msgspec import Struct
from msgspec.structs import replace

from ovek.engine.releases import Family, ReleaseIndex
from ovek.model.catalog import ReleaseKind
from ovek.model.digest import STRONGEST_FIRST, TITLES, Algorithm, Digests
from ovek.model.naming import Named, Naming, is_archive
from ovek.model.place import BANK, Place, parse_place
from ovek.model.sheet import Role, Sheet
from ovek.model.size import show_size
from ovek.model.snapshot import Bank, BootEntry, Device, File, FileSet, Hardware, Member, Volume
from ovek.model.verdict import WORST_FIRST, Image, Judgement, KnownRelease, Verdict

_AT_ONCE = 10_000  # files whose names are made ready together
CUT = "its name is cut by the listing"


class Judge(Struct, frozen=True, kw_only=True):
    """What images are held against: the sheet, its naming, and all known releases.

    `weakest` is the weakest digest that may prove an image; `asks` the facts that the sheet asks
    for, and the question of each. `accepts_own` is whether a copy of ours proves, too.
    """

    sheet: Sheet
    naming: Naming
    releases: ReleaseIndex
    weakest: Algorithm = "md5"
    asks: dict[str, str] = {}
    accepts_own: bool = False

    def accepted(self, judgement: Judgement) -> Judgement:
        """The judgement, unless its proof is by a digest that policy calls too weak."""
        if self.accepts_own and judgement.verdict == "matched":
            judgement = accepted_own(judgement)
        if self.weakest == "md5":  # anything proves: do not ask for every image of a fleet
            return judgement
        return accepted(judgement, self.weakest)


class NamedOn(Struct, frozen=True):
    """The places on one member that some member's boot settings name, and that components load."""

    started: frozenset[Place]
    loaded: frozenset[Place]


class JudgedMember(Struct, frozen=True, kw_only=True):
    """One member with the verdicts of its images.

    `images` are the files that are images, by place without member; `sets` by the place of the
    set file, `banks` by name. `named` are the places on it that settings of any member name.
    """

    member: Member
    hardware: Hardware
    images: dict[Place, Image]
    sets: dict[Place, Image]
    banks: dict[str, Image]
    named: NamedOn


class JudgedDevice(Struct, frozen=True, kw_only=True):
    """One device with the verdicts of its images; `members` None: not known."""

    device: Device
    judge: Judge
    members: tuple[JudgedMember, ...] | None

    def member(self, name: str) -> JudgedMember | None:
        """The member of this id."""
        for one in self.members or ():
            if one.member.id == name:
                return one
        return None

    def located(self, place: Place, own: str) -> Place:
        """A place as member `own` names it: with the member in front, spelled as its volume does.

        What is on no member that is known, or not there, stays as it is named.
        """
        owner = place.member if place.member is not None else own
        one = None if place.volume == BANK else self.member(owner)
        if one is None:
            return place.on(owner)
        bare = place.on(None)
        if bare in one.images:  # asked for every entry of a fleet: most are spelled as they are
            return bare.on(owner)
        file = find_file(bare, one.member)
        return Place(place.volume, place.path if file is None else file.path, owner)

    def image(self, place: Place) -> Image | None:
        """The bank, set or file at a place that has its member in front, as `located` gives it."""
        one = self.member(place.member or "")
        if one is None:
            return None
        if place.is_bank:
            return one.banks.get(place.path)
        bare = place.on(None)
        return one.sets.get(bare) or one.images.get(bare)


def judge_for(
    sheet: Sheet,
    releases: ReleaseIndex,
    weakest: Algorithm = "md5",
    *,
    accepts_own: bool = False,
) -> Judge:
    """Make ready to judge devices of one kind; keep the result, since it remembers names."""
    return Judge(
        sheet=sheet,
        naming=Naming(sheet),
        releases=releases,
        weakest=weakest,
        asks=sheet.asks(),
        accepts_own=accepts_own,
    )


def judge_device(device: Device, judge: Judge) -> JudgedDevice:
    """Give every image of a device its verdict."""
    members = None
    if device.members is not None:
        members = tuple(_judge_member(member, device, judge) for member in device.members)
    return JudgedDevice(device=device, judge=judge, members=members)


def rejudge(judged: JudgedDevice, device: Device) -> JudgedDevice:
    """Judge a device that was edited; members that stayed as they were keep their verdicts."""
    members = None
    if device.members is not None:
        members = tuple(_again(judged, device, member) for member in device.members)
    return JudgedDevice(device=device, judge=judged.judge, members=members)


def _again(judged: JudgedDevice, device: Device, member: Member) -> JudgedMember:
    """The verdicts of a member, those that it had where nothing that they rest on was edited."""
    known = judged.member(member.id)
    if known is None or known.hardware != device.hardware_of(member):
        return _judge_member(member, device, judged.judge)
    was = known.member
    files = was.volumes is member.volumes and was.banks is member.banks
    if files and known.named == _named_on(device, member):
        return known if was is member else replace(known, member=member)
    return _judge_member(member, device, judged.judge, known)


def judge_file(
    name: str,
    size: int | None,
    digests: Digests | None,
    looks: bool,
    known: list[KnownRelease],
    releases: ReleaseIndex,
    step: int | None = None,
) -> Judgement | None:
    """Judge one file by its name, size in bytes and digests; None where it is no image.

    `looks` is whether it looks like an image by its name, `known` the releases of that name. The
    size is known to within `step` bytes; None: it is exact.
    """
    for algorithm, digest in digests or ():
        sharing = releases.by_digest.get(digest)
        if sharing is None:
            continue
        equal = [one for one in sharing if digest in one.digests.get(algorithm, ())]
        if equal:
            if len(equal) == 1 and releases.proves_alone(equal[0], algorithm, digests):
                return _proven(equal[0], algorithm)
            return _against_equal(name, digests, equal, releases.family(equal[0]))
    own = _own(digests, releases) if releases.ours else None
    if known:
        judgements = [
            _against_named(size, step or 1, digests, release, releases.family(release))
            for release in known
        ]
        named = max(judgements, key=lambda one: WORST_FIRST.index(one.verdict))
        return own if own is not None and named.verdict == "unmeasured" else named
    if own is not None:
        return own
    if (recorded := releases.own_by_folded.get(name.casefold())) is not None:
        return _unlike_own(size, step or 1, digests, recorded)
    if looks:
        return Judgement(verdict="unlisted", why=f"no source publishes {name}")
    return None


def _unlike_own(
    size: int | None, step: int, digests: Digests | None, recorded: list[KnownRelease]
) -> Judgement:
    """Hold a file against our own records of its name, none of which has a digest of it."""
    origins = ", ".join(str(origin) for one in recorded for origin in one.origins)
    ours = f"our own record of {recorded[0].file} ({origins})"
    for algorithm, digest in digests or ():
        if all(digest not in one.digests.get(algorithm, (digest,)) for one in recorded):
            why = f"its {TITLES[algorithm]} is not that of {ours}, and no publisher lists it"
            return Judgement(verdict="unlisted", why=why)
    sizes = frozenset[int]().union(*(one.sizes for one in recorded))
    if size is not None and sizes and not _meets(size, step, sizes):
        had = " or ".join(str(each) for each in sorted(sizes))
        why = f"it has {size} bytes, {ours} {had}, and no publisher lists it"
        return Judgement(verdict="unlisted", why=why)
    there = [
        TITLES[name] for name in STRONGEST_FIRST if any(name in one.digests for one in recorded)
    ]
    why = f"{ours} has its {' and '.join(there) or 'name only'}, which is not known of this file"
    return Judgement(verdict="unmeasured", why=why)


def _own(digests: Digests | None, releases: ReleaseIndex) -> Judgement | None:
    """Hold a file against the lists of own copies; None where none has it."""
    for algorithm, digest in digests or ():
        release = releases.own.get(digest)
        if release is None or digest not in release.digests.get(algorithm, ()):
            continue
        if any(
            d not in release.digests[name] for name, d in digests or () if name in release.digests
        ):
            return None
        told = ", ".join(str(origin) for origin in release.origins)
        why = f"its {TITLES[algorithm]} is that of our own copy {release.file} ({told}), "
        why += "for which no publisher vouches"
        return Judgement(verdict="matched", why=why, release=release, by=algorithm)
    return None


@lru_cache(maxsize=4096)
def accepted_own(judgement: Judgement) -> Judgement:
    """A match with a copy of ours, as the proof that policy takes it for."""
    why = f"{judgement.why}; policy accepts own records"
    return Judgement(verdict="proven", why=why, release=judgement.release, by=judgement.by)


def _against_equal(
    name: str, digests: Digests | None, equal: list[KnownRelease], family: Family
) -> Judgement:
    """Hold a file against the releases of which it has a digest, and all that belongs with it."""
    release = _best_named(name, equal)
    common = [
        (algorithm, digest in family.digests[algorithm])
        for algorithm, digest in digests or ()
        if algorithm in family.digests
    ]
    decides = common[0][0]
    if decides in family.disputed:
        why = f"sources disagree on the {TITLES[decides]} of {release.file}: {_sources(release)}"
        return Judgement(verdict="disputed", why=why, release=release, by=decides)
    sound = [(algorithm, same) for algorithm, same in common if algorithm not in family.disputed]
    other = next((algorithm for algorithm, same in sound if not same), None)
    if other is not None:
        same = next(algorithm for algorithm, agrees in common if agrees)
        why = f"its {TITLES[same]} is that of {release.file} but its {TITLES[other]} is not"
        weaker = STRONGEST_FIRST.index(same) > STRONGEST_FIRST.index(other)
        why += ", as in a forged collision" if weaker else ", so that one of them is wrong"
        return Judgement(verdict="altered", why=why, release=release, by=other, forged=weaker)
    if release.doubtful:
        why = f"its {TITLES[decides]} is that of {release.file}, which its publisher doubts"
        return Judgement(verdict="disputed", why=why, release=release, by=decides)
    return _proven(release, decides)


def _best_named(name: str, equal: list[KnownRelease]) -> KnownRelease:
    """Of releases with one digest: one that is not in doubt, then the one of the file's name."""
    if len(equal) == 1:
        return equal[0]
    return min(
        equal,
        key=lambda one: (one.doubtful, one.file != name, one.file.casefold() != name.casefold()),
    )


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


def _against_named(
    size: int | None, step: int, digests: Digests | None, release: KnownRelease, family: Family
) -> Judgement:
    """Hold a file against the release that its name is published for; no digest is equal."""
    about = "" if step == 1 else f" (to within {show_size(step)})"
    if size is not None and release.sizes and size + step <= min(release.sizes):
        whole = min(release.sizes)
        why = f"it has {size} bytes{about}, {whole} are published: "
        why += f"{show_size(whole - size)} too few"
        return Judgement(verdict="cut-short", why=why, release=release)
    other = next((name for name, _ in digests or () if name in family.digests), None)
    if other is not None:
        why = f"its {TITLES[other]} is not the published one of {release.file}"
        if release.doubtful or other in family.disputed:
            reason = (
                f"sources disagree on it: {_sources(release)}"
                if other in family.disputed
                else "the publisher's digest is doubtful"
            )
            return Judgement(
                verdict="disputed", why=f"{why}, but {reason}", release=release, by=other
            )
        return Judgement(verdict="altered", why=why, release=release, by=other)
    if size is not None and release.sizes and not _meets(size, step, release.sizes):
        published = " or ".join(str(one) for one in sorted(release.sizes))
        why = f"it has {size} bytes{about}, {published} are published"
        verdict: Verdict = "disputed" if len(release.sizes) > 1 else "altered"
        return Judgement(verdict=verdict, why=why, release=release)
    why = "no digest of it is known"
    if digests is not None and any(True for _ in digests):
        there = ", ".join(TITLES[name] for name in release.digests) or "no digest"
        why = f"{release.file} is published with {there}, which is not known of this file"
    elif not release.digests:
        why = f"no digest of {release.file} is published"
    return Judgement(verdict="unmeasured", why=why, release=release)


def _meets(size: int, step: int, sizes: frozenset[int]) -> bool:
    """Whether a size that is known to within `step` bytes may be one of these."""
    return size in sizes or any(size - step < one < size + step for one in sizes)


def _sources(release: KnownRelease) -> str:
    return ", ".join(str(origin) for origin in release.origins)


def _judge_member(
    member: Member, device: Device, judge: Judge, known: JudgedMember | None = None
) -> JudgedMember:
    """Judge a member; `known` is what was judged of it before an edit."""
    hardware = device.hardware_of(member)
    named = _named_on(device, member)
    images: dict[Place, Image] = {}
    sets: dict[Place, Image] = {}
    for volume in member.volumes or ():
        if judge.sheet.start.holds_nothing(volume):
            continue
        kept = None if known is None else _kept(volume, known, named)
        if kept is None:
            _judge_files(volume, hardware, judge, images, named)
        else:
            edited = tuple(file for file in volume.files or () if id(file) not in kept)
            fresh: dict[Place, Image] = {}
            _judge_files(replace(volume, files=edited), hardware, judge, fresh, named)
            for file in volume.files or ():
                place = Place(volume.name, file.path)
                found = kept[id(file)] if id(file) in kept else fresh.get(place)
                if found is not None:
                    images[place] = found
        for file_set in volume.sets or ():
            image = _judge_set(volume, file_set, images, judge)
            sets[image.place] = image
    banks = {
        bank.name: _judge_bank(bank, member, {**images, **sets}, hardware, judge)
        for bank in member.banks or ()
        if not is_empty(bank) and bank.state != "bad"
    }
    return JudgedMember(
        member=member, hardware=hardware, images=images, sets=sets, banks=banks, named=named
    )


def is_empty(bank: Bank) -> bool:
    """Whether a bank is known to hold nothing: it says so, or the directory that it is has no file.

    >>> is_empty(Bank(name="trial", places=())), is_empty(Bank(name="trial"))
    (True, False)
    """
    if bank.state == "empty":
        return True
    itself = bank.version is not None or any(True for _ in bank.digests or ())
    return bank.places == () and bank.state != "bad" and not itself


def _named_on(device: Device, member: Member) -> NamedOn:
    """What is named on a member, by whichever member."""
    started, loaded = set[Place](), set[Place]()
    for other in device.members or ():
        own = other is member
        for place in started_places(other):
            if (own and place.member is None) or place.member == member.id:
                started.add(place.on(None))
        for component in other.components or ():
            at = component.place
            if at is not None and ((own and at.member is None) or at.member == member.id):
                loaded.add(at.on(None))
    return NamedOn(frozenset(started), frozenset(loaded))


def _kept(volume: Volume, known: JudgedMember, named: NamedOn) -> dict[int, Image | None] | None:
    """What is known of the files of a volume that an edit left as they were, each by its identity.

    None where that has to be found out anew: names that a listing cut are judged with each other.
    """
    old = known.member.volume(volume.name)
    if old is None or old.case_blind != volume.case_blind or old.sets != volume.sets:
        return None
    if any(file.path_cut for each in (old, volume) for file in each.files or ()):
        return None
    other = known.named
    changed = {
        volume.folded(place.path)
        for place in (named.started ^ other.started) | (named.loaded ^ other.loaded)
        if place.volume == volume.name
    }
    return {
        id(file): known.images.get(Place(volume.name, file.path))
        for file in old.files or ()
        if not changed or volume.folded(file.path) not in changed
    }


def _judge_files(
    volume: Volume,
    hardware: Hardware,
    judge: Judge,
    images: dict[Place, Image],
    named_on: NamedOn,
) -> None:
    """Judge the files of a volume into `images`. This runs for every file: keep it short."""
    blind = volume.case_blind
    releases = judge.releases
    published = releases.by_folded if blind else releases.by_name
    digests_published, own, own_names = releases.by_digest, releases.own, releases.own_by_folded
    sets = {volume.folded(each.set_file) for each in volume.sets or ()}
    started = {volume.folded(p.path) for p in named_on.started if p.volume == volume.name} - sets
    loaded = {volume.folded(p.path) for p in named_on.loaded if p.volume == volume.name}
    used = started | loaded
    for file, path, name, may_be in _named_files(volume.files or (), blind, judge.naming):
        digests = file.digests
        if file.path_cut:
            used_for = (_begun(path, started), _begun(path, loaded))
            _judge_cut(file, volume, hardware, judge, images, used_for)
            continue
        if (
            name not in published
            and not may_be
            and path not in used
            and name.casefold() not in own_names
            and (not own or digests is None or not any(digest in own for _, digest in digests))
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
        if named.role == "unknown" and path in started and not is_archive(path):
            named = Named("system-image", True)
        elif named.role == "unknown" and path in loaded:
            named = Named("component-image", True)
        known = published.get(name, [])
        own_name = file.path.rpartition("/")[2]
        judgement = judge_file(
            own_name, file.size, digests, named.image, known, releases, file.size_step
        )
        if judgement is not None:
            judgement = judge.accepted(judgement)
            place = Place(volume.name, file.path)
            images[place] = _file_image(place, file, named, judgement, hardware, judge)


def _file_image(
    place: Place,
    file: File,
    named: Named,
    judgement: Judgement,
    hardware: Hardware,
    judge: Judge,
) -> Image:
    release = judgement.release
    suits = True if release is None else fits(release, hardware)
    return Image(
        place=place,
        role="archive" if _is_archive(judgement, judge) else _image_role(named, judgement),
        judgement=judgement,
        file=file,
        version=(release and release.version) or named.version,
        suits=suits,
        foreign=release if suits is False else None,
    )


def _is_archive(judgement: Judgement, judge: Judge) -> bool:
    """Whether what is proven to be here contains images, and is none to this kind of device."""
    release = judgement.release
    if judgement.verdict != "proven" or release is None:
        return False
    known = judge.releases.family(release).members
    whole = any(each.contains and each.within is None for each in known)
    return whole and not any(judge.naming.of(one.file, case_blind=True).image for one in known)


def _begun(start: str, names: Iterable[str]) -> bool:
    """Whether any of these names begins so."""
    return any(name.startswith(start) for name in names)


def _judge_cut(
    file: File,
    volume: Volume,
    hardware: Hardware,
    judge: Judge,
    images: dict[Place, Image],
    used_for: tuple[bool, bool],
) -> None:
    """Judge a file whose name the listing cut; `used_for` is whether a start or a part names it."""
    blind, name = volume.case_blind, file.path.rpartition("/")[2]
    named = judge.naming.of(file.path, case_blind=blind)
    releases = judge.releases
    known = releases.beginning(name, case_blind=blind)
    if named.role == "unknown" and used_for[0]:
        named = Named("system-image", True)
    elif named.role == "unknown" and used_for[1] and not known:
        named = Named("component-image", True)
    judgement = judge_file(
        f"a file that begins with {name}",
        file.size,
        file.digests,
        named.image or bool(known),
        known[:1] if len(known) == 1 else [],
        releases,
        file.size_step,
    )
    if judgement is None:
        return
    if judgement.verdict == "unlisted" and known:
        names = sorted({release.file for release in known})
        why = f"it may be any of {len(names)}: {', '.join(names[:3])}"
        why += ", …" if names[3:] else ""
        judgement = Judgement(verdict="unmeasured", why=why)
    judgement = replace(judge.accepted(judgement), why=f"{judgement.why}; {CUT}")
    place = Place(volume.name, file.path)
    image, other = _file_image(place, file, named, judgement, hardware, judge), images.get(place)
    if other is None or _cut_rank(image) < _cut_rank(other):
        images[place] = image


def _cut_rank(image: Image) -> tuple[object, ...]:
    """Of images whose names are cut alike, the worst counts, whichever the listing shows first."""
    file = image.file
    at = "" if file is None or file.digests_at is None else file.digests_at.isoformat()
    size = -1 if file is None or file.size is None else file.size
    return *_rank(image.judgement), at, size


def _named_files(
    files: tuple[File, ...], blind: bool, naming: Naming
) -> Iterator[tuple[File, str, str, bool]]:
    """Each file with its path and its own name as they are compared, and if it may be an image.

    Many are made ready at once, and not all.
    """
    for at in range(0, len(files), _AT_ONCE):
        some = files[at : at + _AT_ONCE]
        paths = [file.path.casefold() for file in some] if blind else [file.path for file in some]
        names = [path.rpartition("/")[2] for path in paths]
        may_be = naming.may_be_images(names, paths, blind)
        yield from zip(some, paths, names, may_be, strict=True)


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
    there = {volume.folded(file.path): file for file in volume.files or ()}
    cut = [file for file in volume.files or () if file.path_cut]
    places, judgements, packages = [], [], list[Image]()
    for package in {volume.folded(each): each for each in file_set.packages}.values():
        file = there.get(volume.folded(package)) or _cut_file(volume, package, cut)
        place = Place(volume.name, file.path if file else package)
        places.append(place)
        image = images.get(place)
        if file is not None and file.path_cut and sum(each.path == file.path for each in cut) > 1:
            judgements.append(Judgement(verdict="unmeasured", why=f"{package}: {CUT}"))
        elif file is None and volume.files is not None:
            why = f"its package {package} is missing"
            judgements.append(Judgement(verdict="altered", why=why))
        elif image is None:
            why = f"nothing is known of its package {package}"
            judgements.append(Judgement(verdict="unmeasured", why=why))
        elif (
            file is not None and not file.path_cut and _other_spelling(place.path, package, volume)
        ):
            judgements.append(Judgement(verdict="unmeasured", why=_spelled_so(package, place.path)))
        else:
            judgements.append(image.judgement)
            packages.append(image)
    place = Place(volume.name, file_set.set_file)
    own = there.get(volume.folded(file_set.set_file)) or _cut_file(volume, file_set.set_file, cut)
    if own is not None:
        place = Place(volume.name, own.path)
        image = images.get(place)
        listed = image is not None and image.judgement.verdict != "matched"
        if image is not None and listed and image.judgement.release is not None:
            judgements.append(image.judgement)
    if not file_set.packages:
        judgements.append(Judgement(verdict="altered", why="it lists no package"))
    named = judge.naming.of(place.path, case_blind=volume.case_blind)
    versions = _versions_in_common(packages, judge.releases)
    suits, foreign = _all_suit(packages)
    return Image(
        place=place,
        role="set-file",
        judgement=_whole(judgements),
        file=own,
        version=versions.pop() if len(versions) == 1 else named.version,
        parts=tuple(places),
        suits=suits,
        foreign=foreign,
    )


def _versions_in_common(images: Iterable[Image], releases: ReleaseIndex) -> set[str | None]:
    """The versions that all files of a whole may be of: several releases may share a file."""
    common: set[str | None] | None = None
    for image in images:
        release = image.judgement.release
        versions: set[str | None] = {image.version}
        if release is not None and image.judgement.verdict == "proven":
            versions |= {each.version for each in releases.family(release).members}
        common = versions if common is None else common & versions
    return common or set()


def suits_on(
    image: Image, one: JudgedMember, hardware: Hardware
) -> tuple[bool | None, KnownRelease | None]:
    """Whether an image that lies on a member is for other hardware than that member's.

    Returns the same as `Image.suits` and `Image.foreign` do for the member's own.
    """
    parts = [one.images[place] for place in image.parts if place in one.images]
    own = [] if parts else [image]
    known = [(each, each.judgement.release) for each in (*own, *parts)]
    return _all_suit(
        replace(each, suits=suits, foreign=release if suits is False else None)
        for each, release in known
        for suits in [True if release is None else fits(release, hardware)]
    )


def _other_spelling(path: str, named: str, volume: Volume | None) -> bool:
    """Whether a file is named in another case, where nobody knows if that is the same file."""
    return volume is not None and volume.filesystem is None and path != named.lstrip("/")


def _spelled_so(named: str, path: str) -> str:
    return f"whether {named} is {path} is not known, since the file system is not"


def _all_suit(images: Iterable[Image]) -> tuple[bool | None, KnownRelease | None]:
    """Whether all of a whole is for its member's hardware, and a release in it that is not."""
    images = list(images)
    strangers = [image.foreign for image in images if image.foreign is not None]
    if strangers:
        return False, min(strangers, key=lambda release: (release.file, release.publisher or ""))
    return (None if any(image.suits is None for image in images) else True), None


def _judge_bank(
    bank: Bank, member: Member, images: dict[Place, Image], hardware: Hardware, judge: Judge
) -> Image:
    """Judge what a bank holds (it is neither empty nor bad, as far as is known)."""
    if bank.places:
        image = _judge_places(bank, member, images, judge)
        return replace(image, judgement=_if_sound(bank, image.judgement))
    judgement, version, role = _judge_bank_itself(bank, hardware, judge), bank.version, None
    release = judgement.release
    proven = judgement.verdict == "proven"
    judgement = _if_sound(bank, judgement)
    if proven and release is not None:
        version, role = release.version or version, release.kind
    suits = True if release is None else fits(release, hardware)
    return Image(
        place=Place(BANK, bank.name),
        role="system-image" if role in (None, "system-image") else "component-image",
        judgement=judgement,
        version=version,
        suits=suits,
        foreign=release if suits is False else None,
    )


def _if_sound(bank: Bank, judgement: Judgement) -> Judgement:
    """The judgement of a bank, which no digest proves while nobody knows its state."""
    if bank.state is not None or judgement.verdict != "proven":
        return judgement
    why = f"{judgement.why}, but the state of the bank is not known"
    return Judgement(verdict="unmeasured", why=why, release=judgement.release)


def _judge_places(bank: Bank, member: Member, images: dict[Place, Image], judge: Judge) -> Image:
    """Judge a bank by the files, or the set, that it is made of."""
    start = judge.sheet.start
    parts, judgements, found = list[Place](), list[Judgement](), list[Image]()
    for text in bank.places or ():
        named = parse_place(text)
        place, image = named, None
        if named.member in (None, member.id):
            place, image = find_image(named.on(None), member, images)
        parts.append(place)
        if why := several_begin(place, member):
            judgements.append(Judgement(verdict="unmeasured", why=why))
        elif image is not None:
            found.append(image)
            judgements.append(image.judgement)
            parts += image.parts
            cut = image.file is not None and image.file.path_cut
            if not cut and _other_spelling(place.path, named.path, member.volume(place.volume)):
                why = _spelled_so(named.path, place.path)
                judgements.append(Judgement(verdict="unmeasured", why=why))
        elif place.member is not None:
            why = f"its file {text} is on another member"
            judgements.append(Judgement(verdict="unmeasured", why=why))
        elif _may_be_there(place, member):
            why = f"whether its file {text} is there is not known"
            judgements.append(Judgement(verdict="unmeasured", why=why))
        elif (volume := member.volume(place.volume)) is not None and start.holds_nothing(volume):
            why = f"its file {text} is on a volume that the device cannot read"
            judgements.append(Judgement(verdict="unmeasured", why=why))
        elif find_file(place, member) is None:
            judgements.append(Judgement(verdict="altered", why=f"its file {text} is missing"))
        else:
            why = f"its file {text} is no image that is known"
            judgements.append(Judgement(verdict="unlisted", why=why))
    begun = tuple(each.place.name for each in found if each.file and each.file.path_cut)
    names = {place.name for place in parts}
    if why := _not_one_release(found, names, begun, judge.releases):
        judgements.append(Judgement(verdict="altered", why=why))
    elif why := _lacks_by_version(bank, names, begun, judge, member):
        judgements.append(Judgement(verdict="unmeasured", why=why))
    versions = _versions_in_common(
        (image for image in found if image.role != "component-image"), judge.releases
    )
    suits, foreign = _all_suit(found)
    firmware = bool(found) and all(image.role == "component-image" for image in found)
    return Image(
        place=Place(BANK, bank.name),
        role="component-image" if firmware else "system-image",
        judgement=_whole(judgements),
        version=bank.version or (versions.pop() if len(versions) == 1 else None),
        parts=tuple(parts),
        suits=suits,
        foreign=foreign,
    )


def _may_be_there(place: Place, member: Member) -> bool:
    """Whether nobody knows which files lie where a place is."""
    volume = member.volume(place.volume)
    return member.volumes is None or (volume is not None and volume.files is None)


def _not_one_release(
    images: list[Image], names: set[str], begun: tuple[str, ...], releases: ReleaseIndex
) -> str:
    """What keeps the files of a bank from being one whole release; empty where nothing does.

    `names` are those of all its files, `begun` those of them that the listing cut. A file that
    several releases contain may be of any of them.
    """
    ours = [
        (image, releases.family(release).members)
        for image in images
        if image.role != "component-image"
        and image.judgement.verdict == "proven"
        and (release := image.judgement.release) is not None
    ]
    if not ours:
        return ""
    wholes = [{(one.within or one.file, one.version) for one in known} for _, known in ours]
    common = set.intersection(*wholes)
    inside = any(one.within for _, known in ours for one in known)
    versions = set.intersection(*({version for _, version in each} for each in wholes))
    if not versions or (inside and not common):
        return _mixes(ours)
    lacking = {
        whole: lacks
        for _, known in ours
        for one in known
        if (whole := one.within) is not None and (whole, one.version) in common
        for lacks in [_lacks(one, names | {each.file for _, all_ in ours for each in all_}, begun)]
    }
    if not lacking or not all(lacking.values()):
        return ""
    whole = min(lacking, key=lambda each: (len(lacking[each]), each))
    return f"it lacks {', '.join(lacking[whole])} of {whole}"


def _lacks(release: KnownRelease, names: set[str], begun: tuple[str, ...]) -> list[str]:
    """The files that a release contains and that are not there, by their names."""
    return sorted(
        name
        for name in {each.name for each in release.contains} - names
        if not (begun and name.startswith(begun))
    )


def _mixes(ours: list[tuple[Image, tuple[KnownRelease, ...]]]) -> str:
    """Which releases the files of a bank are of, where they are of several."""
    versions: dict[str, str] = {}
    for image, _ in ours:
        if image.version is not None:
            name = image.place.name
            versions[image.version] = min(versions.get(image.version, name), name)
    mixed = sorted(f"{name} is of {version}" for version, name in versions.items())
    if len(versions) < 2:
        mixed = sorted({one.within or one.file for _, known in ours for one in known[:1]})
    return f"it mixes {len(mixed)} releases: {', '.join(mixed)}"


def _lacks_by_version(
    bank: Bank, names: set[str], begun: tuple[str, ...], judge: Judge, member: Member
) -> str:
    """What a bank lacks of what the release of its version contains, or another bank of it has.

    Where no digest tells, that proves nothing, and it is no whole image either.
    """
    if bank.version is None or begun:
        return ""
    known = [one for one in judge.releases.by_version.get(bank.version, ()) if one.contains]
    lacking = [_lacks(one, names, begun) for one in known]
    # Only a release of which some file is here by its name can say what is missing.
    near: list[list[str]] = [
        lacks for one, lacks in zip(known, lacking, strict=True) if len(lacks) < len(one.contains)
    ]
    if near and all(near):
        lacks = min(near, key=lambda names: len(names))
        return f"it lacks {', '.join(lacks)}, which its version {bank.version} contains"
    for other in member.banks or ():
        if other.version == bank.version and len(other.places or ()) > len(bank.places or ()):
            return (
                f"it has {len(bank.places or ())} of the {len(other.places or ())} files that bank "
                f"{other.name} of the same version has"
            )
    return ""


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

    return min(judgements, key=_rank)


def _rank(one: Judgement) -> tuple[int, int, str]:
    return WORST_FIRST.index(one.verdict), -STRONGEST_FIRST.index(one.by or "sha512"), one.why


def _whole(judgements: list[Judgement]) -> Judgement:
    """Judge what is made of several files."""
    worst = _worst(judgements)
    if worst.verdict != "proven" or worst.by is None or len(judgements) == 1:
        return worst
    return replace(
        worst, why=f"its {len(judgements)} files are proven, the weakest by {TITLES[worst.by]}"
    )


def started_places(member: Member) -> Iterator[Place]:
    """The files that the next start reads of a member's boot settings: once and the order.

    The order is the saved one, or the live one where only that is known.
    """
    if member.boot is None:
        return
    entries: list[BootEntry | None] = [member.boot.once]
    entries += member.boot.order.effective or ()
    for entry in entries:
        if entry is not None and entry.place is not None:
            place = parse_place(entry.place)
            if not place.is_bank:
                yield place


def find_file(place: Place, member: Member) -> File | None:
    """The file at a place of this member, case-blind where the volume is.

    A file whose name the listing cut may be any that begins so; the first is found.
    """
    volume = member.volume(place.volume)
    if volume is None:
        return None
    for file in volume.files or ():
        if file.path == place.path:
            return file
    if volume.case_blind:
        wanted = place.path.casefold()
        found = next((f for f in volume.files or () if f.path.casefold() == wanted), None)
        if found is not None:
            return found
    return next(cut_files(place, member), None)


def cut_files(place: Place, member: Member) -> Iterator[File]:
    """The files of a member whose names the listing cut, and that may be the one at a place."""
    volume = member.volume(place.volume)
    for file in (volume.files if volume is not None else None) or ():
        if file.path_cut and volume is not None and _may_be(volume, file, place.path):
            yield file


def several_begin(place: Place, member: Member) -> str:
    """Why it is not known which file is at a place of whose name the listing shows the beginning.

    Empty where it is the only one, or no name is cut.
    """
    file = find_file(place, member)
    if file is None or not file.path_cut:
        return ""
    number = sum(1 for _ in cut_files(place, member))
    return f"{CUT}, and {number} files begin so" if number > 1 else ""


def _cut_file(volume: Volume, path: str, cut: Iterable[File]) -> File | None:
    return next((file for file in cut if _may_be(volume, file, path)), None)


def _may_be(volume: Volume, file: File, path: str) -> bool:
    """Whether a file whose name the listing cut may be the one of this path."""
    return volume.folded(path).startswith(volume.folded(file.path))


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
