"""Write the sample site (Skerrow Ferries, all made up) into the package's data.

Run it after a change: `python scripts/make_sample_site.py`; a test holds that the package's data
is what this script writes.
"""

import hashlib
import json
import re
import sys
from datetime import UTC, datetime, timedelta
from pathlib import Path

import msgspec
from msgspec.structs import replace

from ovek.files.atomic import write_whole
from ovek.files.snapshot import write_snapshot
from ovek.model.digest import Digests
from ovek.model.snapshot import (
    Bank,
    Boot,
    BootEntry,
    Component,
    Config,
    Device,
    File,
    FileSet,
    Hardware,
    Member,
    Running,
    Setting,
    Source,
    Volume,
)
from ovek.standin import oxwick

HERE = Path(__file__).parent.parent / "src/ovek/demo/site"
TAKEN = datetime(2026, 11, 20, 21, 14, tzinfo=UTC)
MIB = 2**20

# File name: size in bytes, version, variant, kind, fits, status, track, published.
RELEASES: dict[str, list[tuple]] = {
    "oxwick": [
        ("ox40-full-7.2.5.img", 588_251_136, "7.2.5", "full", "system-image", "old"),
        ("ox40-full-7.3.3.img", 603_979_776, "7.3.3", "full", "system-image", "old"),
        ("ox40-full-7.4.1.img", 617_611_264, "7.4.1", "full", "system-image", "current"),
        ("ox40-full-7.4.2.img", 618_659_840, "7.4.2", "full", "system-image", "recommended"),
        ("ox40-full-7.5.0.img", 641_728_512, "7.5.0", "full", "system-image", "current"),
        ("ox40-lite-7.3.3.img", 20_971_520, "7.3.3", "lite", "system-image", "old"),
        ("ox40-lite-7.4.2.img", 21_757_952, "7.4.2", "lite", "system-image", "recommended"),
        ("ox41-b-7.4.1.img", 617_611_264, "7.4.1", None, "system-image", "current"),
        ("ox41-c-7.4.1.img", 621_805_568, "7.4.1", None, "system-image", "current"),
        ("ox41-b-7.4.2.img", 618_659_840, "7.4.2", None, "system-image", "recommended"),
        ("ox41-c-7.4.2.img", 622_854_144, "7.4.2", None, "system-image", "recommended"),
        ("base-7.4.2.oxp", 402_653_184, "7.4.2", "full", "package", "recommended"),
        ("radio-7.4.2.oxp", 104_857_600, "7.4.2", "full", "package", "recommended"),
        ("web-7.4.2.oxp", 62_914_560, "7.4.2", "full", "package", "recommended"),
        ("web-2.5.pkg", 9_175_040, "2.5", None, "component-image", "old"),
        ("web-2.6.pkg", 9_437_184, "2.6", None, "component-image", "current"),
        ("ldr-10.1.12.img", 4_194_304, "10.1.12", None, "component-image", "current"),
        ("card-4.9.pkg", 12_582_912, "4.9", None, "component-image", "current"),
    ],
    "tolvane": [
        ("tv8_5.1.0.tvf", 37_748_736, "5.1.0", None, "system-image", "old"),
        ("tv8_5.1.4.tvf", 38_273_024, "5.1.4", None, "system-image", "recommended"),
    ],
    "merrowby": [
        ("mw-core-12.2.pack", 1_203_765_248, "12.2", None, "system-image", "current"),
        ("mw-core-12.3a.pack", 1_211_105_280, "12.3a", None, "system-image", "recommended"),
    ],
    "pellard": [
        ("pl9-3.8.11.bundle", 428_867_584, "3.8.11", None, "system-image", "current"),
        ("pl9-3.9.2.bundle", 431_489_024, "3.9.2", None, "system-image", "recommended"),
    ],
}
# What only some hardware needs of a release, in rows of their own.
FOR_SOME = {
    "ox40-full-7.4.2.img": [
        {
            "hardware": ["OX40-C6"],
            "needs": {"components": {"boot-loader": "10.1.10", "line-card": "4.9"}},
        },
        {
            "hardware": ["OX40-8W"],
            "needs": {"components": {"boot-loader": "10.1.10", "web": "2.6"}},
        },
    ],
}
# What a release can be loaded from, what it needs of parts, and what it brings.
MORE: dict[str, dict] = {
    "ox40-full-7.4.2.img": {
        "from": ["7.3", "7.4"],
        "needs": {"components": {"boot-loader": "10.1.10"}},
        "minutes": 12,
    },
    "web-2.5.pkg": {"carries": {"web": "2.5"}, "minutes": 3},
    "web-2.6.pkg": {"carries": {"web": "2.6"}, "minutes": 3},
    "ldr-10.1.12.img": {"carries": {"boot-loader": "10.1.12"}, "minutes": 4},
    "card-4.9.pkg": {"carries": {"line-card": "4.9"}, "minutes": 6},
}
# Boards of one model that need files of their own.
for _board in "bc":
    for _version in ("7.4.1", "7.4.2"):
        MORE[f"ox41-{_board}-{_version}.img"] = {
            "hardware": ["OX41-*"], "revisions": [f"{_board.upper()}*"], "minutes": 12,
        }  # fmt: skip
