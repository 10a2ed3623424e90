"""Random devices: everything that a snapshot can tell, in combinations that nobody would plan.

`Chance(seed)` makes one case: a device of one to three members with its sheet, catalog, policy and
what is asked of the planner. One seed is one case, for ever. What they hold: all layouts; places
across members; sets that share packages; banks that hold their image, and banks of files; FAT and
file systems that are not known; pins; components that are loaded from files and folders; once
entries; entries that nobody understands; broken, cut short, unlisted, withdrawn, doubted and
foreign images; and facts that are not known; rounded sizes, names that a listing cut, clocks that
are off; sticks that nobody can read, members that need files of their own, names that share their
bytes, archives, records of our own, and targets of every form.
"""

import dataclasses
from dataclasses import dataclass
from datetime import timedelta
from random import Random

from msgspec.structs import replace

from builders import (
    MIB,
    NOW,
    bank,
    device,
    digest,
    file_set,
    flash,
    image,
    plain,
    published,
    release,
    sheet,
)
from ovek.engine.releases import ReleaseIndex
from ovek.engine.verdicts import JudgedDevice, judge_device, judge_for
from ovek.model.catalog import Contained, Needs, Published, Release
from ovek.model.digest import Digests
from ovek.model.policy import Policy
from ovek.model.sheet import FIELDS, Question, Reading, Sheet
from ovek.model.snapshot import (
    Bank,
    Boot,
    BootEntry,
    Component,
    Config,
    Device,
    File,
    Hardware,
    Member,
    Setting,
    Volume,
)

VERSIONS = ("1.0", "2.0", "3.0")
PACKAGES = ("pkg/base", "pkg/radio", "pkg/web", "pkg/extra")
FULL = "sw-all-4.0.zip"  # a release that contains two files


def curious(kind: Sheet) -> Sheet:
    """The same sheet, asking for every fact there is."""
    questions = tuple(
        Question(
            name=fills,
            ask="x",
            fills=fills,
            template="Value X (x)\n\nStart\n",
            columns={f"C{at}": field for at, field in enumerate(sorted(fields))},
            fixed=dict.fromkeys(fields, "x"),
        )
        for fills, fields in FIELDS.items()
    )
    return replace(kind, reading=Reading(question=questions))


@dataclass(frozen=True)
class Case:
    """One random case: a device, what it is held against, and how much room is asked for."""

    seed: int
    device: Device
    sheet: Sheet
    catalog: list[Published]
    policy: Policy
    free: int
    keep: tuple[str, ...]
    shelf: frozenset[str]

    def judged(self, what: Device | None = None) -> JudgedDevice:
        """The device (or another) judged."""
        judge = judge_for(self.sheet, ReleaseIndex(self.catalog))
        return judge_device(what or self.device, judge)


