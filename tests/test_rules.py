"""For every rule one device that has it and one that nearly has it."""

from datetime import timedelta

import pytest
from msgspec.structs import replace

from builders import (
    CATALOG,
    MIB,
    NOW,
    ONE,
    POLICY,
    TWO,
    audit,
    bank,
    device,
    digest,
    file_set,
    flash,
    image,
    judged,
    loads,
    member,
    order,
    plain,
    published,
    release,
    sheet,
    sw,
)
from ovek.engine.bootwalk import walk_device
from ovek.engine.rules.every import RULES
from ovek.engine.rules.upkeep import FAILED
from ovek.engine.wanted import Wants
from ovek.files.sheets import find_sheet
from ovek.files.site import read_sheet
from ovek.model.catalog import Origin, Published
from ovek.model.digest import Digests
from ovek.model.fleet import Expected
from ovek.model.policy import Policy, Want
from ovek.model.sheet import Images
from ovek.model.shelf import Backups, ShelfFacts
from ovek.model.snapshot import (
    Bank,
    Boot,
    BootEntry,
    Component,
    Config,
    File,
    Hardware,
    Setting,
    Volume,
)

BANKS = sheet("banks", fallback="other-bank")


# A second image costs a word in every test; MD5 is enough for most of them.
QUIET = {"no-fallback": "off", "image-weakly-proven": "off"}


def said(what, kind=None, policy=POLICY, **more):
    """What an audit finds: rule, severity and place."""
    quiet = replace(policy, severity={**QUIET, **policy.severity})
    found = audit(what, kind, policy=quiet, **more).findings
    return [(each.rule, each.severity, each.place) for each in found]


VARIED = replace(
    sheet(), images=Images(names=(r"(?P<variant>sw)-(?P<version>[0-9][0-9a-z.]*)\.img",))
)


DAY, HOUR, STICK = timedelta(days=1), timedelta(hours=1), "stick:sw-1.0.img"
FAT_ONLY = sheet(reads=("ext4", "fat16", "fat32"))


def on_stick(*files, boots=(STICK,), filesystem="fat32", removable=True):
    """A device that next boot from a stick, with these files on flash."""
    stick = flash(image("1.0"), name="stick", filesystem=filesystem, removable=removable)
    return device(member(boots=boots, volumes=(flash(*files), stick)), place=STICK)


def serials(*numbers):
    """A healthy device whose members have these serial numbers."""
    units = [
        unit(str(at), image("1.0"), hardware=Hardware(serial=number))
        for at, number in enumerate(numbers, 1)
    ]
    return stack(*units)


def test_a_healthy_device_has_no_finding():
    assert said(sw(image("1.0"), image("2.0"))) == []


def test_an_altered_image_that_lies_unused_is_a_warning():
    assert said(sw(image("1.0"), image("2.0", content="x"))) == [("image-altered", "warning", TWO)]


def test_a_forged_collision_is_critical_wherever_it_lies():
    forged = Digests(md5=digest("sw-2.0.img"), sha512=digest("x", "sha512"))
    found = said(sw(image("1.0"), image("2.0", digests=forged)))
    assert found == [("image-forged", "critical", TWO)]


def test_an_altered_image_that_the_order_names_is_told_once_by_the_boot_rule():
    found = said(sw(image("1.0"), image("2.0", content="x"), boots=(TWO, ONE)))
    assert found == [("boot-target-broken", "critical", TWO)]
    found = said(sw(image("1.0"), image("2.0", content="x"), boots=(ONE, TWO)))
    assert found == [("boot-target-broken", "warning", TWO)]


def test_a_set_that_is_not_whole_is_told_once():
    volume = flash(image("1.0"), plain("a.set"), sets=(file_set("a.set", "pkg/gone"),))
    found = said(device(member(volumes=(volume,), boots=(ONE,)), place=ONE))
    assert found == [("image-altered", "warning", "flash:a.set")]


def test_an_image_truncated():
    assert said(sw(image("1.0"), image("2.0", size=MIB, content="x"))) == [
        ("image-truncated", "warning", TWO)
    ]


def test_an_unlisted_image_is_a_note_and_a_warning_where_it_starts():
    place = "flash:sw-9.9.img"
    assert said(sw(image("1.0"), image("9.9"))) == [("image-unlisted", "note", place)]
    boots = device(member(image("9.9"), boots=(place,)), running="9.9", place=place)
    assert said(boots) == [("image-unlisted", "warning", place)]


def test_unverified_images_are_told_as_one_and_the_one_that_starts_by_itself():
    files = [image(version, digests=None) for version in ("1.0", "2.0", "3.0")]
    assert said(sw(*files)) == [
        ("image-unverified", "warning", ONE),
        ("image-unverified", "note", TWO),
    ]


def test_a_disputed_image():
    catalog = published(release("1.0")) + published(
        release("1.0", digests=Digests(md5=digest("x")))
    )
    assert said(sw(image("1.0")), catalog=catalog) == [("image-disputed", "warning", ONE)]


def test_a_stranded_device_is_told_once_with_every_candidate_and_a_way_out():
    found = audit(sw(image("2.0"), image("1.0", content="x"), boots=("flash:gone", ONE))).findings
    assert found[0].rule == "stranded"
    assert {each.severity for each in found[1:]} <= {"note"}
    assert "flash:gone is missing" in found[0].seen
    assert f"{ONE} is altered" in found[0].seen
    assert TWO in found[0].words


def test_a_stranded_device_without_a_sound_image_needs_one_copied():
    found = audit(sw(image("1.0", content="x")), plans=True).findings
    assert (found[0].words, found[0].fixed_after) == ("Copy sw-1.0.img to flash:", 1)


def test_a_missing_boot_target_is_critical_where_it_leads():
    assert said(sw(image("1.0"), boots=(TWO, ONE))) == [("boot-target-missing", "critical", TWO)]
    assert said(sw(image("1.0"), boots=(ONE, TWO))) == [("boot-target-missing", "warning", TWO)]


def test_a_missing_target_names_the_nearest_real_name():
    found = audit(sw(image("1.0"), boots=("flash:sw-1.O.img", ONE))).findings
    assert "'sw-1.0.img'" in found[0].seen