FITS = {"oxwick": "OX40-*", "tolvane": "TV8-*", "merrowby": "MW*", "pellard": "PL9*"}
SIZES = {row[0]: row[1] for rows in RELEASES.values() for row in rows}


def digest(algorithm: str, name: str) -> str:
    """A made-up digest for a name."""
    return hashlib.new(algorithm, f"Skerrow Ferries sample: {name}".encode()).hexdigest()


def digests(name: str, *algorithms: str) -> Digests:
    return Digests(**{algorithm: digest(algorithm, name) for algorithm in algorithms})


def days_ago(days: float) -> datetime:
    return TAKEN - timedelta(days=days)


def image(
    name: str,
    *,
    folder: str = "",
    by: tuple[str, ...] = ("sha512",),
    content: str | None = None,
    size: int | None = None,
    age: float = 90,
    measured: float | None = None,
) -> File:
    """A published file as it lies on a volume; `content` names what is really in it.

    Its digest was `measured` so many days ago, where it is carried over.
    """
    return File(
        path=folder + name,
        size=SIZES[name] if size is None else size,
        modified=days_ago(age),
        digests=digests(content or name, *by) if by else None,
        digests_at=None if measured is None else days_ago(measured),
    )


def plain(path: str, size: int, age: float = 40) -> File:
    return File(path=path, size=size, modified=days_ago(age))


def entries(*places: str) -> tuple[BootEntry, ...]:
    return tuple(
        BootEntry(remote=place, raw=place) if "://" in place else BootEntry(place=place, raw=place)
        for place in places
    )