class Blur:
    """What is less than exact of a device: rounded sizes, cut names, clocks, old digests, sticks.

    It has a chance of its own, so that a seed gives the same device as ever beneath it.
    """

    def __init__(self, seed: int) -> None:
        self.random = Random(f"blur {seed}")
        self.step = self.random.choice((None, None, None, 1024, MIB))
        self.length = self.random.choice((None, None, None, None, 7))

    def device(self, what: Device) -> Device:
        """The same device, blurred."""
        members = what.members and tuple(map(self.member, what.members))
        days = self.random.choice((0, 0, 0, -3, 40))
        clock = self.random.choice((None, NOW + timedelta(days=days)))
        reload_at = self.random.choice((None, None, NOW + timedelta(hours=3)))
        return replace(what, members=members, clock=clock, reload_at=reload_at)

    def member(self, one: Member) -> Member:
        """The same member, blurred."""
        return replace(one, volumes=one.volumes and tuple(map(self.volume, one.volumes)))

    def volume(self, one: Volume) -> Volume:
        """The same volume, blurred."""
        files = one.files and tuple(map(self.file, one.files))
        removable = self.random.choice((None, False, one.name == "card"))
        return replace(one, files=files, removable=removable)

    def file(self, one: File) -> File:
        """The same file, as a listing of less precision shows it."""
        if one.digests is not None and self.random.random() < 0.2:
            one = replace(one, digests_at=NOW - timedelta(days=self.random.randrange(60)))
        if self.step is not None and one.size is not None:
            size = -(-one.size // self.step) * self.step
            one = replace(one, size=size, size_step=self.step)
        if self.length is not None and len(one.path) > self.length:
            one = replace(one, path=one.path[: self.length], path_cut=True)
        return one


class Facts:
    """What one command may know and another not: which volumes are read, whose file is whose.

    As with `Blur`, a chance of its own leaves the device beneath as it was.
    """

    def __init__(self, seed: int) -> None:
        self.random = Random(f"facts {seed}")

    def often(self, share: float) -> bool:
        """True so often."""
        return self.random.random() < share

    def case(self, case: Case) -> Case:
        """The same case with these facts; half of all cases stay as they are."""
        if self.often(0.5):
            return case
        reads = self.random.choice((None, ("ext4",), ("ext4", "fat32")))
        return dataclasses.replace(
            case,
            sheet=replace(case.sheet, boot=replace(case.sheet.boot, reads=reads)),
            device=replace(
                case.device,
                members=case.device.members and self.members(case.device.members),
            ),
            catalog=self.catalog(case.catalog),
            policy=self.policy(case.policy),
        )

    def members(self, members: tuple[Member, ...]) -> tuple[Member, ...]:
        """The members: one of several may be the active one, and some are of another revision."""
        active = self.random.choice((None, *range(len(members))))
        found = []
        for at, one in enumerate(members):
            hardware = one.hardware
            if hardware is None and len(members) > 1 and self.often(0.5):
                hardware = Hardware(revision=self.random.choice(("B2", "C1", "C1")))
            role = None if active is None else "active" if at == active else "standby"
            volumes = one.volumes and tuple(map(self.volume, one.volumes))
            found.append(replace(one, role=role, hardware=hardware, volumes=volumes))
        return tuple(found)

    def volume(self, one: Volume) -> Volume:
        """A card may be a stick that the device cannot read; the wrong files may lie anywhere."""
        if one.name == "card" and self.often(0.5):
            one = replace(one, filesystem="exfat", removable=True)
        more = []
        if one.files is not None and self.often(0.3):
            more.append(plain("sw-2.0.zip", 90 * MIB, digests=Digests(md5=digest("sw-2.0.zip"))))
        if one.files is not None and self.often(0.3):
            known = Digests(md5=digest("sw-3.0.img"))
            more.append(image("3.0", path="upgrade.bin", digests=known))
        if one.files is not None and self.often(0.3):
            more.append(image("2.0-c", digests=Digests(md5=digest("sw-2.0-c.img"))))
        if one.files is not None and self.often(0.2):
            known = self.random.choice((None, Digests(md5=digest("house.img"))))
            more.append(plain("sw-5.0.img", 100 * MIB, digests=known))
        sets = one.sets
        if sets and self.often(0.3):  # a package that its set file names twice
            sets = tuple(replace(each, packages=each.packages + each.packages[:1]) for each in sets)
        files = one.files and (*one.files, *more)
        return replace(one, files=files, sets=sets)

    def catalog(self, known: list[Published]) -> list[Published]:
        """More releases: of another revision, in an archive, by another name, and our own."""
        more = []
        same = Digests(md5=digest("sw-3.0.img"), sha512=digest("sw-3.0.img", "sha512"))
        if self.often(0.4):
            fits = self.random.choice(((), ("SW*",), ("AP*",)))
            more.append(release("3.0", file="also-3.0.img", digests=same, hardware=fits))
        each_its_own = self.often(0.5)
        if each_its_own:
            more.append(release("2.0", file="sw-2.0-c.img", revisions=("C*",), hardware=("SW*",)))
        if self.often(0.5):
            inner = Contained(
                path="sw-2.0.img", size=100 * MIB, digests=Digests(md5=digest("sw-2.0.img"))
            )
            more.append(release("2.0", file="sw-2.0.zip", contains=(inner,), size=90 * MIB))
        found = [replace(each, release=self.release(each.release)) for each in known]
        if each_its_own:  # members of the other revision need the other file of the version
            found = [
                replace(each, release=replace(each.release, revisions=("B*",), hardware=("SW*",)))
                if each.release.file == "sw-2.0.img"
                else each
                for each in found
            ]
        found += published(*more, file="more.json")
        if self.often(0.5):
            own = Digests(md5=digest(self.random.choice(("house.img", "another.img"))))
            found += [
                replace(each, trust="own")
                for each in published(release("5.0", digests=own), file="own.json")
            ]
        return found

    def release(self, one: Release) -> Release:
        """A release, some of them recommended, some with needs."""
        if one.kind != "system-image" or one.status is not None:
            return one
        if self.often(0.2):
            one = replace(one, status=self.random.choice(("recommended", "current", "old")))
        if self.often(0.1):
            needs = self.random.choice(
                (
                    Needs(memory=8192 * MIB),
                    Needs(memory=1024 * MIB),
                    Needs(volume=600 * MIB),
                    Needs(volume=4096 * MIB, unpacked=300 * MIB),
                    Needs(components={"web": "10"}),
                )
            )
            one = replace(one, needs=needs)
        return one

    def policy(self, policy: Policy) -> Policy:
        """The policy, with a target of another form."""
        target = self.random.choice(
            (policy.target, "2.0", "2.0", "sw-2.0.img", "recommended", "7.7", "5.0")
        )
        return replace(policy, target=target, boot_from_removable=self.often(0.3))


class Chance:
    """Makes the case of one seed; `asks` is whether the sheet asks for every fact."""

    def __init__(self, seed: int, *, asks: bool | None = None) -> None:
        self.seed, self.random = seed, Random(seed)
        self.layout = self.random.choice(("files", "files", "banks", "paired"))
        self.ids = [str(at + 1) for at in range(self.random.choice((1, 1, 2, 2, 3)))]
        self.asks = self.often(0.5) if asks is None else asks

    def often(self, share: float) -> bool:
        """True so often."""
        return self.random.random() < share

    def one(self, *values):
        """One of these."""
        return self.random.choice(values)

    def case(self, *, blur: bool = True) -> Case:
        """The whole case; without `blur` its facts are exact."""
        kind = sheet(
            self.layout,
            fallback=self.one("none", "first-found" if self.layout == "files" else "other-bank"),
            on_bad_image=self.one("next", "halt"),
            default_volume=self.one("flash", None),
        )
        members = tuple(self.member(name) for name in self.ids)
        place, in_bank = None, None
        if self.layout != "files" and self.often(0.7):
            in_bank = self.one(*self.bank_names())
        elif self.often(0.8):
            place = self.place()
        what = device(
            *members,
            running=self.one(*VERSIONS, *VERSIONS, None),
            place=place,
            in_bank=in_bank,
            hardware=self.one(
                *[Hardware(model="SW10", revision="B2", memory=4096 * MIB)] * 4, Hardware()
            ),
            config=Config(unsaved_changes=self.often(0.2), backed_up_at=NOW - timedelta(days=9)),
        )
        what = replace(what, running=replace(what.running, variant=self.one("lite", "full", None)))
        what = Blur(self.seed).device(what) if blur else what
        case = Case(
            seed=self.seed,
            device=what,
            sheet=curious(kind) if self.asks else kind,
            catalog=self.catalog(),
            policy=Policy(
                reserve=self.one("0%", "2%"),
                keep=self.one(1, 2, 2, 3),
                pinned=self.one((), (), ("keep/*",), ("pkg/web",), ("SW-2.0.img",)),
                target=self.one(None, "2.0", "3.0"),
                allowed=self.one(None, None, ("1.*", "2.*")),
            ),
            free=self.random.randrange(0, 900) * MIB,
            keep=self.one((), (), ("*.dump",), ("SPARE/*",)),
            shelf=frozenset({digest("sw-2.0.img")}) if self.often(0.5) else frozenset(),
        )
        return Facts(self.seed).case(case) if blur else case

    def catalog(self) -> list[Published]:
        """Releases of every kind, some of them odd."""
        odd = {
            version: self.one(
                {}, {}, {}, {"status": "withdrawn"}, {"revisions": ("B*",)}, {"hardware": ("SW*",)},
                {"digest_doubtful": True}, {"variant": "lite"},
            )
            for version in VERSIONS
        }  # fmt: skip
        known = [release(version, **odd[version]) for version in VERSIONS]
        known.append(release("9.0", file="sw-9.0.img", hardware=("AP*",)))
        known += [
            release("2.0", file=path.partition("/")[2], kind="package", size=10 * MIB)
            for path in PACKAGES
        ]
        known.append(release("10.1", file="web-1.pkg", kind="component-image", size=MIB))
        inside = tuple(
            Contained(path=name, size=MIB, digests=Digests(md5=digest(name)))
            for name in ("kernel.bin", "root.bin")
        )
        known.append(release("4.0", file=FULL, contains=inside))
        other = []
        if self.often(
            0.3
        ):  # a second source that lists only the weak digest, or another strong one
            more = {} if self.often(0.5) else {"sha512": digest("other", "sha512")}
            weak = Digests(md5=digest("sw-2.0.img"), **more)
            other.append(release("2.0", file=self.one("sw-2.0.img", "again.img"), digests=weak))
        return [*published(*known), *published(*other, file="other.json")]

    def member(self, name: str) -> Member:
        """One member."""
        volumes = [self.volume("flash")]
        if self.often(0.3):
            volumes.append(self.volume("card"))
        own = self.one(None, None, *VERSIONS) if len(self.ids) > 1 else None
        hardware = Hardware(model="AP10") if self.often(0.05) else None
        return Member(
            id=name,
            running_version=own,
            hardware=hardware,
            volumes=tuple(volumes) if not self.often(0.02) else None,
            banks=self.banks(volumes[0]) if self.layout != "files" else (),
            boot=self.boot() if not self.often(0.03) else None,
            components=tuple(self.components()) if not self.often(0.05) else None,
        )

    def volume(self, name: str) -> Volume:
        """One volume, with its files and sets."""
        system = self.one("ext4", "ext4", "fat32", None)
        files = {file.path: file for file in self.files()}
        if system != "ext4":  # there, names that differ only in case cannot both be
            files = {path.casefold(): file for path, file in files.items()}
        chosen = list(files.values())
        self.random.shuffle(chosen)
        there = [path for path in PACKAGES if path in {file.path for file in chosen}]
        sets = []
        for at in self.random.sample(("a.set", "b.set"), self.one(0, 0, 1, 2)):
            packages = self.random.sample(PACKAGES, self.one(1, 2, 3))
            if there and self.often(0.7):
                packages = self.random.sample(there, self.random.randint(1, len(there)))
            sets.append(file_set(at, *packages))
            if self.often(0.9):
                chosen.append(plain(at, 1))
        state = self.one(*["ok"] * 12, "absent", "unreadable", None)
        if state in ("absent", "unreadable"):
            return Volume(name=name, state=state, filesystem=system)
        return flash(
            *chosen,
            name=name,
            state=state,
            filesystem=system,
            free=self.one(self.random.randrange(0, 700) * MIB, 0, None if self.often(0.1) else 0),
            capacity=self.one(10_000 * MIB, 10_000 * MIB, None),
            cluster=self.one(None, 4096, MIB),
            sets=tuple(sets) if not self.often(0.05) else None,
        )

    def files(self) -> list[File]:
        """Images good and bad, copies, leftovers and what must stay."""
        found = []
        for version in (*VERSIONS, "9.0"):
            if self.often(0.55):
                found.append(self.image(version))
            if self.often(0.15):
                found.append(self.image(version, path=f"spare/sw-{version}.img"))
            if self.often(0.1):
                found.append(self.image(version, path=f"keep/SW-{version}.IMG"))
        for path in PACKAGES:
            if self.often(0.4):
                name = path.partition("/")[2]
                known = self.one(Digests(md5=digest(name)), Digests(md5=digest(name)), None)
                found.append(plain(path, 10 * MIB, digests=known))
        for path in (
            "a.dump", "b.dump", "c.partial", "old.log", "new.log", "x.settings", "x.licence",
            "mystery", "web/index.html", "web/old.log", "keep/x.dump",
        ):  # fmt: skip
            if self.often(0.35):
                age = NOW - timedelta(days=1) if path == "new.log" else NOW - timedelta(days=400)
                size = self.random.randrange(0, 90) * MIB + self.one(0, 1, 4095)
                found.append(plain(path, size, modified=self.one(age, age, None)))
        if self.often(0.3):
            found.append(plain("web-1.pkg", digests=Digests(md5=digest("web-1.pkg"))))
        return found

    def image(self, version: str, **more) -> File:
        """An image: mostly as published."""
        name = f"sw-{version}.img"
        content = self.one(*[name] * 6, "flipped")
        known = Digests(md5=digest(content))
        if self.often(0.3):
            known = Digests(md5=digest(content), sha512=digest(content, "sha512"))
        if self.often(0.1):
            known = None
        size = self.one(*[100 * MIB] * 8, None)
        if content != name or known is None:
            size = self.one(100 * MIB, 60 * MIB, 0, None)
        if size == 0:
            known = None
        return image(
            version,
            digests=known,
            # A file with the digest of the whole has its size; an empty one has no image's digest.
            size=size,
            modified=self.one(NOW - timedelta(days=self.random.randrange(900)), None),
            **more,
        )

    def place(self) -> str:
        """A file as a member may name it: mostly an own one, some on another member."""
        name = self.one(
            *[f"sw-{version}.img" for version in VERSIONS] * 3,
            "a.set", "b.set", "spare/sw-2.0.img", "SW-1.0.IMG", "sw-9.0.img", "gone.img",
        )  # fmt: skip
        front = ""
        if self.often(0.25):
            front = self.one(*self.ids, "9") + "/"
        return f"{front}{self.one('flash', 'flash', 'flash', 'card')}:{name}"

    def entry(self) -> BootEntry:
        """An entry of a boot order."""
        if self.often(0.04):
            return BootEntry(raw="begin at the red one")
        if self.often(0.04):
            return BootEntry(remote="tftp://192.0.2.9/sw.img")
        place = self.place()
        return BootEntry(place=place, raw=place)

    def boot(self) -> Boot:
        """Boot settings."""
        saved = tuple(self.entry() for _ in range(self.one(0, 1, 2, 3)))
        live = saved if self.often(0.7) else tuple(self.entry() for _ in range(self.one(0, 1, 2)))
        once = None
        if self.often(0.15):
            once = self.entry() if self.layout == "files" else self.bank_entry()
        return Boot(
            mode=Setting(
                saved=self.one(*["listed"] * 6, "first-found", "hold", None),
                live=self.one("listed", None),
            ),
            order=Setting(
                saved=saved if not self.often(0.05) else None,
                live=live if not self.often(0.15) else None,
            ),
            default_bank=Setting(
                saved=self.one(*self.bank_names(), *self.bank_names(), "nowhere", None),
                live=self.one(*self.bank_names(), None),
            ),
            once=once,
            ignores_saved_config=Setting(live=False, saved=self.often(0.05)),
        )

    def bank_names(self) -> tuple[str, ...]:
        """The names of the banks of each member."""
        return ("trial", "committed") if self.layout == "paired" else ("a", "b", "c")

    def bank_entry(self) -> BootEntry:
        """A once entry for a bank, some of them another member's."""
        front = f"{self.one(*self.ids)}/" if self.often(0.3) else ""
        return BootEntry(place=f"{front}bank:{self.one(*self.bank_names())}")

    def banks(self, volume: Volume) -> tuple[Bank, ...] | None:
        """The banks of a member: of files in the paired layout, else either."""
        if self.often(0.03):
            return None
        of_files = self.layout == "paired" or self.often(0.4)
        names = self.bank_names() if self.layout == "paired" else ("a", "b", "c")[: self.one(2, 3)]
        found = []
        for name in names:
            if of_files:
                paths = [file.path for file in volume.files or ()]
                some = self.random.sample(paths, min(len(paths), self.one(0, 1, 1, 1, 2)))
                images = [path for path in paths if path.startswith(("sw-", "spare/"))]
                if images and self.often(0.8):
                    some = [self.random.choice(images)]
                places = tuple(f"{volume.name}:{path}" for path in some)
                state = self.one("ok", "ok", "ok", "ok", "bad", None)
                found.append(
                    Bank(name=name, state=state, places=places if not self.often(0.05) else None)
                )
            else:
                version = self.one(*VERSIONS, *VERSIONS, "9.0", None)
                found.append(self.own_bank(name, version))
        return tuple(found)

    def own_bank(self, name: str, version: str | None) -> Bank:
        """A bank that holds its image itself."""
        if version is None:
            return bank(name)
        content = self.one(*[f"sw-{version}.img"] * 6, "flipped", "web-1.pkg")
        known = self.one(Digests(md5=digest(content)), Digests(md5=digest(content)), None)
        state = self.one("ok", "ok", "ok", "ok", "bad", None)
        variant = self.one("lite", "full", None, None)
        return bank(name, version, digests=known, state=state, variant=variant)

    def components(self) -> list[Component]:
        """A loader, and what loads from files and folders, some on other members."""
        found = [
            Component(
                component="loader", version=self.one("9", "10", None),
                loads_from=self.one(*["itself"] * 9, None),
            )
        ]  # fmt: skip
        for name in ("web", "radio"):
            if self.often(0.25):
                front = f"{self.one(*self.ids)}/" if self.often(0.3) else ""
                path = self.one("web-1.pkg", "web/", "WEB/", "web", "spare/", "sw-3.0.img", "gone")
                place = f"{front}flash:{path}"
                version = self.one("9.0", "10.1", None)
                found.append(Component(component=name, version=version, loads_from=place))
        return found


def cases(first: int, number: int, *, asks: bool | None = None, blur: bool = True):
    """Go through so many cases, from a first seed on."""
    for seed in range(first, first + number):
        yield Chance(seed, asks=asks).case(blur=blur)