def test_a_default_bank_that_cannot_start_is_critical():
    altered = bank("a", "1.0", digests=Digests(md5=digest("x")))
    what = device(
        member(banks=(altered, bank("b", "2.0")), default="a"), in_bank="b", running="2.0"
    )
    assert said(what, BANKS) == [("boot-target-broken", "critical", "bank:a")]


def test_an_order_that_is_not_saved():
    assert said(sw(image("1.0"), image("2.0"), live=(TWO, ONE))) == [
        ("boot-order-unsaved", "warning", None)
    ]
    assert said(sw(image("1.0"), live=(ONE,))) == []
    unsaved = Boot(default_bank=Setting(live="a", saved="b"))
    both = (bank("a", "1.0"), bank("b", "2.0"))
    what = device(member(banks=both, boot=unsaved), in_bank="a")
    assert said(what, BANKS) == [("boot-order-unsaved", "warning", None)]


def test_a_running_image_that_is_gone():
    assert said(sw(image("2.0"), boots=(TWO,))) == [
        ("running-image-gone", "warning", ONE),
        ("reload-pending", "note", TWO),
    ]


def test_a_running_image_on_a_volume_that_was_not_read_is_not_called_gone():
    what = sw(volumes=(Volume(name="flash", state="ok"),))
    assert "running-image-gone" not in [rule for rule, _, _ in said(what)]


def test_an_empty_bank_is_a_warning_only_where_it_leaves_no_way_back():
    two = (bank("a", "1.0"), bank("b"))
    assert said(device(member(banks=two, default="a"), in_bank="a"), BANKS) == [
        ("bank-empty", "warning", "bank:b")
    ]
    three = (bank("a", "1.0"), bank("b", "2.0"), bank("c"))
    assert said(device(member(banks=three, default="a"), in_bank="a"), BANKS) == [
        ("bank-empty", "note", "bank:c")
    ]
    first = (bank("a"), bank("b", "2.0"))
    assert said(device(member(banks=first, default="a"), in_bank="b", running="2.0"), BANKS) == [
        ("bank-empty", "critical", "bank:a")
    ]


def test_a_bad_bank():
    two = (bank("a", "1.0"), bank("b", state="bad"))
    assert said(device(member(banks=two, default="a"), in_bank="a"), BANKS) == [
        ("bank-bad", "warning", "bank:b")
    ]


@pytest.mark.parametrize(("reserve", "low"), [("501MiB", True), ("500MiB", False), ("6%", True)])
def test_free_space_below_the_reserve(reserve, low):
    found = said(sw(image("1.0")), policy=Policy(reserve=reserve))
    assert found == ([("free-space-low", "warning", "flash:")] if low else [])


def test_facts_that_are_missing_are_told_and_never_passed():
    assert said(sw(image("1.0"), boot=None)) == [("facts-missing", "warning", None)]
    assert said(device(member(image("1.0"), boots=(ONE,)), running=None)) == [
        ("facts-missing", "note", None)
    ]
    nothing = audit(device(member(boots=None, volumes=None)))
    assert nothing.next_boot == "unknown"
    assert [each.rule for each in nothing.findings] == ["facts-missing"]


def test_members_are_named_where_there_are_several():
    other = member(image("1.0"), image("2.0", content="x"), boots=(ONE,), id="2")
    found = said(device(member(image("1.0"), boots=(ONE,)), other, place=ONE))
    assert found == [("image-altered", "warning", f"2/{TWO}")]


RELEASES = {
    "1.0": {"status": "current"},
    "2.0": {"status": "recommended", "track": "maintenance"},
    "3.0": {"status": "current", "track": "feature"},
}


def catalog(**changed):
    """The three releases, told more of; `v1` to `v3` change one of them."""
    told = []
    for version, facts in RELEASES.items():
        more = {"hardware": ("SW*",), **facts, **changed.get(f"v{version[0]}", {})}
        told.append(release(version, **more))
    return published(*told, *changed.get("also", ()))


def of(what, kind=None, **more):
    """The rules that find something on a device."""
    return {slug for slug, _, _ in said(what, kind, **more)}


def banked(*banks, default="a", running="1.0", in_bank="a", **more):
    return device(member(banks=banks, default=default, **more), running=running, in_bank=in_bank)


def pair(trial, committed, *, running, place=None, once=None):
    files = (
        image(trial, path=f"trial/sw-{trial}.img"),
        image(committed, path=f"c/sw-{committed}.img"),
    )
    banks = (
        Bank(name="committed", state="ok", places=(f"flash:c/sw-{committed}.img",)),
        Bank(name="trial", state="ok", places=(f"flash:trial/sw-{trial}.img",)),
    )
    return device(member(*files, banks=banks, once=once), running=running, place=place)


def stack(*members, running="1.0"):
    return device(*members, running=running)


def raw_after(place):
    """Boot settings whose order has an entry behind a place that nobody understands."""
    entries = (BootEntry(place=place), BootEntry(raw="begin at the red one"))
    return Boot(order=Setting(saved=entries, live=entries))


def firmware_bank(name):
    """A bank that holds the firmware of a part."""
    return bank(name, "10.1", digests=Digests(md5=digest("ldr-10.1.img")))


def unit(id_, *files, boots=(ONE,), **more):
    return member(*files, boots=boots, id=id_, **more)


def config(unsaved=False, days=1):
    return Config(unsaved_changes=unsaved, backed_up_at=NOW - timedelta(days=days))


def upgrade(**v2):
    """A device that runs 1.0 and has 2.0 as its target, of which more is told."""
    return of(sw(image("1.0"), image("2.0")), catalog=catalog(v2=v2), policy=TARGET)


def parted(version, **v1):
    """A device that starts 1.0, of which more is told, and whose boot loader has a version."""
    what = sw(image("1.0"), components=(Component(component="loader", version=version),))
    return of(what, catalog=catalog(v1=v1))


def kept(backups, *, whole=True):
    """A shelf with these configuration backups alone; `whole` is whether all could be read."""
    told = None if backups is None else Backups(newest=backups, whole=whole)
    return ShelfFacts(proven=frozenset(), broken={}, backups=told)