def volume(name: str, files: list[File], capacity: int, *, cluster: int = 4096, **more) -> Volume:
    """A volume whose free space is what its files leave."""
    used = sum(-(-file.size // cluster) * cluster for file in files)
    more.setdefault("filesystem", "ext4")
    more.setdefault("sets", ())
    if name == "flash":
        more.setdefault("removable", False)
    return Volume(
        name=name,
        state="ok",
        capacity=capacity,
        free=capacity - used,
        cluster=cluster,
        files=tuple(files),
        **more,
    )


HOUSEKEEPING = [
    plain("site.settings", 48_640, 12),
    plain("ports.licence", 2_048, 700),
    plain("keys/host.key", 1_679, 700),
]


def own(component: str, version: str, **more) -> Component:
    """A component with a flash of its own."""
    return Component(component=component, version=version, loads_from="itself", **more)


LOADER = own("boot-loader", "10.1.12")
WEB = Component(component="web", loads_from="flash:web-2.6.pkg")


def switch_member(
    files: list[File],
    order: list[str],
    *,
    id_: str = "1",
    live: list[str] | None = None,
    capacity: int = 2_000 * MIB,
    volumes: tuple[Volume, ...] = (),
    mode: str = "listed",
    ignores: bool = False,
    **more,
) -> Member:
    """A member of an Oxwick switch."""
    more.setdefault("components", (LOADER,))
    sets = more.pop("sets", ())
    return Member(
        id=id_,
        volumes=(volume("flash", files + HOUSEKEEPING, capacity, sets=sets), *volumes),
        boot=Boot(
            mode=Setting(live=mode, saved=mode),
            order=Setting(live=entries(*(live or order)), saved=entries(*order)),
            ignores_saved_config=Setting(live=ignores, saved=ignores),
        ),
        **more,
    )


def bank(name: str, release: str | None, version: str | None = None, **more) -> Bank:
    """A bank that holds a release; None is an empty one."""
    if release is None:
        return Bank(name=name, state=more.get("state", "empty"))
    more.setdefault("digests", digests(release, "md5"))
    return Bank(name=name, state="ok", version=version, size=SIZES[release], **more)


def banked(default: str, *banks: Bank, live: str | None = None) -> tuple[Member, ...]:
    boot = Boot(default_bank=Setting(live=live or default, saved=default))
    return (Member(id="1", banks=banks, boot=boot),)


def paired(
    trial: str,
    committed: str,
    *,
    supervisors: tuple[str, ...] = ("1",),
    once: str | None = None,
    capacity: int = 8_000 * MIB,
    beside: tuple[File, ...] = (),
) -> tuple[Member, ...]:
    """A Merrowby router with one image in each directory of each supervisor."""
    files = [
        image(trial, folder="trial/", by=("sha256",), age=20),
        image(committed, folder="committed/", by=("sha256",), age=200),
        plain("site.settings", 92_160, 9),
        plain("edge.licence", 4_096, 700),
        *beside,
    ]
    return tuple(
        Member(
            id=each,
            role=None if len(supervisors) < 2 else "active" if each == "1" else "standby",
            volumes=(volume("disk", files, capacity, cluster=65536, sets=None),),
            banks=(
                Bank(name="committed", state="ok", places=(f"disk:committed/{committed}",)),
                Bank(name="trial", state="ok", places=(f"disk:trial/{trial}",)),
            ),
            boot=Boot(once=BootEntry(place=once) if once else None),
        )
        for each in supervisors
    )


def device(
    name: str,
    sheet: str,
    place: str,
    model: str,
    members: tuple[Member, ...] | None,
    version: str,
    at: str | None = None,
    *,
    in_bank: str | None = None,
    variant: str | None = None,
) -> Device:
    taken, switch = TAKEN + timedelta(seconds=len(name)), sheet == "oxwick-40"
    behind = timedelta(days=3 if name == "heron-bridge" else 0)
    alone = members is None or len(members) == 1
    return Device(
        format="ovek.snapshot/1",
        device=name,
        sheet=sheet,
        site=place,
        taken_at=taken,
        clock=taken - behind if switch else None,
        hardware=Hardware(
            model=model,
            revision="B2",
            memory=4096 * MIB,
            serial=serial(name, "1") if switch and alone else None,
        ),
        source=Source(kind="sample"),
        running=Running(version=version, variant=variant, place=at, bank=in_bank),
        members=members and tuple(told(each, name, len(members) > 1, version) for each in members),
        config=Config(unsaved_changes=False, backed_up_at=days_ago(2)),
    )


def serial(device_: str, member: str) -> str:
    """A made-up serial number."""
    return "SKF" + digest("md5", f"{device_} {member}")[:7].upper()


def told(member: Member, device_: str, several: bool, version: str) -> Member:
    """A stack tells of each of its members what it runs, and its serial number."""
    if not several:
        return member
    hardware = replace(member.hardware or Hardware(), serial=serial(device_, member.id))
    return replace(member, running_version=member.running_version or version, hardware=hardware)


def fleet() -> list[Device]:
    """The sample devices: healthy ones, and each planted trouble once or more."""
    full = "ox40-full-{}.img".format
    flash = "flash:ox40-full-{}.img".format
    new, old = image(full("7.4.2"), age=30), image(full("7.4.1"), age=180)
    ox, tv, mw, pl = "oxwick-40", "tolvane-8", "merrowby-m", "pellard-9"
    arle, brack, holm, skarn = "Port Arle", "Brackness", "Inner Holm", "Skarn Point"
    set_files = [
        image("base-7.4.2.oxp", folder="pkg/", age=30),
        image("radio-7.4.2.oxp", folder="pkg/", age=30),
        image("web-7.4.2.oxp", folder="pkg/", age=30),
        plain("system.set", 512, 30),
    ]
    system_set = FileSet(
        set_file="system.set",
        packages=("pkg/base-7.4.2.oxp", "pkg/radio-7.4.2.oxp", "pkg/web-7.4.2.oxp"),
    )
    web = image("web-2.6.pkg", age=180)
    return [
        # Healthy: recommended release proven, a proven one to go back to.
        device("arle-core", ox, arle, "OX40-24F",
               (switch_member([old, new, web], [flash("7.4.2"), flash("7.4.1")],
                              components=(LOADER, WEB)),),
               "7.4.2", flash("7.4.2")),
        # A stack whose third member was left behind.
        device("arle-stack", ox, arle, "OX40-48P",
               (switch_member([old, new], [flash("7.4.2")], role="active"),
                switch_member([old, new], [flash("7.4.2")], id_="2", role="standby"),
                switch_member([old], [flash("7.4.1")], id_="3", role="member",
                              running_version="7.4.1")),
               "7.4.2", flash("7.4.2")),
        # The order names a file that was deleted; the loader would find an old image instead.
        device("arle-quay", ox, arle, "OX40-24P",
               (switch_member([image(full("7.2.5"), age=500), old], [flash("7.4.2")]),),
               "7.4.1", flash("7.4.1")),
        device("arle-dist-1", tv, arle, "TV8-48",
               banked("primary", bank("primary", "tv8_5.1.4.tvf", "5.1.4"),
                      bank("secondary", "tv8_5.1.0.tvf", "5.1.0")),
               "5.1.4", in_bank="primary"),
        # The second bank is bad: no way back.
        device("arle-dist-2", tv, arle, "TV8-48",
               banked("primary", bank("primary", "tv8_5.1.4.tvf", "5.1.4"),
                      bank("secondary", None, state="bad")),
               "5.1.4", in_bank="primary"),
        device("arle-wifi", pl, arle, "PL920",
               banked("2", bank("1", "pl9-3.8.11.bundle", "3.8.11"),
                      bank("2", "pl9-3.9.2.bundle", "3.9.2"), bank("3", None)),
               "3.9.2", in_bank="2"),
        device("arle-edge", mw, arle, "MW2-1G",
               paired("mw-core-12.3a.pack", "mw-core-12.3a.pack"),
               "12.3a", "disk:committed/mw-core-12.3a.pack"),
        # A transfer was cut off, and the order names its remains first.
        device("brack-core", ox, brack, "OX40-24F",
               (switch_member([old, image(full("7.4.2"), size=601_882_624, by=("md5",),
                                          content="cut off", age=3)],
                              [flash("7.4.2"), flash("7.4.1")]),),
               "7.4.1", flash("7.4.1")),
        # The new order was never saved.
        device("brack-hall", ox, brack, "OX40-24P",
               (switch_member([old, new], [flash("7.4.1")],
                              live=[flash("7.4.2"), flash("7.4.1")]),),
               "7.4.1", flash("7.4.1")),
        # The only image is not what was published.
        device("brack-pier", ox, brack, "OX40-8P",
               (switch_member([image(full("7.4.2"), content="flipped bits", age=3)],
                              [flash("7.4.2")]),),
               "7.4.1", flash("7.4.1")),
        # A stack whose members need different plans to make room.
        device("brack-stack", ox, brack, "OX40-48P",
               (switch_member([old, plain("crash/unit-1.dump", 300 * MIB, 90)], [flash("7.4.1")],
                              capacity=1_520 * MIB, role="active"),
                switch_member([old, image(full("7.2.5"), age=700), image(full("7.3.3"), age=400)],
                              [flash("7.4.1")], id_="2", capacity=2_000 * MIB, role="standby"),
                switch_member([old], [flash("7.4.1")], id_="3", role="member")),
               "7.4.1", flash("7.4.1")),
        # The default bank is altered and this loader halts at a bad image.
        device("brack-wifi", pl, brack, "PL910",
               banked("2", bank("1", "pl9-3.8.11.bundle", "3.8.11"),
                      bank("2", "pl9-3.9.2.bundle", "3.9.2", digests=digests("bad copy", "md5"))),
               "3.8.11", in_bank="1"),
        # Trial and committed differ: the trial was never committed.
        device("brack-edge", mw, brack, "MW2-1G",
               paired("mw-core-12.3a.pack", "mw-core-12.2.pack"),
               "12.3a", "disk:trial/mw-core-12.3a.pack"),
        # An image that nobody publishes, on a flash that is nearly full.
        device("holm-ramp", ox, holm, "OX40-24P",
               (switch_member(
                   [File(path="ox40-full-7.5.0b3.img", size=640_679_936, modified=days_ago(60),
                         digests=digests("trial build", "sha512")),
                    image(full("7.3.3"), age=400),
                    plain("crash/holm-ramp-0911.dump", 268_435_456, 70),
                    plain("ox40-full-7.4.2.img.partial", 411_041_792, 6)],
                   ["flash:ox40-full-7.5.0b3.img"], capacity=1_888 * MIB),),
               "7.5.0b3", "flash:ox40-full-7.5.0b3.img"),
        # Started from a set of packages.
        device("holm-office", ox, holm, "OX40-24F",
               (switch_member([*set_files, image(full("7.4.1"), age=180)],
                              ["flash:system.set", flash("7.4.1")], sets=(system_set,)),),
               "7.4.2", "flash:system.set"),
        # Fifteen files; of what may go, one pair alone frees 300 MiB to the byte.
        device("holm-yard", ox, holm, "OX40-24F",
               (switch_member(
                   [new, old, plain("today.log", 4 * MIB, 1),
                    *(plain(f"crash/yard-{number:02}.dump", size * MIB, 300 - number)
                      for number, size in enumerate((190, 185, 150, 131, 120, 110, 96, 80, 75)))],
                   [flash("7.4.2"), flash("7.4.1")], capacity=2_420 * MIB + 57_344),),
               "7.4.2", flash("7.4.2")),
        # No digest was read.
        device("holm-dist", tv, holm, "TV8-24",
               banked("primary", bank("primary", "tv8_5.1.4.tvf", "5.1.4", digests=None),
                      bank("secondary", None)),
               "5.1.4", in_bank="primary"),
        # A small flash with much to tidy up.
        device("gannet-bridge", ox, "MV Gannet", "OX40-8P",
               (switch_member(
                   [image("ox40-lite-7.4.2.img", by=("md5",), age=50),
                    image("ox40-lite-7.3.3.img", by=("md5",), age=400),
                    File(path="ox40-lite-7.2.9.img", size=20_447_232, modified=days_ago(900),
                         digests=digests("lite 7.2.9", "md5")),
                    image("ox40-lite-7.4.2.img", folder="spare/", by=("md5",), age=49),
                    plain("crash/gannet-0302.dump", 14_680_064, 260),
                    plain("old-start.log", 2_097_152, 300),
                    plain("ox40-lite-7.4.2.img.partial", 17_825_792, 51)],
                   ["flash:ox40-lite-7.4.2.img"], capacity=122 * MIB),),
               "7.4.2", "flash:ox40-lite-7.4.2.img"),
        # A typing slip in the order: the image is there, under its right name.
        device("arle-crane", ox, arle, "OX40-24P",
               (switch_member([old, new], ["flash:ox40-full-7.4.2.imgg", flash("7.4.1")]),),
               "7.4.1", flash("7.4.1")),
        # Short of room, and the order still names what broke: out with the entry, then the file.
        device("holm-locker", ox, holm, "OX40-24F",
               (switch_member([old, image(full("7.3.3"), content="flipped bits", age=300)],
                              [flash("7.4.1"), flash("7.3.3")], capacity=1_500 * MIB),),
               "7.4.1", flash("7.4.1")),
        # So old that the way leads over a release between, and needs a newer loader on it.
        device("brack-slip", ox, brack, "OX40-24F",
               (switch_member([image(full("7.2.5"), age=700)], [flash("7.2.5")],
                              components=(own("boot-loader", "10.0.3"),)),),
               "7.2.5", flash("7.2.5")),
        # Two cards: the one in bay 3 is too old for the release that is wanted.
        device("arle-chassis", ox, arle, "OX40-C6",
               (switch_member([old, image(full("7.3.3"), age=400)],
                              [flash("7.4.1"), flash("7.3.3")], components=(
                                  LOADER,
                                  own("line-card", "4.9", slot="2"),
                                  own("line-card", "4.0", slot="3"))),),
               "7.4.1", flash("7.4.1")),
        # Another variant of the same release starts next.
        device("holm-gate", ox, holm, "OX40-24F",
               (switch_member([new, image("ox40-lite-7.4.2.img", age=9)],
                              ["flash:ox40-lite-7.4.2.img", flash("7.4.2")]),),
               "7.4.2", flash("7.4.2"), variant="full"),
        # A clock three days behind, and so small a flash that only the running image could make
        # room.
        device("heron-bridge", ox, "MV Heron", "OX40-8P",
               (switch_member([image("ox40-lite-7.3.3.img", age=600, measured=8)],
                              ["flash:ox40-lite-7.3.3.img"], capacity=36 * MIB),),
               "7.3.3", "flash:ox40-lite-7.3.3.img"),
        # Half read over the satellite link: the boot settings are missing.
        device("petrel-bridge", ox, "MV Petrel", "OX40-8P",
               (Member(id="1", volumes=(volume("flash", [image("ox40-lite-7.4.2.img", by=())],
                                               122 * MIB),)),),
               "7.4.2", "flash:ox40-lite-7.4.2.img"),
        # The image that runs was deleted; a reload starts another release.
        device("tern-bridge", ox, "MV Tern", "OX40-8P",
               (switch_member([image("ox40-lite-7.4.2.img", age=4)],
                              ["flash:ox40-lite-7.4.2.img"], capacity=122 * MIB),),
               "7.3.3", "flash:ox40-lite-7.3.3.img"),
        device("tern-wifi", pl, "MV Tern", "PL910",
               banked("1", bank("1", "pl9-3.9.2.bundle", "3.9.2"),
                      bank("2", "pl9-3.8.11.bundle", "3.8.11")),
               "3.9.2", in_bank="1"),
        # The new image is larger than the old one, and the disk of the pair is nearly full.
        device("skarn-edge", mw, skarn, "MW2-1G",
               paired("mw-core-12.2.pack", "mw-core-12.2.pack", capacity=2_600 * MIB,
                      beside=(plain("faults/skarn-edge.dump", 300 * MIB, 90),)),
               "12.2", "disk:committed/mw-core-12.2.pack"),
        # Both banks are to hold one release.
        device("skarn-dist", tv, skarn, "TV8-24",
               banked("primary", bank("primary", "tv8_5.1.0.tvf", "5.1.0"),
                      bank("secondary", "tv8_5.1.0.tvf", "5.1.0")),
               "5.1.0", in_bank="primary"),
        # A component that is loaded from a file, which is too old for what is wanted.
        device("skarn-kiosk", ox, skarn, "OX40-8W",
               (switch_member([old, image("web-2.5.pkg", age=180)], [flash("7.4.1")], components=(
                   LOADER,
                   Component(component="web", version="2.5", loads_from="flash:web-2.5.pkg"))),),
               "7.4.1", flash("7.4.1")),
        # A stack of which one unit is prepared.
        device("skarn-stack", ox, skarn, "OX40-24P",
               (switch_member([old], [flash("7.4.1")], role="active"),
                switch_member([old, new], [flash("7.4.2"), flash("7.4.1")], id_="2",
                              role="standby")),
               "7.4.1", flash("7.4.1")),
        # What is wanted lies on a stick.
        device("skarn-shed", ox, skarn, "OX40-24P",
               (switch_member([old], [flash("7.4.1")], volumes=(
                   volume("stick", [new], 3_800 * MIB, removable=True),)),),
               "7.4.1", flash("7.4.1")),
        # After a lost password the saved configuration is ignored still.
        device("skarn-mast", ox, skarn, "OX40-24F",
               (switch_member([old, new], [flash("7.4.2"), flash("7.4.1")], ignores=True),),
               "7.4.2", flash("7.4.2")),
        # A stack of two revisions, each of which needs a file of its own.
        device("skarn-deck", ox, skarn, "OX41-24M",
               (switch_member([image("ox41-b-7.4.1.img", age=180)], ["flash:ox41-b-7.4.1.img"],
                              role="active", hardware=Hardware(revision="B2")),
                switch_member([image("ox41-c-7.4.1.img", age=180)], ["flash:ox41-c-7.4.1.img"],
                              id_="2", role="standby", hardware=Hardware(revision="C1"))),
               "7.4.1", "1/flash:ox41-b-7.4.1.img"),
        # Two supervisors that run a trial, which nobody committed.
        device("skarn-gate", mw, skarn, "MW2-2S",
               paired("mw-core-12.3a.pack", "mw-core-12.2.pack", supervisors=("1", "2")),
               "12.3a", "disk:trial/mw-core-12.3a.pack"),
    ]  # fmt: skip


def fortnight_ago(devices: list[Device]) -> list[Device]:
    """The terminal at Port Arle before the upgrade that left a member of the stack behind."""
    earlier = []
    flash = "flash:ox40-full-{}.img".format
    old, new = image("ox40-full-7.4.1.img", age=180), image("ox40-full-7.4.2.img", age=30)
    web = image("web-2.6.pkg", age=180)
    for one in devices:
        members = one.members
        if one.device == "arle-core":
            members = (switch_member([old, web], [flash("7.4.1")], components=(LOADER, WEB)),)
        elif one.device == "arle-stack":
            order = [flash("7.4.1")]
            members = (
                switch_member([old, new], order, role="active"),
                switch_member([old, new], order, id_="2", role="standby"),
                switch_member([old], order, id_="3", role="member"),
            )
        elif one.device == "tern-wifi":
            continue
        running = one.running
        if one.device in ("arle-core", "arle-stack"):
            running = Running(version="7.4.1", place=flash("7.4.1"))
        before = timedelta(days=14)
        clock = one.clock and one.clock - before
        taken = one.taken_at - before
        earlier.append(
            msgspec.structs.replace(
                one, members=members, running=running, taken_at=taken, clock=clock
            )
        )
    return earlier


def catalog(vendor: str) -> bytes:
    releases = []
    for name, size, version, variant, kind, status in RELEASES[vendor]:
        release = {
            "file": name,
            "size": size,
            "digests": {a: digest(a, name) for a in ("md5", "sha256", "sha512")},
            "version": version,
            "kind": kind,
            "hardware": [FITS[vendor]],
            "status": status,
            "track": "feature" if version == "7.5.0" else "maintenance",
            "published": "2026-02-11",
        }
        if variant:
            release["variant"] = variant
        release.update(MORE.get(name, {}))
        # The narrower rows first: the first that fits counts.
        releases += [release | some for some in FOR_SOME.get(name, ())]
        releases.append(release)
    catalog = {
        "format": "ovek.catalog/1",
        "publisher": vendor.capitalize(),
        "source": "release page, saved 2026-11-02",
        "releases": releases,
    }
    return (json.dumps(catalog, indent=2) + "\n").encode()


# The serial numbers that the inventory holds; a member of one stack was swapped since.
STACKS = {
    "arle-stack": [serial("arle-stack", each) for each in "123"],
    "brack-stack": [serial("brack-stack", "1"), "SKF0A11BAD", serial("brack-stack", "3")],
}
FLEET_HEAD = """\
# The fleet of Skerrow Ferries. Everything here is made up.
format = "ovek.fleet/1"
name = "Skerrow Ferries"
lists = ["addresses.csv"]      # host, port and user of each device

[site."MV Heron"]
link = "512 kbit/s"            # a satellite: all that is aboard shares it

[site."MV Tern"]
link = "512 kbit/s"
"""

POLICY = """\
# What Skerrow Ferries wants of its devices.
format = "ovek.policy/1"

target = "recommended"     # the release that the publisher recommends for the hardware
track = "maintenance"      # fixes only
keep = 2                   # system images that stay on each member
reserve = "10%"            # free space that a volume keeps
pinned = ["keys/*"]        # never offered for deletion
snapshot_age = "20000d"    # a sample does not grow old
backup_age = "20000d"
digest_age = "20000d"
boot_digest_age = "20000d"

canaries = ["arle-quay"]   # goes first
apart = [["arle-core", "arle-stack"], ["brack-*"]]    # never down together

[[reload_in]]
site = "MV *"
when = "in port"           # only people can tell

[[reload_in]]
site = "Port Arle"
days = "sat"
from = "01:00"
to = "04:00"

[[reload_in]]
site = "Skarn Point"
days = "sun"
from = "02:00"
to = "05:00"

[[reload_in]]
site = "Brackness"
days = ["tue", "thu"]
from = "23:30"
to = "00:15"               # past midnight

[[want]]
sheet = "tolvane-8"
bank_rule = "previous"     # the second bank keeps the release before

[[want]]
device = "skarn-dist"
bank_rule = "match"        # both banks hold the same

[[want]]
device = "holm-ramp"
target = "7.4.2"           # away from the trial build
"""

WAIVERS = """\
# Findings that somebody has accepted.
format = "ovek.waivers/1"

[[waiver]]
rule = "image-unlisted"
device = "holm-ramp"
place = "flash:ox40-full-7.5.0b3.img"
by = "A. Flett, operations"
why = "trial build for the new ramp cameras"
until = 2031-03-31

[[waiver]]
rule = "bank-empty"
device = "arle-wifi"
by = "A. Flett, operations"
why = "two banks are enough here"
until = 2031-03-31
"""

DIGEST_LIST_NOTE = "# Digests that came with the last shipment of sticks.\n"


def fleet_toml(devices: list[Device]) -> bytes:
    rows = [(one.device, one.sheet, one.site) for one in devices]
    text = FLEET_HEAD
    for name, sheet, place in rows:
        text += f'\n[[device]]\nname = "{name}"\nsheet = "{sheet}"\nsite = "{place}"\n'
        text += f'role = "{role_of(name)}"\n'
        if name in STACKS:
            serials = ", ".join(f'"{each}"' for each in STACKS[name])
            text += f"serials = [{serials}]    # of its members, from the inventory\n"
    return text.encode()


# What a device does, by what its name ends in; all others are where people are plugged in.
ROLES = {"core": "core", "stack": "core", "dist": "distribution", "wifi": "wireless",
         "edge": "edge", "bridge": "bridge", "chassis": "core"}  # fmt: skip


def role_of(name: str) -> str:
    return ROLES.get(name.rstrip("-12").rpartition("-")[2], "access")


LANGUAGES = {
    "oxwick-40": "oxwick",
    "tolvane-8": "tolvane",
    "merrowby-m": "merrowby",
    "pellard-9": "pellard",
}


def at_sea() -> Device:
    """A ship that was out of reach when the sample snapshot was taken, and is so still."""
    return device("kittiwake-bridge", "oxwick-40", "MV Kittiwake", "OX40-8P",
                  (switch_member([image("ox40-lite-7.4.2.img", age=4)],
                                 ["flash:ox40-lite-7.4.2.img"], capacity=122 * MIB),),
                  "7.4.2", "flash:ox40-lite-7.4.2.img")  # fmt: skip


def standins(devices: list[Device]) -> bytes:
    """The stand-ins: the fleet as it is now. Since the snapshot one store was written anew, and an
    image rotted.
    """
    lines = []
    for one in [*devices, at_sea()]:
        plain_device = msgspec.to_builtins(one)
        for member in plain_device["members"]:
            for each in member.get("volumes", ()):
                for file in each["files"]:
                    file.pop("digests_at", None)  # when it was measured is no fact of the device
        if one.device == "holm-office":
            for file in plain_device["members"][0]["volumes"][0]["files"]:
                file["modified"] = days_ago(1).isoformat()
        if one.device == "gannet-bridge":  # it rotted since: same name, same size, same time
            rotten = plain_device["members"][0]["volumes"][0]["files"][1]
            rotten["digests"] = {"md5": digest("md5", "a few flipped bits")}
        state = {
            "format": "ovek.standin/1",
            "language": LANGUAGES[one.sheet],
            "device": plain_device,
            "digest_rate": 500 * MIB,
        }
        if one.device == "kittiwake-bridge":
            state["fault"] = "closed"
        lines.append(msgspec.json.encode(state) + b"\n")
    return b"".join(lines)


def server() -> bytes:
    """What the file server has: every release, as it was published."""
    found = []
    for rows in RELEASES.values():
        for name, size, version, variant, kind, _ in rows:
            image_ = {
                "file": name,
                "size": size,
                "digests": {each: digest(each, name) for each in ("md5", "sha256", "sha512")},
                "version": version,
                "kind": kind,
            }
            image_ |= {"variant": variant} if variant else {}
            image_ |= {key: MORE[name][key] for key in ("carries",) if key in MORE.get(name, {})}
            found.append(image_)
    return (json.dumps(found, indent=1) + "\n").encode()


def addresses(devices: list[Device]) -> bytes:
    """Addresses from the documentation ranges (RFC 5737)."""
    rows = "".join(f"{one.device},192.0.2.{at},22,reader\n" for at, one in enumerate(devices, 10))
    return f"name,host,port,user\n{rows}".encode()


def session(one: Device) -> bytes:
    """A saved session with a stack; it was asked too little, and one answer is odd."""
    asked = ["tell system", "tell stack", "tell stores 1", "tell files 1 flash", "tell start 1"]
    text = oxwick.BANNER
    for typed in asked:
        answer = "".join(oxwick.answer(one, typed.split(), 1))
        text += f"{oxwick.prompt(one)}{typed}\n{answer}"
    text = text.replace("Just once    nothing", "Just once    nothing\nHeater       off")
    text = re.sub(r"(Clock +)\d.*", rf"\g<1>{TAKEN:%d %b %Y %H:%M:%S}", text)
    return (text + oxwick.prompt(one)).encode()


# What lies on a stick: a release as its list tells, and one whose copy went wrong.
STICK = {"quay-2.0.img": b"quay 2.0\n" * 400, "quay-2.1.img": b"quay 2.1\n" * 400}


# What a person marks in a copy of the session, to teach Ovek this kind of device.
MARKS = {
    "OX40-24F": "<<model=OX40-24F>>",
    "Running      7.4.2": "Running      <<running.version=7.4.2>>",
    "\n1     -": "\n<<member=1>>     -",
    "flash     fine    ext4    2048000       831432": "<<volume=flash>>     <<state(ok)=fine>>    "
    "ext4    <<capacity=2048000>>       <<free=831432>>",
    "617611264  24 May 2026 21:14:00  ox40-full-7.4.1.img": "<<size=617611264>>  "
    "24 May 2026 21:14:00  <<path=ox40-full-7.4.1.img>>",
    "Now           1  flash:ox40-full-7.4.2.img": "<<list(live)=Now>>           1  "
    "<<place=flash:ox40-full-7.4.2.img>>",
    "Saved         1  ": "<<list(saved)=Saved>>         1  ",
}


def marked(text: str) -> str:
    for old, new in MARKS.items():
        assert old in text, old
        text = text.replace(old, new, 1)
    return text


PRODUCTS = """\
# What the catalog calls the products of advisories.
format = "ovek.products/1"

[[product]]
name = "OX40 lite image"
publisher = "Oxwick"
files = "ox40-lite-*"
"""


def lite(version: str, hashes: bool) -> dict:
    """A version of the lite image as an advisory has it."""
    id_ = f"OX40-LITE-{version.replace('.', '')}"
    product = {"product_id": id_, "name": f"OX40 lite image {version}"}
    if hashes:
        file = f"ox40-lite-{version}.img"
        value = {"algorithm": "sha256", "value": digest("sha256", file)}
        one = {"filename": file, "file_hashes": [value]}
        product["product_identification_helper"] = {"hashes": [one]}
    return {"category": "product_version", "name": version, "product": product}


def advisory() -> dict:
    """A security advisory, CSAF 2.0: two devices run or keep what is affected."""
    title = "A crafted announcement restarts the lite image"
    first, second = "2026-10-12T08:00:00Z", "2026-11-02T08:00:00Z"
    history = [
        {"number": "1", "date": first, "summary": "First release"},
        {"number": "2", "date": second, "summary": "The fixed version is named"},
    ]
    score = {
        "version": "3.1", "vectorString": "CVSS:3.1/AV:A/AC:L/PR:N/UI:N/S:U/C:N/I:N/A:H",
        "baseScore": 6.5, "baseSeverity": "MEDIUM",
    }  # fmt: skip
    affected, fixed = ["OX40-LITE-733"], ["OX40-LITE-742"]
    fix = {
        "category": "vendor_fix", "details": "Install version 7.4.2 of the lite image.",
        "product_ids": affected,
    }  # fmt: skip
    versions = [lite("7.3.3", hashes=True), lite("7.4.2", hashes=False)]
    image = {"category": "product_name", "name": "OX40 lite image", "branches": versions}
    return {
        "document": {
            "category": "csaf_security_advisory",
            "csaf_version": "2.0",
            "title": title,
            "publisher": {
                "category": "vendor", "name": "Oxwick", "namespace": "https://oxwick.example",
            },
            "aggregate_severity": {"text": "moderate"},
            "tracking": {
                "id": "OXW-2026-003", "version": "2", "status": "final",
                "initial_release_date": first, "current_release_date": second,
                "revision_history": history,
            },
        },
        "product_tree": {
            "branches": [{"category": "vendor", "name": "Oxwick", "branches": [image]}],
        },
        "vulnerabilities": [
            {
                "cve": "CVE-2026-40003",
                "title": title,
                "product_status": {"known_affected": affected, "fixed": fixed},
                "scores": [{"products": affected, "cvss_v3": score}],
                "remediations": [fix],
            }
        ],
    }  # fmt: skip


def write_site(folder: Path) -> None:
    devices = fleet()
    write_whole(folder / "fleet.toml", [fleet_toml([*devices, at_sea()])])
    write_whole(folder / "addresses.csv", [addresses([*devices, at_sea()])])
    write_whole(folder / "standins.jsonl", [standins(devices)])
    write_whole(folder / "policy.toml", [POLICY.encode()])
    write_whole(folder / "waivers.toml", [WAIVERS.encode()])
    write_whole(folder / "server.json", [server()])
    for vendor in RELEASES:
        write_whole(folder / f"catalog/{vendor}.json", [catalog(vendor)])
    write_whole(folder / "advisories/products.toml", [PRODUCTS.encode()])
    text = json.dumps(advisory(), indent=1) + "\n"
    write_whole(folder / "advisories/oxw-2026-003.json", [text.encode()])
    stick = ["ox40-full-7.4.2.img", "tv8_5.1.4.tvf"]
    lines = "".join(f"{digest('md5', name)} *{name}\n" for name in stick)
    lines += "".join(f"{hashlib.md5(data).hexdigest()} *{name}\n" for name, data in STICK.items())
    write_whole(folder / "catalog/stick.md5", [(DIGEST_LIST_NOTE + lines).encode()])
    for name, data in STICK.items():
        write_whole(folder / "stick" / name, [data.replace(b"2.1", b"2.l")])
    plain = session(devices[0])
    write_whole(folder / "sessions/arle-core.txt", [plain])
    write_whole(folder / "sessions/arle-core-marked.txt", [marked(plain.decode()).encode()])
    write_snapshot(folder / "baselines/before-7.4.2.jsonl", fortnight_ago(devices))
    write_snapshot(folder / "snapshots/2026-11-20.jsonl", devices)


if __name__ == "__main__":
    write_site(Path(sys.argv[1]) if len(sys.argv) > 1 else HERE)
