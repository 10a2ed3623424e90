from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from builders import (
    ONE,
    THREE,
    TWO,
    bank,
    device,
    digest,
    entry,
    file_set,
    flash,
    image,
    judged,
    member,
    plain,
    published,
    release,
    sheet,
)
from ovek.engine.bootwalk import walk_device
from ovek.engine.whatif import WhatIf, suppose
from ovek.model.digest import Digests
from ovek.model.snapshot import Bank, Boot, BootEntry, Hardware, Setting, Volume


def walk(what, kind=None, **more):
    return walk_device(judged(what, kind, **more))


def outcome(what, kind=None, **more):
    """What one member makes of its next start: the outcome, and where it starts from."""
    one = walk(what, kind, **more).members[0]
    return one.outcome, one.boots.place if one.boots else None


def results(what, kind=None):
    return [(each.origin, each.result) for each in walk(what, kind).members[0].tried]


def test_the_first_entry_of_the_saved_order_starts():
    assert outcome(member(image("1.0"), image("2.0"), boots=(TWO, ONE))) == ("proven", TWO)


def test_a_saved_order_counts_more_than_the_live_one():
    both = member(image("1.0"), image("2.0"), boots=(ONE,), live=(TWO,))
    assert outcome(both) == ("proven", ONE)


def test_where_only_the_live_order_is_known_it_is_walked_and_said():
    one = walk(member(image("1.0"), boots=None, live=(ONE,))).members[0]
    assert (one.outcome, one.from_) == ("proven", "live")


def test_a_once_entry_comes_before_the_order():
    assert outcome(member(image("1.0"), image("2.0"), boots=(ONE,), once=TWO)) == ("proven", TWO)


def test_a_saved_order_that_names_a_missing_file_falls_back():
    fallback = sheet(fallback="first-found")
    assert outcome(member(image("3.0"), image("1.0"), boots=(TWO,)), fallback) == ("proven", THREE)
    assert outcome(member(image("3.0"), boots=(TWO,)), sheet()) == ("stranded", None)


def test_an_entry_with_a_stray_blank_names_nothing():
    assert outcome(member(image("1.0"), boots=(f"{ONE} ",))) == ("stranded", None)


def test_case_counts_except_on_fat():
    for filesystem, wanted in (("vfat", "proven"), ("ext4", "stranded")):
        volume = flash(image("1.0"), filesystem=filesystem)
        what = member(volumes=(volume,), boots=("flash:SW-1.0.IMG",))
        assert outcome(what)[0] == wanted


def test_the_loader_goes_on_from_what_is_not_there():
    gone = Volume(name="card", state="absent")
    torn = Volume(name="stick", state="unreadable")
    what = member(
        volumes=(flash(image("1.0"), image("2.0", size=0)), gone, torn),
        boots=("card:a", "stick:b", "nowhere:c", "flash:d", TWO, ONE),
    )
    wanted = ["absent", "unreadable", "absent", "missing", "empty", "proven"]
    assert [result for _, result in results(what, sheet(on_bad_image="halt"))] == wanted


def test_on_a_broken_image_the_sheet_decides():
    what = member(image("1.0"), image("2.0", content="flipped"), boots=(TWO, ONE))
    assert outcome(what, sheet(on_bad_image="next")) == ("proven", ONE)
    assert outcome(what, sheet(on_bad_image="halt")) == ("stranded", None)


def test_a_file_that_is_no_image_does_not_start():
    what = member(plain("site.settings"), boots=("flash:site.settings",))
    assert results(what) == [("order", "not-an-image")]


def test_an_image_for_other_hardware_does_not_start():
    catalog = published(release("1.0", hardware=("RT*",)))
    assert outcome(member(image("1.0"), boots=(ONE,)), catalog=catalog) == ("stranded", None)


def test_where_the_hardware_is_not_known_a_proven_image_starts_unproven():
    catalog = published(release("1.0", hardware=("SW*",)))
    nameless = device(member(image("1.0"), boots=(ONE,)), hardware=Hardware())
    assert outcome(nameless, catalog=catalog) == ("unproven", ONE)


def test_unlisted_unverified_and_remote_start_unproven():
    assert outcome(member(image("9.9"), boots=("flash:sw-9.9.img",)))[0] == "unproven"
    assert outcome(member(image("1.0", digests=None), boots=(ONE,)))[0] == "unproven"
    assert outcome(member(boots=("tftp://192.0.2.1/a",))) == ("unproven", "tftp://192.0.2.1/a")