def changed(when, *others, **more):
    """A device whose configuration was written then; `others` are more of such files."""
    files = [plain("start.settings", modified=when), *(plain(o, modified=None) for o in others)]
    return sw(image("1.0"), *files, **more)


def loaded(web, running=None, **v1):
    """A device whose part web loads from a file of this version, and runs that one."""
    file = File(path=f"web-{web}.pkg", size=MIB, digests=Digests(md5=digest(web)))
    part = release(
        web,
        file=f"web-{web}.pkg",
        kind="component-image",
        digests=Digests(md5=digest(web)),
        size=MIB,
        hardware=v1.pop("web_fits", ("SW*",)),
    )
    components = (loads("web", f"flash:web-{web}.pkg", version=running),)
    what = sw(image("1.0"), file, components=components)
    return of(what, catalog=catalog(v1=v1, also=(part,)))


FIRMWARE = [
    *CATALOG,
    *published(release("10.1", file="ldr-10.1.img", kind="component-image"), file="parts.json"),
]
TARGET = Policy(reserve="0%", target="2.0")
PAIRED = sheet("paired", fallback="none")
MATCH = Policy(reserve="0%", bank_rule="match")
PREVIOUS = Policy(reserve="0%", bank_rule="previous")
MAINTENANCE = Policy(reserve="0%", track="maintenance")
FAT = {"filesystem": "fat32"}
SETTING = {"live": "listed", "saved": "first-found"}

# Of each rule: what a device that has the trouble shows, and what one that nearly has it shows.
OUR_COPY = [
    Published(release("1.0"), Origin("own.json", 1), None, "own"),
    *published(release("2.0")),
]


def pending_mode(*, unsaved):
    """A device whose mode is saved to change at the next reload."""
    boot = Boot(mode=Setting(**SETTING), order=Setting(saved=()))
    return sw(image("1.0"), boot=boot, config=Config(unsaved_changes=unsaved))


def pending(**more):
    """A device of 4 GiB that runs 1.0 and starts 2.0, which needs something."""
    what = sw(image("1.0"), image("2.0"), boots=(TWO,), hardware=None)
    what = replace(what, hardware=Hardware(model="SW10", memory=4 * 2**30))
    return of(what, catalog=catalog(v2=more))


