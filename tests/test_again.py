"""An audit of what changed alone says what an audit of everything says."""

import json
import os
import shutil
import sqlite3
from dataclasses import replace as changed
from datetime import timedelta
from random import Random

import msgspec
import pytest
from msgspec.structs import replace

from builders import (
    CATALOG,
    MIB,
    NOW,
    POLICY,
    device,
    flash,
    image,
    judged,
    member,
    plain,
    release,
)  # fmt: skip
from builders.chance import cases
from conftest import TIMES
from ovek.app.audit import _AUDIT, audit
from ovek.app.audit_cache import basis_of
from ovek.app.devices import Devices
from ovek.app.runner import each_part
from ovek.app.selection import select
from ovek.app.shelves import shelf_facts
from ovek.engine.audit import Terms, audit_within
from ovek.engine.releases import ReleaseIndex
from ovek.engine.times import Times
from ovek.engine.wanted import Wants
from ovek.files.cache import keep
from ovek.files.database import names_in_fleet
from ovek.files.errors import InputError
from ovek.files.fleet import FleetFile
from ovek.files.site import Site
from ovek.files.snapshot import write_snapshot
from ovek.model.bound import holds
from ovek.model.shelf import Backups, ShelfFacts
from ovek.model.snapshot import Config, Evidence, Source

HOUR, DAY = timedelta(hours=1), timedelta(days=1)

# The engine: within its bounds an audit stays as it is.


def audits(case, what, now, shelf):
    terms = Terms(now=now, shelf=shelf, plans=case.seed % 4 == 0)
    return audit_within(case.judged(what), Wants(case.policy), terms)


def moved(chance: Random, what, now):
    """The same device, read at another time, and the time at which it is audited then."""
    step = chance.choice((timedelta(0), HOUR, 5 * HOUR, DAY, 3 * DAY, 9 * DAY, 50 * DAY))
    slip = timedelta(seconds=chance.choice((0, 0, 1, -1, 40, -3000, 90_000)))
    read = what.taken_at + step * chance.choice((1, 1, -1))
    clock = what.clock and what.clock + (read - what.taken_at) + slip
    return replace(what, taken_at=read, clock=clock), max(read, now + step * chance.choice((1, 0)))


@pytest.mark.parametrize("number", range(4))
def test_within_its_bounds_an_audit_stays_as_it_is(number):
    kept = again = 0
    for case in cases(number * 1_000_000 + 77, 50 * TIMES):
        chance = Random(case.seed)
        policy = replace(
            case.policy,
            snapshot_age=chance.choice(("7d", "2d")), digest_age=chance.choice(("30d", "3d")),
            boot_digest_age="10d", backup_age=chance.choice((None, "8d")),
        )  # fmt: skip
        case = changed(case, policy=policy)
        newest = {case.device.device: NOW - chance.choice((HOUR, 2 * DAY, 30 * DAY))}
        backups = Backups(newest=newest if chance.random() < 0.5 else {})
        shelf = ShelfFacts(proven=frozenset(), broken={}, backups=backups)
        now = NOW + timedelta(days=chance.randrange(12))
        audit, bounds = audits(case, case.device, now, shelf)
        for _ in range(6):
            what, later = moved(chance, case.device, now)
            if holds(bounds, later, what.taken_at, what.now):
                other, _ = audits(case, what, later, shelf)
                assert other == replace(audit, taken_at=what.taken_at), case.seed
                kept += 1
            else:
                again += 1
    assert kept > 20 and again > 20


def aged(now, **more):
    """The bounds of an audit of one device whose digest is nine days old."""
    kept = image("1.0", digests_at=NOW - 9 * DAY)
    what = device(member(kept, boots=("flash:sw-1.0.img",)), **more)
    policy = replace(POLICY, boot_digest_age="7d", snapshot_age="20d")
    return audit_within(judged(what), Wants(policy), Terms(now=now, plans=False))


def test_an_age_in_words_holds_for_its_day_and_no_longer():
    audit, bounds = aged(NOW)
    assert any("9 days old" in one.seen for one in audit.findings)
    assert holds(bounds, NOW + DAY - timedelta(microseconds=1), NOW, NOW)
    assert not holds(bounds, NOW + DAY, NOW, NOW)
    assert not holds(bounds, NOW - timedelta(microseconds=1), NOW, NOW)