def test_first_found_takes_the_first_image_in_directory_order():
    what = member(plain("a.log"), image("2.0"), image("1.0"), boots=(ONE,), mode="first-found")
    assert outcome(what) == ("proven", TWO)


def test_hold_stops_in_the_boot_loader():
    assert outcome(member(image("1.0"), boots=(ONE,), mode="hold")) == ("stranded", None)


def test_a_set_starts_as_a_whole():
    catalog = published(release("1.0", file="base", kind="package"))
    for content, wanted in (("base", "proven"), ("flipped", "stranded")):
        package = plain("pkg/base", 100 * 2**20, digests=Digests(md5=digest(content)))
        volume = flash(plain("all.set"), package, sets=(file_set("all.set", "pkg/base"),))
        what = member(volumes=(volume,), boots=("flash:all.set",))
        assert outcome(what, catalog=catalog)[0] == wanted


def banks(*all_banks, default="a", fallback="other-bank", bad="next", **more):
    kind = sheet("banks", fallback=fallback, on_bad_image=bad)
    return outcome(member(banks=all_banks, default=default, **more), kind)


def test_the_default_bank_starts_and_the_others_are_the_fallback():
    assert banks(bank("a", "1.0"), bank("b", "2.0"), default="b") == ("proven", "bank:b")
    assert banks(bank("a"), bank("b", "2.0")) == ("proven", "bank:b")
    assert banks(bank("a"), bank("b", "2.0"), fallback="none") == ("stranded", None)
    assert banks(bank("a", "1.0"), bank("b", "2.0"), once="bank:b") == ("proven", "bank:b")


def test_a_bad_bank_is_a_bad_image():
    broken = bank("a", state="bad")
    assert banks(broken, bank("b", "2.0")) == ("proven", "bank:b")
    assert banks(broken, bank("b", "2.0"), bad="halt") == ("stranded", None)


def test_a_bank_of_which_nothing_is_known_makes_the_start_unknown():
    assert banks(bank("a", state=None), bank("b", "2.0")) == ("unknown", None)


def pair(trial, committed, *, once=None, fallback="other-bank"):
    files = [
        image("1.0", path="trial/sw", content=trial) if trial else None,
        image("1.0", path="committed/sw", content=committed),
    ]
    what = member(
        *(file for file in files if file),
        banks=(
            bank("trial", "1.0", places=("flash:trial/sw",)) if trial else bank("trial"),
            bank("committed", "1.0", places=("flash:committed/sw",)),
        ),
        boot=Boot(once=entry(once) if once else None),
    )
    return outcome(what, sheet("paired", fallback=fallback))


def test_a_pair_starts_trial_where_both_hold_the_same_and_committed_else():
    assert pair("sw-1.0.img", "sw-1.0.img") == ("proven", "bank:trial")
    assert pair("sw-2.0.img", "sw-1.0.img") == ("proven", "bank:committed")
    assert pair(None, "sw-1.0.img") == ("proven", "bank:committed")
    assert pair("sw-2.0.img", "sw-1.0.img", once="bank:trial") == ("proven", "bank:trial")
    assert pair("sw-2.0.img", "flipped") == ("unproven", "bank:committed")


def test_a_pair_without_digests_is_not_known_to_be_the_same():
    files = [image("1.0", path=f"{name}/sw", digests=None) for name in ("trial", "committed")]
    both = tuple(bank(n, "1.0", places=(f"flash:{n}/sw",)) for n in ("trial", "committed"))
    assert outcome(member(*files, banks=both), sheet("paired")) == ("unknown", None)


def test_what_is_not_known_is_unknown():
    assert outcome(member(image("1.0"), boot=None))[0] == "unknown"
    assert outcome(member(image("1.0"), boots=None))[0] == "unknown"
    assert outcome(member(volumes=None, boots=(ONE,)))[0] == "unknown"
    assert outcome(member(volumes=(Volume(name="flash"),), boots=(ONE,)))[0] == "unknown"
    no_mode = sheet(mode=None)
    assert outcome(member(image("1.0"), boots=(ONE,)), no_mode)[0] == "unknown"
    raw = Boot(order=Setting(saved=(BootEntry(raw="%!"),)))
    assert outcome(member(image("1.0"), boot=raw))[0] == "unknown"


def test_the_worst_member_speaks_for_the_device():
    good = member(image("1.0"), boots=(ONE,))
    lost = member(boots=(ONE,), id="2")
    blind = member(boot=None, id="3")
    assert walk(device(good, lost, blind)).next_boot == "stranded"
    assert walk(device(good, blind)).next_boot == "unknown"
    assert walk(device(good)).next_boot == "proven"
    assert walk(device()).next_boot == "unknown"