CASES = {
    "boot-mode-holds": (
        lambda: of(sw(image("1.0"), mode="hold")),
        lambda: of(sw(image("1.0"), mode="listed")),
    ),
    "boot-entry-unclear": (
        lambda: of(sw(image("1.0"), boot=raw_after(ONE))),
        lambda: of(sw(image("1.0"), boots=(ONE, "tftp://192.0.2.9/a.img"))),
    ),
    "default-bank-missing": (
        lambda: of(banked(bank("a", "1.0"), bank("b", "2.0"), default="c"), BANKS),
        lambda: of(banked(bank("a", "1.0"), bank("b", "2.0")), BANKS),
    ),
    "bank-cannot-boot": (
        lambda: of(banked(bank("a", "1.0"), firmware_bank("b")), BANKS, catalog=FIRMWARE),
        lambda: of(banked(bank("a", "1.0"), bank("b", "2.0")), BANKS, catalog=FIRMWARE),
    ),
    "stranded": (
        lambda: of(sw(image("1.0", content="x"))),
        lambda: of(sw(image("1.0", content="x"), image("2.0"), boots=(ONE, TWO))),
    ),
    "boot-target-missing": (
        lambda: of(sw(image("1.0"), boots=("flash:SW-1.0.img", ONE))),
        lambda: of(sw(volumes=(flash(image("1.0"), **FAT),), boots=("flash:SW-1.0.img",))),
    ),
    "boot-target-broken": (
        lambda: (
            of(
                sw(
                    image("1.0"),
                    plain("notes.txt"),
                    boots=("flash:x.licence", "flash:notes.txt", ONE),
                )
            )
            | of(sw(image("1.0", content="x"), image("2.0"), boots=(ONE, TWO)))
        ),
        lambda: of(sw(image("1.0", content="x"), image("2.0"), boots=(TWO,))),
    ),
    "boot-order-empty": (
        lambda: of(sw(image("1.0"), boots=()), sheet(fallback="first-found")),
        lambda: of(sw(image("1.0"), boots=()), sheet(fallback="first-found", mode="first-found")),
    ),
    "boot-target-twice": (
        lambda: of(sw(image("1.0"), boots=(ONE, "flash:/sw-1.0.img"))),
        lambda: of(sw(image("1.0"), image("2.0"), boots=(ONE, TWO))),
    ),
    "boot-order-unsaved": (
        lambda: of(sw(image("1.0"), image("2.0"), live=(TWO,))),
        lambda: of(sw(image("1.0"), boots=None, live=(ONE,))),
    ),
    "boot-setting-pending": (
        lambda: of(pending_mode(unsaved=False), sheet(fallback="first-found")),
        lambda: of(pending_mode(unsaved=True), sheet(fallback="first-found")),
    ),
    "boot-mode-unsaved": (
        lambda: of(
            sw(image("1.0"), boot=Boot(mode=Setting(**SETTING), order=Setting(saved=()))),
            sheet(fallback="first-found"),
        ),
        lambda: of(sw(image("1.0"), mode="first-found")),
    ),
    "boot-order-old-first": (
        lambda: of(sw(image("1.0"), image("2.0"), boots=(ONE, TWO))),
        lambda: of(device(member(image("1.0"), image("2.0"), boots=(TWO, ONE)), running="2.0")),
    ),
    "boot-mode-ignores-order": (
        lambda: of(sw(image("1.0"), image("2.0"), boots=(TWO,), mode="first-found")),
        lambda: of(sw(image("1.0"), boots=(), mode="first-found")),
    ),
    "saved-config-ignored": (
        lambda: of(
            sw(
                image("1.0"),
                boot=Boot(
                    order=Setting(saved=order(ONE)), ignores_saved_config=Setting(saved=True)
                ),
            )
        ),
        lambda: of(
            sw(
                image("1.0"),
                boot=Boot(
                    order=Setting(saved=order(ONE)),
                    ignores_saved_config=Setting(live=True, saved=False),
                ),
            )
        ),
    ),
    "next-boot-unwanted": (
        lambda: of(sw(image("2.0"), image("1.0"), boots=()), sheet(fallback="first-found")),
        lambda: of(sw(image("1.0"), image("2.0"), boots=()), sheet(fallback="first-found")),
    ),
    "reload-pending": (
        lambda: of(sw(image("1.0"), image("2.0"), boots=(TWO,))),
        lambda: of(device(member(image("2.0"), boots=(TWO,)), running="2.0")),
    ),
    "boot-needs-server": (
        lambda: of(sw(image("1.0"), boots=("tftp://192.0.2.1/sw.img", ONE))),
        lambda: of(sw(image("1.0"), boots=(ONE, "tftp://192.0.2.1/sw.img"))),
    ),
    "running-image-gone": (
        lambda: of(sw(image("2.0"), boots=(TWO,))),
        lambda: of(sw(image("2.0"), boots=(ONE, TWO))),
    ),
    "no-fallback": (
        lambda: {one.rule for one in audit(sw(image("1.0"))).findings},
        lambda: {
            one.rule for one in audit(sw(image("1.0"), image("2.0"), boots=(ONE, TWO))).findings
        },
    ),
    "bank-empty": (
        lambda: of(banked(bank("a", "1.0"), bank("b")), BANKS),
        lambda: of(banked(bank("a", "1.0"), bank("b", "2.0")), BANKS),
    ),
    "bank-bad": (
        lambda: of(banked(bank("a", "1.0"), bank("b", state="bad")), BANKS),
        lambda: of(banked(bank("a", "1.0"), bank("b", "2.0", state="ok")), BANKS),
    ),
    "bank-rule-broken": (
        lambda: (
            of(banked(bank("a", "1.0"), bank("b", "2.0")), BANKS, policy=MATCH)
            & of(banked(bank("a", "1.0"), bank("b", "1.0")), BANKS, policy=PREVIOUS)
        ),
        lambda: (
            of(banked(bank("a", "1.0"), bank("b", "1.0")), BANKS, policy=MATCH)
            | of(banked(bank("a", "2.0"), bank("b", "1.0"), running="2.0"), BANKS, policy=PREVIOUS)
        ),
    ),
    "bank-variant-differs": (
        lambda: of(banked(bank("a", "1.0", variant="x"), bank("b", "1.0", variant="y")), BANKS),
        lambda: of(banked(bank("a", "1.0", variant="x"), bank("b", "1.0")), BANKS),
    ),
    "bank-runs-other": (
        lambda: of(banked(bank("a", "1.0"), bank("b", "1.0"), in_bank="b"), BANKS),
        lambda: of(banked(bank("a", "1.0"), bank("b", "1.0"), in_bank="a"), BANKS),
    ),
    "next-boot-older": (
        lambda: of(banked(bank("a", "1.0"), bank("b", "2.0"), running="2.0", in_bank="b"), BANKS),
        lambda: of(
            banked(bank("a", "1.0"), bank("b", "2.0"), running="2.0", in_bank="b"),
            BANKS,
            policy=Policy(reserve="0%", target="1.0"),
        ),
    ),
    "trial-not-committed": (
        lambda: of(pair("2.0", "1.0", running="2.0", place="flash:trial/sw-2.0.img"), PAIRED),
        lambda: of(pair("1.0", "1.0", running="1.0", place="flash:trial/sw-1.0.img"), PAIRED),
    ),
    "pair-differs": (
        lambda: of(pair("2.0", "1.0", running="1.0", place="flash:c/sw-1.0.img"), PAIRED),
        lambda: of(
            pair("2.0", "1.0", running="1.0", place="flash:c/sw-1.0.img", once="bank:trial"), PAIRED
        ),
    ),
    "image-altered": (
        lambda: of(sw(image("1.0"), image("2.0", content="x"))),
        lambda: of(sw(image("1.0"), image("2.0"))),
    ),
    "image-forged": (
        lambda: of(
            sw(
                image("1.0"),
                image(
                    "2.0", digests=Digests(md5=digest("sw-2.0.img"), sha512=digest("x", "sha512"))
                ),
            )
        ),
        lambda: of(sw(image("1.0"), image("2.0", digests=Digests(md5=digest("x"))))),
    ),
    "image-truncated": (
        lambda: of(sw(image("1.0"), image("2.0", size=MIB, content="x"))),
        lambda: of(sw(image("1.0"), image("2.0", content="x"))),
    ),
    "image-unlisted": (
        lambda: of(sw(image("1.0"), image("9.9"))),
        lambda: of(sw(image("1.0"), image("3.0"))),
    ),
    "image-unverified": (
        lambda: (
            of(sw(image("1.0"), image("2.0", digests=None)))
            & of(sw(image("1.0")), policy=Policy(reserve="0%", weakest_digest="sha256"))
        ),
        lambda: of(sw(image("1.0")), policy=Policy(reserve="0%", weakest_digest="md5")),
    ),
    "image-disputed": (
        lambda: of(
            sw(image("1.0", content="x")), catalog=published(release("1.0", digest_doubtful=True))
        ),
        lambda: of(sw(image("1.0", content="x")), catalog=published(release("1.0"))),
    ),
    "image-weakly-proven": (
        lambda: {one.rule for one in audit(sw(image("1.0"))).findings},
        lambda: {
            one.rule
            for one in audit(
                sw(image("1.0", digests=Digests(sha512=digest("sw-1.0.img", "sha512"))))
            ).findings
        },
    ),
    "image-withdrawn": (
        lambda: of(sw(image("1.0"), image("2.0")), catalog=catalog(v2={"status": "withdrawn"})),
        lambda: of(sw(image("1.0"), image("2.0")), catalog=catalog(v1={"status": "withdrawn"})),
    ),
    "image-wrong-hardware": (
        lambda: of(sw(image("1.0"), image("2.0")), catalog=catalog(v2={"hardware": ("AP*",)})),
        lambda: of(sw(image("1.0"), image("2.0")), catalog=catalog(v2={"hardware": None})),
    ),
    "image-other-variant": (
        lambda: of(
            device(member(image("1.0"), image("2.0"), boots=(ONE,)), place=ONE),
            VARIED,
            catalog=catalog(v2={"variant": "lite"}),
        ),
        lambda: of(
            device(member(image("1.0"), image("2.0"), boots=(ONE,)), place=ONE),
            VARIED,
            catalog=catalog(v2={"variant": "sw"}),
        ),
    ),
    "image-renamed": (
        lambda: of(sw(image("1.0"), image("2.0", path="other.img"))),
        lambda: of(sw(volumes=(flash(image("1.0"), image("2.0", path="SW-2.0.IMG"), **FAT),))),
    ),
    "image-second-copy": (
        lambda: of(sw(image("1.0"), image("1.0", path="spare/sw-1.0.img"))),
        lambda: of(sw(volumes=(flash(image("1.0")), flash(image("1.0"), name="card")))),
    ),
    "image-not-on-shelf": (
        lambda: of(sw(image("1.0")), shelf=ShelfFacts(proven=frozenset(), broken={})),
        lambda: of(
            sw(image("1.0")), shelf=ShelfFacts(proven=frozenset({digest("sw-1.0.img")}), broken={})
        ),
    ),
    "image-broken-inside": (
        lambda: of(
            sw(image("1.0")),
            shelf=ShelfFacts(
                proven=frozenset(), broken={digest("sw-1.0.img"): "internal damage: cut off"}
            ),
        ),
        lambda: of(
            sw(image("1.0")),
            shelf=ShelfFacts(
                proven=frozenset(), broken={digest("sw-2.0.img"): "internal damage: cut off"}
            ),
        ),
    ),
    "member-versions-differ": (
        lambda: of(
            stack(
                unit("1", image("1.0")),
                unit("2", image("2.0"), boots=(TWO,), running_version="2.0"),
            )
        ),
        lambda: of(stack(unit("1", image("1.0")), unit("2", image("1.0"), running_version="1.0"))),
    ),
    "member-boots-differ": (
        lambda: of(
            stack(unit("1", image("1.0")), unit("2", image("1.0"), image("2.0"), boots=(TWO,)))
        ),
        lambda: of(stack(unit("1", image("1.0")), unit("2", image("1.0"), image("2.0")))),
    ),
    "member-target-missing": (
        lambda: of(
            stack(unit("1", image("1.0"), image("2.0")), unit("2", image("1.0"))),
            policy=TARGET,
            catalog=catalog(),
        ),
        lambda: of(
            stack(unit("1", image("1.0")), unit("2", image("1.0"))),
            policy=TARGET,
            catalog=catalog(),
        ),
    ),
    "member-settings-differ": (
        lambda: of(
            stack(unit("1", image("1.0"), image("2.0"), boots=(ONE, TWO)), unit("2", image("1.0")))
        ),
        lambda: of(
            stack(
                unit("1", image("1.0"), boots=(f"1/{ONE}",)),
                unit("2", image("1.0"), boots=(f"2/{ONE}",)),
            )
        ),
    ),
    "release-withdrawn": (
        lambda: of(sw(image("1.0")), catalog=catalog(v1={"status": "withdrawn"})),
        lambda: of(sw(image("1.0")), catalog=catalog(v1={"status": "old"})),
    ),
    "release-not-allowed": (
        lambda: of(sw(image("1.0")), policy=Policy(reserve="0%", allowed=("2.*",))),
        lambda: of(sw(image("1.0")), policy=Policy(reserve="0%", allowed=("1.*", "2.*"))),
    ),
    "upgrade-needs-step": (lambda: upgrade(from_=("1.5",)), lambda: upgrade(from_=("1",))),
    "target-unlisted": (
        lambda: of(sw(image("1.0")), policy=Policy(reserve="0%", target="7.7")),
        lambda: of(sw(image("1.0")), policy=TARGET),
    ),
    "target-hardware-unknown": (
        lambda: of(sw(image("1.0")), policy=TARGET, catalog=catalog(v2={"hardware": None})),
        lambda: of(sw(image("1.0")), policy=TARGET, catalog=catalog()),
    ),
    "next-boot-incompatible": (
        lambda: pending(needs={"memory": 8 * 2**30}),
        lambda: pending(needs={"memory": 2**30}),
    ),
    "next-boot-unproven": (
        lambda: of(sw(image("1.0", path="a.img"), boots=("flash:a.img",)), catalog=OUR_COPY),
        lambda: of(sw(image("1.0", digests=None))),
    ),
    "target-does-not-fit": (
        lambda: of(
            sw(image("1.0")), policy=TARGET, catalog=catalog(v2={"needs": {"volume": 2**50}})
        ),
        lambda: of(
            sw(image("1.0")), policy=TARGET, catalog=catalog(v2={"needs": {"volume": 2**30}})
        ),
    ),
    "release-not-target": (
        lambda: of(sw(image("1.0")), policy=TARGET),
        lambda: of(sw(image("1.0"), image("2.0"), boots=(TWO,)), policy=TARGET),
    ),
    "feature-track": (
        lambda: of(sw(image("1.0")), catalog=catalog(v1={"track": "feature"}), policy=MAINTENANCE),
        lambda: of(sw(image("1.0")), catalog=catalog(v1={"track": "feature"})),
    ),
    "recommended-newer": (
        lambda: of(sw(image("1.0")), catalog=catalog()),
        lambda: of(sw(image("1.0")), catalog=catalog(v2={"hardware": ("AP*",)})),
    ),
    "component-file-missing": (
        lambda: of(sw(image("1.0"), components=(loads("web", "flash:web-1.pkg"),))),
        lambda: of(
            sw(volumes=(Volume(name="flash"),), components=(loads("web", "flash:web-1.pkg"),))
        ),
    ),
    "component-file-mismatch": (
        lambda: (
            loaded("1.1", needs={"components": {"web": "1.2"}}) & loaded("1.3", web_fits=("AP*",))
        ),
        lambda: loaded("1.2", needs={"components": {"web": "1.2"}}),
    ),
    "component-too-old": (
        lambda: parted("9", needs={"components": {"loader": "10"}}),
        lambda: parted("9", needs={"components": {"loader": "10"}}, carries={"loader": "10"}),
    ),
    "component-updated-at-reload": (
        lambda: of(
            sw(
                image("1.0"),
                image("2.0"),
                boots=(TWO,),
                components=(Component(component="loader", version="9"),),
            ),
            catalog=catalog(v2={"carries": {"loader": "10"}}),
        ),
        lambda: of(
            sw(
                image("1.0"),
                image("2.0"),
                boots=(TWO,),
                components=(Component(component="loader", version="10"),),
            ),
            catalog=catalog(v2={"carries": {"loader": "10"}}),
        ),
    ),
    "component-not-updated": (
        lambda: of(
            sw(image("1.0"), components=(Component(component="loader", version="9"),)),
            catalog=catalog(v1={"carries": {"loader": "10"}}),
        ),
        lambda: (
            of(
                sw(image("1.0"), components=(Component(component="loader", version="10"),)),
                catalog=catalog(v1={"carries": {"loader": "10"}}),
            )
            | of(sw(image("1.0"), components=(Component(component="loader", version="9"),)))
        ),
    ),
    "no-room-for-target": (
        lambda: of(
            sw(volumes=(flash(image("1.0"), free=99 * MIB),)), policy=TARGET, catalog=catalog()
        ),
        lambda: of(
            sw(volumes=(flash(image("1.0"), free=100 * MIB),)), policy=TARGET, catalog=catalog()
        ),
    ),
    "free-space-low": (
        lambda: of(sw(image("1.0")), policy=Policy(reserve="501MiB")),
        lambda: of(sw(image("1.0")), policy=Policy(reserve="500MiB")),
    ),
    "volume-unreadable": (
        lambda: of(sw(volumes=(flash(image("1.0")), Volume(name="card", state="unreadable")))),
        lambda: of(sw(volumes=(flash(image("1.0")), Volume(name="card", state="ok")))),
    ),
    "volume-absent": (
        lambda: of(
            sw(
                volumes=(flash(image("1.0"), name="card"), Volume(name="flash", state="absent")),
                boots=("card:sw-1.0.img",),
            ),
            sheet(default_volume="flash"),
        ),
        lambda: of(sw(volumes=(flash(image("1.0")), Volume(name="card", state="absent")))),
    ),
    "free-figure-impossible": (
        lambda: of(sw(volumes=(flash(image("1.0"), free=9911 * MIB),))),
        lambda: (
            of(sw(volumes=(flash(image("1.0"), free=9911 * MIB, filesystem="ubifs"),)))
            | of(sw(volumes=(flash(image("1.0"), free=9909 * MIB),)))
        ),
    ),
    "config-unsaved": (
        lambda: of(sw(image("1.0"), config=config(unsaved=True))),
        lambda: of(sw(image("1.0"), config=config())),
    ),
    "backup-old": (
        lambda: of(sw(image("1.0"), config=config(days=31))),
        lambda: of(sw(image("1.0"), config=config(days=29))),
    ),
    "snapshot-old": (
        lambda: of(sw(image("1.0")), now=NOW + timedelta(days=8)),
        lambda: of(sw(image("1.0")), now=NOW + timedelta(days=6)),
    ),
    "at-boot-loader": (
        lambda: of(replace(sw(image("1.0")), at="boot-loader")),
        lambda: of(replace(sw(image("1.0")), at="running")),
    ),
    "reload-scheduled": (
        lambda: of(replace(sw(boots=("flash:gone",)), reload_at=NOW + HOUR)),
        lambda: (
            of(replace(sw(image("1.0")), reload_at=NOW + HOUR))
            | of(replace(sw(boots=("flash:gone",)), reload_at=NOW - HOUR))
        ),
    ),
    "boots-from-removable": (
        lambda: of(on_stick()),
        lambda: (
            of(on_stick(image("2.0"), boots=(STICK, TWO)))
            | of(on_stick(removable=None))
            | of(sw(image("1.0")))
        ),
    ),
    "volume-other-format": (
        lambda: of(on_stick(filesystem="ntfs"), FAT_ONLY),
        lambda: of(on_stick(filesystem="vfat"), FAT_ONLY) | of(on_stick(filesystem="ntfs")),
    ),
    "backup-never": (
        lambda: of(sw(image("1.0"), config=Config(unsaved_changes=False, backed_up="never"))),
        lambda: (
            of(sw(image("1.0"), config=Config(unsaved_changes=False)))
            | of(sw(image("1.0"), config=Config(backed_up="never")), shelf=kept({"sw": NOW - DAY}))
            | of(sw(image("1.0")), shelf=kept({}, whole=False))
        ),
    ),
    "backup-before-change": (
        lambda: (
            of(changed(NOW - DAY), shelf=kept({"sw": NOW - 2 * DAY}))
            & of(changed(NOW - DAY, config=Config(backed_up_at=NOW - 2 * DAY)))
        ),
        lambda: (
            of(changed(NOW - DAY), shelf=kept({"sw": NOW - DAY - HOUR}))
            | of(changed(NOW - DAY), shelf=kept({}))
            | of(changed(NOW - DAY), shelf=kept(None))
            | of(changed(NOW - DAY, "old.settings"), shelf=kept({"sw": NOW - 2 * DAY}))
        ),
    ),
    "clock-off": (
        lambda: (
            of(replace(sw(image("1.0")), clock=NOW - 25 * HOUR))
            & of(replace(sw(image("1.0")), clock=NOW + 25 * HOUR))
        ),
        lambda: of(replace(sw(image("1.0")), clock=NOW - 23 * HOUR)),
    ),
    "member-missing": (
        lambda: of(stack(unit("1", image("1.0"))), expected=Expected(members=2)),
        lambda: of(
            stack(unit("1", image("1.0")), unit("2", image("1.0"))), expected=Expected(members=2)
        ),
    ),
    "member-added": (
        lambda: (
            of(serials("S1", "S2", "S3"), expected=Expected(members=2, serials=("S1", "S2")))
            & of(serials(None, None), expected=Expected(members=1))
        ),
        lambda: of(serials("S1", "S3"), expected=Expected(members=2, serials=("S1", "S2"))),
    ),
    "member-swapped": (
        lambda: of(serials("S1", "S3"), expected=Expected(members=2, serials=("S1", "S2"))),
        lambda: (
            of(serials("S1", None), expected=Expected(members=2, serials=("S1", "S2")))
            | of(serials("S2", "S1"), expected=Expected(members=2, serials=("S1", "S2")))
        ),
    ),
    "proof-old": (
        lambda: (
            of(sw(image("1.0", digests_at=NOW - 8 * DAY)))
            & of(sw(image("1.0"), image("2.0", digests_at=NOW - 31 * DAY)))
        ),
        lambda: (
            of(sw(image("1.0", digests_at=NOW - 7 * DAY - HOUR)))
            | of(sw(image("1.0"), image("2.0", digests_at=NOW - 30 * DAY)))
            | of(sw(image("1.0", digests_at=NOW - DAY)), now=NOW + 8 * DAY)
        ),
    ),
    "facts-missing": (
        lambda: (
            of(sw(image("1.0"), boot=None))
            & of(device(member(image("1.0"), boots=(ONE,)), running=None))
        ),
        lambda: of(sw(image("1.0"), components=None)),
    ),
}


