"""One builder makes snapshots for all tests, so that a test shows only what matters to it."""

import hashlib
from datetime import UTC, datetime

from ovek.engine.audit import Terms, audit_judged
from ovek.engine.releases import ReleaseIndex
from ovek.engine.verdicts import ANY_DIGEST, JudgedDevice, judge_device, judge_for, proof_rule
from ovek.engine.wanted import Wants
from ovek.model.catalog import Needs, Origin, Published, Release
from ovek.model.digest import Digests
from ovek.model.policy import Policy
from ovek.model.sheet import BootScheme, Images, Sheet
from ovek.model.snapshot import (
    Bank,
    Boot,
    BootEntry,
    Component,
    Device,
    File,
    FileSet,
    Hardware,
    Member,
    Running,
    Setting,
    Volume,
)

NOW = datetime(2026, 3, 2, 21, 14, 5, tzinfo=UTC)
OLD = datetime(2024, 1, 1, tzinfo=UTC)
MIB = 2**20
SIZE = 100 * MIB
ROLES = {
    "crash-file": ("*.dump",),
    "log": ("*.log",),
    "leftover": ("*.partial",),
    "configuration": ("*.settings",),
    "licence": ("*.licence",),
    "key": ("*.key",),
    "package": ("pkg/*",),
    "set-file": ("*.set",),
    "component-image": ("web-*.pkg",),
}
# The images of the device that most tests look at.
ONE, TWO, THREE = (f"flash:sw-{version}.img" for version in ("1.0", "2.0", "3.0"))


def digest(text: str, algorithm: str = "md5") -> str:
    return hashlib.new(algorithm, text.encode()).hexdigest()


def release(version: str, **more) -> Release:
    """`sw-VERSION.img`, SIZE bytes, whose digests are those of its name."""
    file = more.pop("file", f"sw-{version}.img")
    more.setdefault("size", SIZE)
    more.setdefault("digests", Digests(md5=digest(file), sha512=digest(file, "sha512")))
    more.setdefault("kind", "system-image")
    if "needs" in more:
        more["needs"] = Needs(**more["needs"])
    return Release(file=file, version=version, **more)


def published(*releases: Release, file: str = "list.json", publisher: str | None = None):
    return [Published(one, Origin(file, at), publisher) for at, one in enumerate(releases, 1)]


CATALOG = published(*(release(version) for version in ("1.0", "2.0", "3.0")))


def sheet(layout: str = "files", **start) -> Sheet:
    start.setdefault("fallback", "none")
    start.setdefault("on_bad_image", "next")
    start.setdefault("mode", "listed")
    roles = start.pop("roles", ROLES)
    names = start.pop("names", (r"sw-(?P<version>[0-9][0-9a-z.]*)\.img",))
    return Sheet(
        format="ovek.sheet/1",
        name="switch",
        title="A switch",
        vendor="Nobody",
        models=("SW*",),
        boot=BootScheme(layout=layout, **start),
        images=Images(names=names),
        roles=roles,
    )


def image(version: str, *, path: str | None = None, content: str | None = None, **more) -> File:
    """The file `sw-VERSION.img` with the digest of what it should be, or of other `content`."""
    name = f"sw-{version}.img"
    more.setdefault("digests", Digests(md5=digest(content or name)))
    more.setdefault("size", SIZE)
    more.setdefault("modified", OLD)
    return File(path=path or name, **more)


def plain(path: str, size: int = MIB, **more) -> File:
    more.setdefault("modified", OLD)
    return File(path=path, size=size, **more)


def flash(*files: File, free: int | None = 500 * MIB, **more) -> Volume:
    more.setdefault("state", "ok")
    more.setdefault("capacity", 10_000 * MIB)
    more.setdefault("sets", ())
    more.setdefault("filesystem", "ext4")
    more.setdefault("name", "flash")
    return Volume(files=tuple(files), free=free, **more)


def file_set(set_file: str, *packages: str) -> FileSet:
    return FileSet(set_file=set_file, packages=packages)


def entry(place: str) -> BootEntry:
    return BootEntry(remote=place) if "://" in place else BootEntry(place=place)


def order(*places: str) -> tuple[BootEntry, ...]:
    return tuple(entry(place) for place in places)


def member(
    *files: File,
    boots: tuple[str, ...] | None = (),
    live: tuple[str, ...] | None = None,
    mode: str | None = None,
    once: str | None = None,
    default: str | None = None,
    **more,
) -> Member:
    """A member with one volume `flash` of these files, whose saved order is `boots`."""
    more.setdefault("id", "1")
    more.setdefault("volumes", (flash(*files),))
    more.setdefault("banks", ())
    more.setdefault("components", ())
    boot = Boot(
        mode=Setting(saved=mode),
        order=Setting(
            saved=None if boots is None else order(*boots),
            live=None if live is None else order(*live),
        ),
        default_bank=Setting(saved=default),
        once=entry(once) if once else None,
    )
    more.setdefault("boot", boot)
    return Member(**more)


def loads(component: str, place: str, **more) -> Component:
    """A component that loads from a place."""
    return Component(component=component, loads_from=place, **more)


def component(name: str, version: str | None = None, **more) -> Component:
    """A component that loads from no volume."""
    more.setdefault("loads_from", "itself")
    return Component(component=name, version=version, **more)


def bank(name: str, version: str | None = None, **more) -> Bank:
    """A bank with the digest of the release of this version; None: an empty bank."""
    if version is None:
        more.setdefault("state", "empty")
        return Bank(name=name, **more)
    more.setdefault("state", "ok")
    more.setdefault("digests", Digests(md5=digest(f"sw-{version}.img")))
    return Bank(name=name, version=version, **more)


def device(
    *members: Member, running: str | None = "1.0", place: str | None = None, **more
) -> Device:
    more.setdefault("hardware", Hardware(model="SW10"))
    more.setdefault("device", "sw")
    now = Running(version=running, place=place, bank=more.pop("in_bank", None))
    return Device(
        format="ovek.snapshot/1",
        sheet="switch",
        taken_at=NOW,
        running=now,
        members=members,
        **more,
    )


def sw(*files, boots=(ONE,), place=ONE, running="1.0", config=None, **more):
    """A device of one member that starts one of these files."""
    return device(member(*files, boots=boots, **more), place=place, running=running, config=config)


def judged(
    what: Device | Member, kind: Sheet | None = None, catalog=CATALOG, proof=ANY_DIGEST
) -> JudgedDevice:
    """Judge a device (or a device of this one member) against the catalog."""
    if isinstance(what, Member):
        what = device(what)
    return judge_device(what, judge_for(kind or sheet(), ReleaseIndex(catalog), proof))


def audit(what, kind=None, catalog=CATALOG, policy=None, *, now=NOW, role=None, **more):
    """Audit a device (or a device of this one member) as policy wants it."""
    policy = policy or POLICY
    found = judged(what, kind, catalog, proof_rule(policy))
    wants = Wants(policy, {found.device.device: role})
    more.setdefault("plans", False)  # plans take their time
    used = more.pop("used", None)
    terms = Terms(now=now, **{**more, "waivers": tuple(more.get("waivers", ()))})
    return audit_judged(found, wants, terms, used)


POLICY = Policy(reserve="0%")