def test_an_entry_may_name_another_members_volume():
    there = member(image("2.0"), boots=(TWO,), id="2")
    assert walk(device(member(boots=(f"2/{TWO}",)), there)).next_boot == "proven"


def test_it_is_told_whether_the_start_differs_from_what_runs_and_between_members():
    one = member(image("1.0"), boots=(ONE,))
    two = member(image("2.0"), boots=(TWO,), id="2")
    assert walk(device(one)).changes is False
    assert walk(device(two)).changes is True
    assert walk(device(one, two)).members_differ is True


places = st.sampled_from([ONE, TWO, THREE, "flash:gone", "card:x", "bank:z"])


@given(
    st.lists(places, max_size=5),
    st.permutations(["1.0", "2.0", "3.0"]),
    st.sampled_from(["none", "first-found"]),
    st.sampled_from(["next", "halt"]),
    st.sets(st.sampled_from(["1.0", "2.0", "3.0"])),
)
def test_deleting_a_file_that_no_walk_visits_changes_no_walk(boots, names, fallback, bad, flipped):
    files = [image(name, content="x" if name in flipped else None) for name in names]
    kind = sheet(fallback=fallback, on_bad_image=bad)
    before = walk(member(*files, boots=tuple(boots)), kind).members[0]
    visited = {each.place for each in before.tried}
    left = [file for file in files if f"flash:{file.path}" in visited]
    after = walk(member(*left, boots=tuple(boots)), kind).members[0]
    # What a person could start from by hand is no part of the walk.
    assert replace(after, rescue=()) == replace(before, rescue=())


def plainly(boots, files, bad, fallback, halts):
    """A second, deliberately plain walk: where a member with these files starts, or None."""
    tries = [place for place in boots if place.startswith("flash:")]
    if fallback == "first-found":
        tries += [f"flash:sw-{name}.img" for name in files]
    for place in tries:
        name = place.removeprefix("flash:sw-").removesuffix(".img")
        if name not in files:
            continue
        if name in bad:
            if halts:
                return None
            continue
        return place
    return None


@given(
    st.lists(places, max_size=5),
    st.lists(st.sampled_from(["1.0", "2.0", "3.0"]), unique=True),
    st.sets(st.sampled_from(["1.0", "2.0", "3.0"])),
    st.sampled_from(["none", "first-found"]),
    st.booleans(),
)
def test_the_walk_agrees_with_a_plain_one(boots, names, bad, fallback, halts):
    files = [image(name, content="x" if name in bad else None) for name in names]
    kind = sheet(fallback=fallback, on_bad_image="halt" if halts else "next")
    boots = [place for place in boots if not place.startswith("bank:")]
    _, place = outcome(member(*files, boots=tuple(boots)), kind)
    assert place == plainly(boots, names, bad, fallback, halts)


@given(
    st.dictionaries(st.sampled_from("abcd"), st.sampled_from(["good", "empty", "bad"]), min_size=1),
    st.sampled_from("abcd"),
    st.sampled_from(["none", "other-bank"]),
    st.booleans(),
)
def test_the_walk_of_banks_agrees_with_a_plain_one(states, default, fallback, halts):
    made = {
        "good": lambda name: bank(name, "1.0"),
        "empty": bank,
        "bad": lambda name: bank(name, state="bad"),
    }
    kind = sheet("banks", fallback=fallback, on_bad_image="halt" if halts else "next")
    what = member(banks=tuple(made[state](name) for name, state in states.items()), default=default)
    tries = [default] + [name for name in states if name != default and fallback == "other-bank"]
    wanted = None
    for name in tries:
        if states.get(name) == "good":
            wanted = f"bank:{name}"
        if states.get(name) == "good" or (states.get(name) == "bad" and halts):
            break
    assert outcome(what, kind)[1] == wanted


def plainest(layout, boots, once, mode, banks, default, fallback, halts):
    """The second walk, of every layout: what each candidate is worth is told, not worked out.

    `banks` and files are `good`, `bad`, `empty` or not there. Returns what starts, or None.
    """
    tries = [once] if once is not None else []
    if layout == "files":
        if mode == "listed":
            tries += boots
        if mode == "first-found" or (mode == "listed" and fallback == "first-found"):
            tries += [name for name in banks if name not in boots or mode == "first-found"]
    elif layout == "banks":
        tries.append(default)
        tries += [name for name in banks if name != default and fallback == "other-bank"]
    for name in tries:
        if name.startswith("tftp:"):
            return name
        worth = banks.get(name)
        if worth == "good":
            return name
        if worth == "bad" and halts:
            return None
    return None