@pytest.mark.parametrize("slug", CASES)
def test_a_device_that_has_it_is_told_and_one_that_nearly_has_it_is_not(slug):
    has, nearly = CASES[slug]
    assert slug in has()
    assert slug not in nearly()


# Rules that need more than a device: tests/test_packages, and tests/test_advisories.
ELSEWHERE = {
    FAILED, "running-affected", "next-boot-affected", "target-affected", "fallback-affected",
    "unsigned-source", "signature-bad", "signature-weak", "key-expired",
}  # fmt: skip


def test_every_rule_says_what_it_looks_for_why_and_what_to_do():
    for slug, rule in RULES.items():
        assert slug == rule.slug
        assert rule.reason.endswith(".")
        assert not rule.remedy.endswith(".")
        assert rule.check.__doc__
        assert rule.speaks_for <= set(RULES) - {slug}
        if slug in ELSEWHERE:
            continue
        assert slug in CASES, "show one device that has it, and one that nearly has it"


TELLING = [
    # What is seen on a device, and the rules that stay silent since another tells it whole.
    (lambda: of(sw(image("1.0"), image("2.0"), boots=("flash:gone", TWO, ONE))),
     "boot-target-missing", {"reload-pending", "boot-order-old-first"}),
    (lambda: of(sw(image("1.0", content="x"), image("2.0"), boots=(ONE, TWO))),
     "boot-target-broken", {"image-altered", "reload-pending"}),
    (lambda: of(sw(image("2.0"), image("1.0"), boots=()), sheet(fallback="first-found")),
     "next-boot-unwanted", {"boot-order-empty", "reload-pending"}),
    (lambda: of(sw(image("1.0"), image("2.0"), boots=(ONE,), live=(TWO,))),
     "boot-order-unsaved", {"reload-pending"}),
    (lambda: of(pair("2.0", "1.0", running="2.0", place="flash:trial/sw-2.0.img"), PAIRED),
     "trial-not-committed", {"next-boot-older", "pair-differs"}),
    (lambda: of(banked(bank("a"), bank("b", "2.0"), running="1.0", in_bank="b"), BANKS),
     "bank-empty", {"next-boot-unwanted", "reload-pending", "bank-runs-other"}),
    (lambda: of(banked(bank("a", "1.0"), bank("b")), BANKS, policy=MATCH),
     "bank-empty", {"bank-rule-broken"}),
    (lambda: of(sw(image("1.0")), catalog=catalog(v1={"status": "withdrawn"}), policy=TARGET),
     "release-withdrawn", {"release-not-target", "recommended-newer"}),
    (lambda: of(sw(image("1.0"), image("2.0"), boots=(TWO,)), policy=TARGET),
     "reload-pending", {"release-not-target"}),
    (lambda: upgrade(from_=("1.5",)), "upgrade-needs-step", {"release-not-target"}),
    (lambda: of(sw(volumes=(flash(image("1.0"), free=9 * MIB),)), catalog=catalog(),
                policy=Policy(reserve="10MiB", target="2.0")),
     "no-room-for-target", {"free-space-low"}),
    (lambda: of(sw(image("1.0"), mode="hold")), "boot-mode-holds", {"stranded"}),
    (lambda: of(stack(unit("1", image("1.0")), unit("2", image("2.0"), boots=(TWO,),
                                                   running_version="2.0"))),
     "member-versions-differ", {"member-boots-differ"}),
    (lambda: loaded("1.1", running="1.1", needs={"components": {"web": "1.2"}}),
     "component-too-old", {"component-file-mismatch"}),
    (lambda: loaded("1.1", running="1.2", needs={"components": {"web": "1.2"}}),
     "component-file-mismatch", {"component-too-old"}),
]  # fmt: skip