def test_where_nothing_is_old_the_next_nights_say_the_same():
    what = device(member(image("1.0", digests_at=NOW), boots=("flash:sw-1.0.img",)))
    audit, bounds = audit_within(judged(what), Wants(POLICY), Terms(now=NOW, plans=False))
    assert audit.answer == "go"
    for night in range(1, 7):
        assert holds(bounds, NOW + night * DAY, NOW + night * DAY, NOW + night * DAY)
    assert not holds(bounds, NOW + 400 * DAY, NOW, NOW)


def test_two_ages_are_held_against_each_other_whatever_moves():
    times = Times(now=NOW, read=NOW, clock=NOW + 3 * HOUR)
    assert times.clock - (NOW - DAY) > times.read - (NOW - DAY - HOUR)
    assert holds(times.bounds, NOW, NOW + DAY, NOW + DAY + 2 * HOUR)
    assert not holds(times.bounds, NOW, NOW + DAY, NOW + DAY + HOUR)


# The program: what is kept is never stale.


@pytest.fixture
def cache(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    return tmp_path / "cache"


def audited(folder, now, *, again):
    """The audit of a site as lines of JSON, and how many devices were looked at for it."""
    site = Site(folder)
    devices = Devices(site, site.state(), releases=ReleaseIndex(site.releases))
    shelf = shelf_facts(site, devices.releases, devices.state.names)
    basis = basis_of(devices, shelf) if again else None
    nothing = frozenset()
    parts = list(each_part(devices, _AUDIT, now, shelf, nothing, basis, nothing, None))
    fresh = [row for part in parts for row in part.fresh]
    if basis is not None:
        keep(basis.file, folder, fresh, devices.state.names)
    used = sorted(repr(one) for part in parts for one in part.used)
    summary = [msgspec.to_builtins(part.summary) for part in parts]
    return ([line for part in parts for line in part.lines], used, summary), len(fresh)


class Fleet:
    """A site of some devices, and edits of all that an audit rests on."""

    def __init__(self, folder, seed) -> None:
        self.folder, self.chance, self.now = folder, Random(seed), NOW + 2 * HOUR
        self.policy = {"reserve": '"0%"'}
        if seed % 2:
            self.policy |= {"backups": '"configs/{device}.cfg"', "backup_age": '"10d"'}
        self.waivers, self.read = "", 0
        self.fleet: dict[str, dict[str, str]] = {f"sw-{at}": {} for at in range(12)}
        self.catalog = list(CATALOG)
        self.devices = {name: self.device(name) for name in self.fleet}
        (folder / "sheets").mkdir()
        (folder / "shelf/configs").mkdir(parents=True)
        from conftest import SHEET

        self.sheet = SHEET
        self.write()

    def device(self, name):
        chance = self.chance
        held = chance.sample(("1.0", "2.0", "3.0"), 2)
        images = [
            image(each, digests_at=NOW - chance.randrange(40) * DAY) if chance.random() < 0.8
            else image(each, size=1000)
            for each in held
        ]  # fmt: skip
        boots = tuple(f"flash:sw-{chance.choice(held)}.img" for _ in range(2))
        return device(
            member(*images, boots=boots),
            device=name,
            clock=chance.choice((None, NOW, NOW + 9 * DAY)),
            config=Config(unsaved_changes=chance.random() < 0.2, backed_up_at=NOW - 9 * DAY),
        )

    def write(self) -> None:
        folder = self.folder
        listed = []
        for name, more in self.fleet.items():
            told = "".join(f"{key} = {value}\n" for key, value in more.items())
            listed.append(f'[[device]]\nname = "{name}"\nsheet = "switch"\n{told}')
        (folder / "fleet.toml").write_text('name = "Test"\n' + "".join(listed))
        told = "".join(f"{key} = {value}\n" for key, value in self.policy.items())
        (folder / "policy.toml").write_text('format = "ovek.policy/1"\n' + told)
        (folder / "waivers.toml").write_text('format = "ovek.waivers/1"\n' + self.waivers)
        (folder / "sheets/switch.toml").write_text(self.sheet)
        releases = [msgspec.to_builtins(one.release) for one in self.catalog]
        (folder / "catalog").mkdir(exist_ok=True)
        whole = {"format": "ovek.catalog/1", "publisher": "Nobody", "releases": releases}
        (folder / "catalog/list.json").write_text(json.dumps(whole))
        write_snapshot(folder / "snapshots/now.jsonl", self.devices.values())

    def edit(self) -> None:
        """Something changes, or only time goes on."""
        chance = self.chance
        name = chance.choice(list(self.devices))
        what = chance.randrange(14)
        if what <= 2:  # a night: all are read again, one of them is another
            self.night()
            if what:
                read = self.devices[name].taken_at
                self.devices[name] = replace(self.device(name), taken_at=read)
        elif what == 3:
            self.now += chance.choice((HOUR, DAY, 8 * DAY))
        elif what == 4:
            ages = {"snapshot_age": '"2d"', "digest_age": '"5d"', "backup_age": '"10d"',
                    "target": '"2.0"', "backups": '"configs/{device}.cfg"'}  # fmt: skip
            key = chance.choice(list(ages))
            self.policy = {**self.policy, key: ages[key]}
        elif what == 5:
            until = (self.now + chance.choice((-DAY, DAY, 9 * DAY))).date()
            rule = chance.choice(("image-truncated", "proof-old", "no-fallback"))
            self.waivers += (
                f'[[waiver]]\nrule = "{rule}"\ndevice = "sw-{chance.choice("*1")}"\n'
                f'by = "Ada"\nwhy = "known"\nuntil = {until}\n'
            )
        elif what == 6:
            self.sheet = self.sheet.replace('title = "A', 'title = "A very')
        elif what == 7:
            self.catalog.append(*CATALOG[:0] or [self.release()])
        elif what == 8 and name in self.fleet:
            self.fleet[name]["site"] = chance.choice(('"North"', '"South"'))
        elif what == 9 and name in self.fleet:
            self.fleet[name]["members"] = "2"
        elif what == 10:
            file = self.folder / f"shelf/configs/{name}.cfg"
            file.write_text("set")
            at = (self.now - chance.choice((HOUR, 20 * DAY))).timestamp()
            os.utime(file, (at, at))
        elif what == 11:
            tried = {"device": name, "result": "not read", "problem": "no answer"}
            whole = {"began": self.now.isoformat(), "devices": [tried]}
            (self.folder / "snapshots/later.survey.json").write_text(json.dumps(whole))
        elif what == 12:
            del self.devices[name]
            self.fleet.pop(name, None)
            self.devices[f"new-{name}"] = self.device(f"new-{name}")
            self.fleet[f"new-{name}"] = {}
        else:
            self.devices = dict(chance.sample(list(self.devices.items()), len(self.devices)))
        self.write()

    def night(self) -> None:
        self.now += DAY
        self.read += 1
        evidence = (Evidence(name="show", sha256=f"{self.read:064x}"),)
        for name, one in self.devices.items():
            clock = one.clock and one.clock + DAY + timedelta(seconds=self.chance.randrange(9))
            self.devices[name] = replace(
                one,
                taken_at=one.taken_at + DAY,
                clock=clock,
                source=Source(kind="survey", evidence=evidence),
            )

    def release(self):
        from builders import published

        return published(release(f"9.{self.chance.randrange(99)}"))[0]


@pytest.mark.parametrize("seed", range(4))
def test_after_random_edits_what_is_kept_says_what_a_full_audit_says(seed, tmp_path, cache):
    known = looked = 0
    for at in range(TIMES):
        folder = tmp_path / f"site-{at}"
        folder.mkdir()
        fleet = Fleet(folder, 100 * at + seed)
        for _ in range(14):
            again, fresh = audited(folder, fleet.now, again=True)
            assert again == audited(folder, fleet.now, again=False)[0]
            looked, known = looked + fresh, known + len(fleet.devices) - fresh
            fleet.edit()
    assert looked and known


def older(one):
    """A device as it was read long ago."""
    return replace(one, taken_at=one.taken_at - 99 * DAY)


def all_of(told):
    """All that an audit tells."""
    context = told.snapshots, told.selected, told.not_read, told.answered
    return context, list(told.devices), told.summary, told.one


@pytest.mark.parametrize("seed", range(2))
def test_a_device_that_is_named_is_told_as_it_is_among_all(seed, tmp_path, cache):
    """Of a large fleet only its own entries are read: nothing else may come of that."""
    fleet = Fleet(tmp_path, 2 * seed)
    strange = fleet.device("strange")
    write_snapshot(tmp_path / "snapshots/before.jsonl", [older(fleet.device("ghost"))])
    for _ in range(8 * TIMES):
        fleet.edit()
        fleet.devices.pop("new-strange", None)
        fleet.devices["strange"] = strange
        fleet.write()
        with (tmp_path / "fleet.toml").open("a") as file:
            file.write("#" + "x" * 2**17 + "\n")
        for name in (*fleet.chance.sample(list(fleet.fleet), 2), "strange"):
            near, site = select(Site(tmp_path), [name]), Site(tmp_path)
            assert list(near.state.lines) == [name]
            whole = Devices(site, site.state(), [name])
            told = [audit(one, fleet.now) for one in (near, whole)]
            assert all_of(told[0]) == all_of(told[1])
        with pytest.raises(InputError, match="has no device 'ghost'"):
            select(Site(tmp_path), ["ghost"])
    known = Site(tmp_path)
    assert (tmp_path / ".fleet.db").exists()
    assert known.fleet.names == known.fleet_file.names == list(fleet.fleet)
    assert select(known, ["sw-*"]).state.lines.keys() > {"strange"}


def test_what_is_kept_of_a_large_fleet_holds_for_the_files_it_came_from(tmp_path):
    (tmp_path / "fleet.toml").write_text('name = "x"\nlists = ["more.csv"]\n')
    rows = [f"sw-{at:05},switch,{'North' if at else ''}\n" for at in range(9000)]
    (tmp_path / "more.csv").write_text("name,sheet,site\n" + "".join(rows))
    whole = FleetFile(tmp_path).whole
    kept = tmp_path / ".fleet.db"
    was = kept.read_bytes()
    again = FleetFile(tmp_path)
    assert again.whole == whole and again.names == whole.names
    assert (again.sites, again.roles, again.sheets) == (["North"], [], ["switch"])
    assert again.devices(["sw-00007", "no"]) == {"sw-00007": whole.device[7]}
    assert names_in_fleet(tmp_path, "sw-0899") == [f"sw-0899{at}" for at in range(10)]
    other = was.replace(b"content BLOB", b"content TEXT")
    for wrong in (b"", b"x" * 5000, was[: len(was) // 2], other):
        kept.write_bytes(wrong)
        assert FleetFile(tmp_path).devices(["sw-00007"]) == {"sw-00007": whole.device[7]}
        kept.write_bytes(wrong)
        assert FleetFile(tmp_path).whole == whole
    kept.write_bytes(was)
    (tmp_path / "more.csv").write_text(
        "name,sheet\n" + "".join(f"b{at},s\n" for at in range(30000))
    )
    assert names_in_fleet(tmp_path, "sw-0899") is None
    assert FleetFile(tmp_path).names[0] == "b0" and len(FleetFile(tmp_path).whole.device) == 30000
    assert names_in_fleet(tmp_path, "b2999") == ["b2999", *(f"b2999{at}" for at in range(10))]


def test_the_next_night_only_what_changed_is_looked_at(tmp_path, cache):
    fleet = Fleet(tmp_path, 4)
    for name, one in fleet.devices.items():
        fleet.devices[name] = replace(
            one, members=(member(image("1.0"), boots=("flash:sw-1.0.img",)),), clock=None
        )
    fleet.night()
    fleet.write()
    assert audited(tmp_path, fleet.now, again=True)[1] == 12
    assert audited(tmp_path, fleet.now, again=True)[1] == 0
    fleet.night()
    fleet.write()
    assert audited(tmp_path, fleet.now, again=True)[1] == 0
    fleet.devices["sw-3"] = fleet.device("sw-3")
    fleet.write()
    assert audited(tmp_path, fleet.now, again=True)[1] == 1


def of_the_policy(fleet):
    fleet.policy["target"] = '"3.0"'


def of_a_waiver_that_ends(fleet):
    fleet.now += DAY


def of_a_waiver(fleet):
    fleet.waivers = ""


def of_the_sheet(fleet):
    fleet.sheet = fleet.sheet.replace('mode = "listed"', 'mode = "hold"')


def of_the_catalog(fleet):
    fleet.catalog = fleet.catalog[1:]


def of_where_it_stands(fleet):
    fleet.fleet["sw-0"]["site"] = '"North"'


def of_its_role(fleet):
    fleet.fleet["sw-0"]["role"] = '"edge"'


def of_its_members(fleet):
    fleet.fleet["sw-0"]["members"] = "2"


def of_its_backup(fleet):
    file = fleet.folder / "shelf/configs/sw-0.cfg"
    os.utime(file, (0, 0))


def of_the_shelf(fleet):
    (fleet.folder / "shelf/configs/sw-0.cfg").unlink()


def of_what_could_not_be_read(fleet):
    tried = {"device": "sw-0", "result": "not read", "problem": "no answer"}
    whole = {"began": fleet.now.isoformat(), "devices": [tried]}
    (fleet.folder / "snapshots/later.survey.json").write_text(json.dumps(whole))


def of_the_days_that_pass(fleet):
    fleet.now += 30 * DAY


def of_its_clock(fleet):
    fleet.devices["sw-0"] = replace(fleet.devices["sw-0"], clock=NOW + 90 * DAY)


def of_a_file(fleet):
    fleet.devices["sw-0"] = replace(
        fleet.devices["sw-0"], members=(member(image("2.0"), boots=("flash:sw-1.0.img",)),)
    )


EDITS = [
    of_the_policy, of_a_waiver_that_ends, of_a_waiver, of_the_sheet, of_the_catalog,
    of_where_it_stands, of_its_role, of_its_members, of_its_backup, of_the_shelf,
    of_what_could_not_be_read, of_the_days_that_pass, of_its_clock, of_a_file,
]  # fmt: skip


@pytest.mark.parametrize("edit", EDITS)
def test_an_edit_of_anything_that_an_audit_rests_on_is_seen(edit, tmp_path, cache):
    fleet = Fleet(tmp_path, 1)
    healthy = member(image("1.0"), boots=("flash:sw-1.0.img",))
    told = Config(unsaved_changes=False, backed_up_at=None)
    fleet.fleet = {"sw-0": {}}
    fleet.devices = {"sw-0": device(healthy, device="sw-0", clock=NOW, config=told)}
    fleet.waivers = (
        '[[waiver]]\nrule = "no-fallback"\ndevice = "sw-*"\n'
        f'by = "Ada"\nwhy = "known"\nuntil = {NOW.date()}\n'
    )
    file = tmp_path / "shelf/configs/sw-0.cfg"
    file.write_text("set")
    os.utime(file, (NOW.timestamp(), NOW.timestamp()))
    fleet.write()
    before, _ = audited(tmp_path, fleet.now, again=True)
    assert audited(tmp_path, fleet.now, again=True) == (before, 0)
    edit(fleet)
    fleet.write()
    after, looked = audited(tmp_path, fleet.now, again=True)
    assert after == audited(tmp_path, fleet.now, again=False)[0]
    assert after != before and looked == 1


def test_of_a_key_that_stands_twice_the_one_that_counts_is_looked_at(tmp_path, cache):
    """JSON takes the last; what is cut out of a line to tell whether it is another is the first."""
    fleet = Fleet(tmp_path, 6)
    clock = NOW + 9 * DAY
    fleet.fleet = {"sw-0": {}}
    fleet.devices = {"sw-0": replace(fleet.devices["sw-0"], clock=clock)}
    fleet.write()
    file = tmp_path / "snapshots/now.jsonl"
    once = file.read_text()

    def twice(read, first):
        text = once.replace(stamp(NOW), stamp(read), 1)
        file.write_text(text.replace('"taken_at":', f'"clock":"{stamp(first)}","taken_at":', 1))

    for days in (0, 1, 2):
        twice(NOW + days * DAY, clock + days * DAY)
        again, _ = audited(tmp_path, fleet.now, again=True)
        assert again == audited(tmp_path, fleet.now, again=False)[0]
        assert f"{9 - days} days ahead".encode() in again[0][0]


def stamp(at):
    return f"{at:%Y-%m-%dT%H:%M:%SZ}"


# The file: what is damaged, foreign or held by another costs time only.


@pytest.fixture
def site(ovek, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(ovek.folder / "cache"))
    ovek("audit")
    return ovek


def kept_in(ovek):
    (file,) = (ovek.folder / "cache/ovek").glob("*.db")
    return file


def damaged(ovek):
    with sqlite3.connect(kept_in(ovek)) as connection:
        (result,) = connection.execute("SELECT result FROM kept").fetchone()
        assert b'"answer":"go"' in result
        lie = result.replace(b'"answer":"go"', b'"answer":"no-go"')
        connection.execute("UPDATE kept SET result = ?", (lie,))


def of_a_newer_version(ovek):
    with sqlite3.connect(kept_in(ovek)) as connection:
        connection.execute("PRAGMA user_version = 99")


def no_database(ovek):
    kept_in(ovek).write_bytes(b"this is no database\n" * 400)


def a_folder(ovek):
    kept_in_folder = ovek.folder / "cache/ovek"
    shutil.rmtree(kept_in_folder)
    kept_in_folder.write_text("in the way")


@pytest.mark.parametrize("harm", [damaged, of_a_newer_version, no_database, a_folder])
def test_what_was_kept_is_no_result_where_it_was_harmed(site, harm):
    before = site("audit").stdout
    harm(site)
    done = site("audit")
    assert done.stdout == before and done.stderr == ""
    assert site("audit").stdout == before


def test_another_that_keeps_its_own_holds_up_nobody(site):
    before = site("audit").stdout
    site.snapshot(device(member(image("2.0"), boots=("flash:sw-2.0.img",)), running="2.0"))
    with sqlite3.connect(kept_in(site), isolation_level=None) as connection:
        connection.execute("BEGIN EXCLUSIVE")
        done = site("audit", exits=None)
        assert done.stderr == "" and done.stdout != before
    assert site("audit", exits=None).stdout == done.stdout


def test_the_results_of_a_site_are_its_users_alone(site):
    assert kept_in(site).stat().st_mode & 0o77 == 0
    assert (site.folder / "cache/ovek").stat().st_mode & 0o77 == 0
    assert not list(site.folder.glob("*.db"))


def test_a_device_that_is_gone_is_not_kept(site):
    site.snapshot(device(member(image("1.0")), device="other"))
    site("audit", exits=None)
    with sqlite3.connect(kept_in(site)) as connection:
        assert [bytes(name) for (name,) in connection.execute("SELECT device FROM kept")] == [
            b"other"
        ]


def test_without_a_place_to_keep_things_the_audit_is_as_ever(ovek, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", "/proc/nowhere")
    assert ovek("audit").stdout == ovek("audit").stdout


def test_only_some_rules_are_looked_for_anew(site):
    (whole,) = site.json("audit")["devices"]
    (some,) = site.json("audit", "--only", "no-fallback")["devices"]
    assert some["findings"] == [one for one in whole["findings"] if one["rule"] == "no-fallback"]
    assert site.json("audit")["devices"] == [whole]


def test_what_may_go_for_room_is_found_anew_when_a_log_gets_to_be_an_old_one():
    """A log of a month may go; until then it is held, and no advice frees what it holds."""
    log = plain("messages.log", 400 * MIB, modified=NOW - 29 * DAY)
    what = device(
        member(volumes=(flash(image("1.0"), log, free=200 * MIB),), boots=("flash:sw-1.0.img",))
    )
    policy = replace(POLICY, reserve="300MiB")

    def audits_at(now):
        read = replace(what, taken_at=now)
        return audit_within(judged(read), Wants(policy), Terms(now=now))

    first, bounds = audits_at(NOW)
    held, _ = audits_at(NOW + HOUR)
    later, _ = audits_at(NOW + 2 * DAY)
    assert holds(bounds, NOW + HOUR, NOW + HOUR, NOW + HOUR)
    assert held.findings == first.findings != later.findings
    assert not holds(bounds, NOW + 2 * DAY, NOW + 2 * DAY, NOW + 2 * DAY)