worths = st.sampled_from(["good", "bad", "empty"])
files_of = st.dictionaries(st.sampled_from([ONE, TWO, THREE]), worths)
entries = st.sampled_from([ONE, TWO, THREE, "flash:gone", "tftp://192.0.2.1/sw.img"])


@given(
    files_of,
    st.lists(entries, max_size=4),
    st.none() | entries,
    st.sampled_from(["listed", "first-found", "hold"]),
    st.sampled_from(["none", "first-found"]),
    st.booleans(),
)
def test_the_walk_with_once_modes_and_servers_agrees_with_a_plain_one(
    there, boots, once, mode, fallback, halts
):
    made = {
        "good": lambda version: image(version),
        "bad": lambda version: image(version, content="x"),
        "empty": lambda version: image(version, size=0, digests=None),
    }
    files = [made[worth](place[9:-4]) for place, worth in there.items()]
    kind = sheet(fallback=fallback, on_bad_image="halt" if halts else "next")
    what = member(*files, boots=tuple(boots), once=once, mode=mode)
    wanted = plainest("files", boots, once, mode, there, None, fallback, halts)
    assert outcome(what, kind)[1] == wanted


@given(
    st.dictionaries(st.sampled_from(["bank:a", "bank:b", "bank:c"]), worths, min_size=1),
    st.sampled_from(["bank:a", "bank:b", "bank:c"]),
    st.none() | st.sampled_from(["bank:a", "bank:c"]),
    st.sampled_from(["none", "other-bank"]),
    st.booleans(),
)
def test_the_walk_of_banks_with_once_agrees_with_a_plain_one(there, default, once, fallback, halts):
    made = {
        "good": lambda name: bank(name, "1.0"),
        "empty": bank,
        "bad": lambda name: bank(name, state="bad"),
    }
    kind = sheet("banks", fallback=fallback, on_bad_image="halt" if halts else "next")
    banks = tuple(made[worth](name[5:]) for name, worth in there.items())
    what = member(banks=banks, default=default[5:], once=once)
    wanted = plainest("banks", [], once, None, there, default, fallback, halts)
    assert outcome(what, kind)[1] == wanted


@given(
    st.sampled_from(["1.0", "2.0", "bad"]),
    st.sampled_from(["1.0", "2.0", "bad", "empty"]),
    st.sampled_from(["none", "other-bank"]),
    st.booleans(),
)
def test_the_walk_of_a_pair_agrees_with_a_plain_one(committed, trial, fallback, scheduled):
    holds = {"committed": committed, "trial": trial}
    files, banks = [], []
    for name, what in holds.items():
        version = "1.0" if what in ("bad", "empty") else what
        path = f"{name}/sw-{version}.img"
        if what == "empty":
            banks.append(Bank(name=name, state="empty"))
            continue
        files.append(image(version, path=path, content=name if what == "bad" else None))
        banks.append(Bank(name=name, state="ok", places=(f"flash:{path}",)))
    tries = ["trial"] if scheduled else []
    if not scheduled and trial == committed and trial not in ("bad", "empty"):
        tries += ["trial"] + (["committed"] if fallback == "other-bank" else [])
    else:
        tries += ["committed"]
        tries += ["trial"] if fallback == "other-bank" and not scheduled else []
    good = [name for name in tries if holds[name] in ("1.0", "2.0")]
    once = "bank:trial" if scheduled else None
    what = member(*files, banks=tuple(banks), once=once)
    _, boots = outcome(what, sheet("paired", fallback=fallback))
    assert boots == (f"bank:{good[0]}" if good else None)


def supposed(what, kind=None, **more):
    return walk_device(suppose(judged(what, kind), WhatIf(**more)))


def test_what_if_a_file_a_volume_or_a_bank_were_missing():
    what = member(image("1.0"), image("2.0"), boots=(TWO, ONE))
    assert supposed(what, missing=(TWO,)).members[0].boots.place == ONE
    assert supposed(what, missing=(TWO, ONE)).next_boot == "stranded"
    assert supposed(what, missing=("flash:",)).members[0].tried[0].result == "absent"
    kind = sheet("banks", fallback="other-bank")
    banks = member(banks=(bank("a", "1.0"), bank("b", "2.0")), default="a")
    assert supposed(banks, kind, missing=("bank:a",)).members[0].boots.place == "bank:b"