@pytest.mark.parametrize(("shows", "tells", "silent"), TELLING)
def test_one_trouble_is_told_once_by_the_most_telling_rule(shows, tells, silent):
    found = shows()
    assert tells in found
    assert not silent & found


def test_a_rule_that_is_off_speaks_for_nobody():
    off = Policy(reserve="0%", severity={"boot-mode-holds": "off"})
    assert "stranded" in of(sw(image("1.0"), mode="hold"), policy=off)


def test_severity_rises_with_the_consequence():
    place = "flash:sw-9.9.img"
    boots = device(member(image("9.9"), boots=(place,)), running="9.9", place=place)
    assert ("image-unlisted", "warning", place) in said(boots)
    assert ("image-unlisted", "note", place) in said(sw(image("1.0"), image("9.9")))
    pending = catalog(v2={"from_": ("1.5",)})
    goes = sw(image("1.0"), image("2.0"), boots=(TWO,))
    assert ("upgrade-needs-step", "critical", None) in said(goes, catalog=pending, policy=TARGET)


@pytest.mark.parametrize(("next_", "told"), [("lite", True), ("full", False)])
def test_a_variant_that_changes_at_the_reload_is_told_though_the_version_stays(next_, told):
    banks = (bank("a", "1.0", variant="full"), bank("b", "1.0", variant=next_))
    what = banked(*banks, default="b")
    what = replace(what, running=replace(what.running, variant="full"))
    found = ("image-other-variant", "warning", "bank:b") in said(what, sheet("banks"))
    assert found is told


def test_where_the_order_is_good_the_mode_is_what_must_change():
    def told(what):
        found = audit(what, plans=True).findings
        return next(one.words for one in found if one.rule == "next-boot-unwanted")

    files = (image("1.0"), image("2.0"), image("3.0"))
    good = device(member(*files, boots=(TWO,), mode="first-found"), running="2.0", place=TWO)
    assert told(good) == (
        f"Set the boot order to {TWO}, flash:sw-3.0.img, set the boot mode to follow the boot "
        "order, then save the boot settings"
    )
    three = "flash:sw-3.0.img"
    other = device(member(*files, boots=(three,), mode="first-found"), running="2.0", place=TWO)
    assert told(other) == (
        f"Set the boot order to {TWO}, {three}, set the boot mode to follow the boot order, then "
        "save the boot settings"
    )


@pytest.mark.parametrize(
    ("named", "how"),
    [
        ("SW-1.0.img", "only the case differs"),
        ("sw-1.0", "only the suffix differs"),
        ("sw-1.0.img ", "differs by a space"),
        ("sw-l.O.img", "similar-looking characters"),
    ],
)
def test_a_target_that_is_missing_by_a_slip_says_what_differs(named, how):
    found = audit(sw(image("1.0"), boots=(f"flash:{named}", ONE))).findings
    assert f"the most similar file there is 'sw-1.0.img' ({how})" in found[0].seen