def test_what_if_a_file_or_bank_were_bad_halts_where_the_loader_halts():
    what = member(image("1.0"), image("2.0"), boots=(TWO, ONE))
    assert supposed(what, bad=(TWO,)).members[0].boots.place == ONE
    assert supposed(what, sheet(on_bad_image="halt"), bad=(TWO,)).next_boot == "stranded"
    kind = sheet("banks", fallback="other-bank")
    banks = member(banks=(bank("a", "1.0"), bank("b", "2.0")), default="a")
    assert supposed(banks, kind, bad=("bank:a",)).members[0].boots.place == "bank:b"


def test_what_if_one_half_of_a_pair_were_bad_starts_the_other():
    files = [image("1.0", path=f"{name}/sw-1.0.img") for name in ("t", "c")]
    banks = (
        Bank(name="trial", state="ok", places=("flash:t/sw-1.0.img",)),
        Bank(name="committed", state="ok", places=("flash:c/sw-1.0.img",)),
    )
    what = member(*files, banks=banks)
    kind = sheet("paired", fallback="none")
    assert supposed(what, kind).members[0].boots.place == "bank:trial"
    bad = supposed(what, kind, bad=("flash:t/sw-1.0.img",))
    assert bad.members[0].boots.place == "bank:committed"


def test_what_if_a_package_were_bad_its_set_is_not_started():
    volume = flash(
        image("1.0", path="pkg/sw-1.0.img"), plain("a.set"), image("2.0"),
        sets=(file_set("a.set", "pkg/sw-1.0.img"),),
    )  # fmt: skip
    what = member(volumes=(volume,), boots=("flash:a.set", TWO))
    assert supposed(what).members[0].boots.place == "flash:a.set"
    assert supposed(what, bad=("flash:pkg/sw-1.0.img",)).members[0].boots.place == TWO


def test_what_if_the_live_settings_were_saved_now():
    what = member(image("1.0"), image("2.0"), boots=(ONE,), live=(TWO,))
    assert supposed(what).members[0].boots.place == ONE
    assert supposed(what, saved=True).members[0].boots.place == TWO


def test_a_what_if_of_a_member_is_of_that_member_alone():
    two = device(member(image("1.0"), boots=(ONE,)), member(image("1.0"), boots=(ONE,), id="2"))
    assert [m.outcome for m in supposed(two, missing=(f"2/{ONE}",)).members] == [
        "proven",
        "stranded",
    ]
    assert {m.outcome for m in supposed(two, missing=(ONE,)).members} == {"stranded"}


def test_what_if_on_the_command_line_says_both_what_is_and_what_would_be(ovek):
    shown = ovek("bootwalk", "sw", "--if-missing", ONE, exits=1).stdout
    told = " ".join(shown.split())
    assert told.startswith(f"If {ONE} is missing — sw: no-go, nothing bootable: {ONE} is missing.")
    assert "sw stranded: no bootable image" in shown
    assert "without the what-if: go, proven, next boot 1.0" in shown
    answer = ovek.json("bootwalk", "sw", "--if-bad", ONE, "--if-saved", exits=1)
    assert answer["supposed"] == [f"{ONE} is bad", "the live boot settings are saved"]
    assert answer["as_it_is"][0]["next_boot"] == "proven"
    assert f"Did you mean {ONE!r}?" in ovek.refuses("bootwalk", "--if-bad", "flash:sw-1.0.im")
    assert "is not a place" in ovek("bootwalk", "--if-bad", "x", exits=2).stderr
    told = ovek("bootwalk", "--if-bad", "flash:", exits=2).stderr
    assert "is a volume" in told
    assert "--if-missing flash:" in told


def test_a_snapshot_from_the_loaders_prompt_says_why_it_is_stuck_and_what_could_start(ovek):
    card = flash(image("2.0"), name="card")
    stuck = member(volumes=(flash(image("1.0", content="x")), card), boots=(ONE,))
    ovek.snapshot(device(stuck, running=None))
    shown = ovek("bootwalk", exits=1).stdout
    assert f"order: {ONE} is altered" in shown
    assert "recover: boot card:sw-2.0.img (2.0, proven) by hand" in shown
    answer = ovek.json("bootwalk", exits=1)["devices"][0]["members"][0]
    assert [one["place"] for one in answer["rescue"]] == ["card:sw-2.0.img"]
    shown = " ".join(ovek("audit", exits=1).stdout.split())
    assert "Set the boot order to card:sw-2.0.img; 2. Save the boot settings" in shown