def test_a_want_by_role_takes_the_role_from_the_fleet():
    policy = Policy(reserve="0%", want=(Want(role="core", target="2.0"),))
    assert "release-not-target" in of(sw(image("1.0")), policy=policy, role="core")
    assert "release-not-target" not in of(sw(image("1.0")), policy=policy, role="edge")


def test_a_sheet_that_reads_an_open_format_asks_only_for_what_it_names(tmp_path):
    for name in ("linux-grub", "linux-u-boot"):
        asks = read_sheet(find_sheet(tmp_path, name)).asks()
        assert {"boot.default_bank.saved", "boot.once"} <= set(asks)
        assert "boot.mode.live" not in asks


def banks_said(*banks, policy, running="2.0", in_bank="a", more=()):
    known = [*CATALOG, *published(*more, file="more.json")]
    what = banked(*banks, running=running, in_bank=in_bank)
    found = audit(what, BANKS, known, replace(policy, severity=QUIET), plans=True).findings
    return [
        (each.severity, each.seen, each.words) for each in found if each.rule == "bank-rule-broken"
    ]


def test_the_release_before_is_the_one_of_the_catalog():
    previous = Policy(reserve="0%", bank_rule="previous")
    assert banks_said(bank("a", "3.0"), bank("b", "2.0"), policy=previous, running="3.0") == []
    ((severity, seen, _),) = banks_said(
        bank("a", "3.0"), bank("b", "1.0"), policy=previous, running="3.0"
    )
    assert (severity, "and 2.0 is in between" in seen) == ("note", True)
    gone = published(*(release(each, status="withdrawn" if each == "2.0" else None)
                       for each in ("1.0", "2.0", "3.0")))  # fmt: skip
    what = banked(bank("a", "3.0"), bank("b", "1.0"), running="3.0")
    found = audit(what, BANKS, gone, replace(previous, severity=QUIET)).findings
    assert "bank-rule-broken" not in {each.rule for each in found}


def test_where_the_other_bank_holds_what_is_wanted_the_default_changes():
    match = Policy(reserve="0%", bank_rule="match", target="2.0")
    ((_, _, do),) = banks_said(bank("a", "1.0"), bank("b", "2.0"), policy=match, running="1.0")
    assert do.startswith("Steps 1 to ") and "ovek runbook sw" in do
    ((_, _, do),) = banks_said(
        bank("a", "2.0"), bank("b", "1.0"), policy=match, running="1.0", in_bank="b"
    )
    assert do == "Reload in a maintenance window, then copy bank a over bank b"
    ((_, _, do),) = banks_said(bank("a", "2.0"), bank("b", "1.0"), policy=match)
    assert do == "Copy bank a over bank b"


def test_a_name_of_another_release_is_a_warning_where_anything_starts_from_it():
    file = image("2.0", path="sw-1.0.img")
    used = device(member(file, boots=(ONE,)), place=ONE, running="2.0")
    assert ("image-renamed", "warning", ONE) in said(used)
    idle = device(member(file, image("3.0"), boots=("flash:sw-3.0.img",)), running="3.0")
    assert ("image-renamed", "note", ONE) in said(idle)
    own = image("2.0", path="mine.img")
    mine = device(member(own, boots=("flash:mine.img",)), place="flash:mine.img", running="2.0")
    assert ("image-renamed", "note", "flash:mine.img") in said(mine)


def test_a_rescue_prefers_what_runs_then_the_newest_proven():
    def rescue(running):
        files = image("1.0"), image("2.0"), image("3.0"), image("9.9")
        one = member(*files, boots=("flash:gone",))
        place = f"flash:sw-{running}.img"
        walk = walk_device(judged(device(one, running=running, place=place)))
        return [each.version for each in walk.members[0].rescue]

    assert rescue("1.0") == ["1.0", "3.0", "2.0", "9.9"]
    assert rescue("2.0") == ["2.0", "3.0", "1.0", "9.9"]


def test_a_wanted_variant_counts_more_than_the_one_that_runs():
    both = published(release("1.0"), *(release("2.0", file=f"sw-{each}-2.0.img", variant=each,
                                               hardware=("SW*",), status="recommended")
                                       for each in ("full", "lite")))  # fmt: skip
    what = sw(image("1.0"))
    what = replace(what, running=replace(what.running, variant="lite"))

    def target(**more):
        policy = Policy(reserve="0%", target="recommended", **more)
        return Wants(policy).of(judged(what, catalog=both)).release.file

    assert target() == "sw-lite-2.0.img"
    assert target(variant="full") == "sw-full-2.0.img"
    assert target(want=(Want(device="sw", variant="full"),)) == "sw-full-2.0.img"
