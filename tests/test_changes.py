"""Every edit of a device: what it needs, does, leaves half done, takes, and is undone by."""

import pytest
from msgspec.structs import replace

from builders import (
    MIB,
    ONE,
    SIZE,
    TWO,
    bank,
    device,
    digest,
    flash,
    image,
    judged,
    loads,
    member,
    plain,
    sheet,
)
from ovek.engine.bootwalk import walk_device
from ovek.engine.changes import content_of, effect, middle, refusal, seconds, undoing
from ovek.engine.replay import done, harm_halfway, walk_after, walk_halfway, worse
from ovek.engine.runs import runs_of
from ovek.engine.verdicts import rejudge
from ovek.model.change import (
    BackUp,
    CheckDigest,
    Commit,
    Copy,
    CopyBank,
    Delete,
    HeedConfig,
    LoadComponent,
    Reload,
    Save,
    SetComponent,
    SetDefault,
    SetMode,
    SetOnce,
    SetOrder,
    WriteBank,
)
from ovek.model.digest import Digests
from ovek.model.place import Place
from ovek.model.sheet import Capacity
from ovek.model.snapshot import Bank, BootEntry, Component, Setting

SHEET = replace(sheet(), capacity=Capacity(transfer_rate=MIB, digest_rate=2 * MIB))
BANKS = sheet("banks", fallback="other-bank")
PAIRED = sheet("paired", fallback="other-bank")
AT = Place("flash", "sw-2.0.img", "1")


def sw(*files, **more):
    return device(member(image("1.0"), *files, boots=(ONE,), live=(ONE,), **more), place=ONE)


def two():
    return content_of(judged(sw()).judge.releases.by_version["2.0"][0])


def boots(what, kind=SHEET):
    walk = walk_device(judged(what, kind)).members[0]
    return walk.boots and walk.boots.place, walk.outcome


def test_a_copy_takes_whole_clusters_and_is_truncated_in_its_middle():
    what = device(member(volumes=(flash(image("1.0"), cluster=64 * MIB),), boots=(ONE,)))
    copy = Copy(place=AT, content=two())
    volume = effect(what, copy, SHEET).members[0].volumes[0]
    assert volume.files[-1].digests == two().digests
    assert volume.free == 500 * MIB - 128 * MIB
    half = middle(what, copy, SHEET)
    assert judged(half).members[0].images[AT.on(None)].judgement.verdict == "truncated"


def test_a_copy_needs_room_and_counts_what_it_goes_over():
    full = device(member(volumes=(flash(image("1.0"), free=10 * MIB),)))
    copy = Copy(place=AT, content=two())
    assert "needs 104857600 bytes, 10485760 are free" in refusal(full, copy, SHEET)
    over = device(member(volumes=(flash(image("2.0", content="x"), free=10 * MIB),)))
    assert refusal(over, copy, SHEET) == ""
    assert len(effect(over, copy, SHEET).members[0].volumes[0].files) == 1
    blind = device(member(volumes=(flash(image("1.0"), free=None),)))
    assert "is unknown" in refusal(blind, copy, SHEET)


def test_a_deletion_takes_the_set_with_its_set_file_and_frees_no_more_than_there_is():
    volume = flash(plain("a.set", 90 * MIB), free=95 * MIB, capacity=100 * MIB, sets=())
    what = device(member(volumes=(volume,)))
    gone = effect(what, Delete(place=Place("flash", "a.set", "1")), SHEET)
    assert gone.members[0].volumes[0].free == 100 * MIB
    assert refusal(gone, Delete(place=Place("flash", "a.set", "1")), SHEET) != ""


def test_a_bank_is_bad_while_it_is_written_or_copied():
    what = device(member(banks=(bank("a", "1.0"), bank("b", "3.0")), default="a"), in_bank="a")
    write = WriteBank(member="1", bank="b", content=two())
    assert middle(what, write, BANKS).members[0].bank("b").state == "bad"
    assert effect(what, write, BANKS).members[0].bank("b").version == "2.0"
    over = CopyBank(member="1", source="a", bank="b")
    assert effect(what, over, BANKS).members[0].bank("b").version == "1.0"
    assert refusal(what, CopyBank(member="1", source="z", bank="b"), BANKS)
    assert refusal(what, SetDefault(member="1", bank="z"), BANKS)


def test_a_setting_counts_only_once_it_is_saved():
    what = sw(image("2.0"))
    order = SetOrder(member="1", entries=(BootEntry(place=TWO),))
    live = effect(what, order, SHEET)
    assert boots(live) == (ONE, "proven")
    assert boots(effect(live, Save(member="1"), SHEET)) == (TWO, "proven")
    what = sw(image("2.0"), mode="listed")
    hold = effect(what, SetMode(member="1", mode="hold"), SHEET)
    assert boots(hold) == (ONE, "proven")
    assert boots(effect(hold, Save(member="1"), SHEET))[1] == "stranded"


@pytest.mark.parametrize(
    "change",
    [
        SetOrder(member="1", entries=(BootEntry(place=TWO),)),
        SetMode(member="1", mode="hold"),
        SetOnce(member="1", entry=BootEntry(place=TWO)),
        Copy(place=AT, content=two()),
        SetComponent(member="1", component="web", place=Place("flash", "web-2.pkg", "1")),
    ],
)
def test_what_undoes_a_change_leaves_the_device_as_it_was(change):
    what = sw(mode="listed")
    boot = what.members[0].boot
    one = replace(what.members[0], boot=replace(boot, mode=Setting(live="listed", saved="listed")))
    one = replace(one, components=(loads("web", "flash:web-1.pkg"),))
    what = replace(what, members=(one,))
    after = effect(what, change, SHEET)
    assert after != what
    for back in undoing(change, what):
        after = effect(after, back, SHEET)
    assert after == what


def test_a_reload_makes_what_the_walk_starts_what_runs_and_ends_a_once_entry():
    what = sw(image("2.0"), once=TWO)
    after = effect(what, Reload(), SHEET, walk_device(judged(what)))
    assert runs_of(judged(after))[0].place == AT
    assert after.members[0].boot.once is None
    assert after.running.version == "2.0"
    assert boots(after) == (ONE, "proven")


def test_members_that_start_apart_run_apart_after_a_reload():
    first = member(image("1.0"), boots=(ONE,))
    second = member(image("2.0"), boots=(TWO,), id="2")
    what = device(first, second, place=ONE)
    after = judged(effect(what, Reload(), SHEET, walk_device(judged(what))))
    assert [(each.version, each.own) for each in runs_of(after)] == [("1.0", False), ("2.0", True)]


def test_a_commit_makes_the_committed_directory_what_is_on_trial():
    files = (image("2.0", path="t/sw.img"), image("1.0", path="c/sw.img"))
    banks = (
        Bank(name="trial", state="ok", places=("flash:t/sw.img",)),
        Bank(name="committed", state="ok", places=("flash:c/sw.img",)),
    )
    what = device(member(*files, banks=banks), place="flash:t/sw.img", running="2.0")
    assert boots(what, PAIRED) == ("bank:committed", "proven")
    after = effect(what, Commit(member="1"), PAIRED)
    assert boots(after, PAIRED) == ("bank:trial", "proven")
    assert judged(after, PAIRED).members[0].banks["committed"].version == "2.0"
    half = middle(what, Commit(member="1"), PAIRED)
    assert half.members[0].bank("committed").state == "bad"


def test_measuring_and_heeding_bring_knowledge_and_the_configuration_back():
    what = sw(image("2.0", digests=None), components=(Component(component="loader", version="9"),))
    known = effect(what, CheckDigest(place=AT, digests=Digests(md5=digest("sw-2.0.img"))), SHEET)
    assert judged(known).members[0].images[AT.on(None)].judgement.verdict == "proven"
    heeded = effect(effect(what, HeedConfig(member="1"), SHEET), Save(member="1"), SHEET)
    assert heeded.members[0].boot.ignores_saved_config.saved is False
    load = LoadComponent(member="1", component="loader", version="10")
    assert effect(what, load, SHEET).members[0].components[0].version == "10"
    assert middle(what, load, SHEET).members[0].components[0].version is None
    assert effect(what, BackUp(place=AT), SHEET) == what
    assert effect(what, BackUp(), SHEET).config.backed_up_at == what.now


def test_a_change_takes_as_long_as_its_bytes_at_the_rate_of_the_sheet():
    what = sw(image("2.0"))
    assert seconds(Copy(place=AT, content=two()), what, SHEET) == SIZE // MIB
    assert seconds(CheckDigest(place=AT, digests=Digests()), what, SHEET) == SIZE // MIB // 2
    assert seconds(Save(member="1"), what, SHEET) == 0
    assert seconds(Copy(place=AT, content=two()), what, sheet()) is None
    assert seconds(Reload(), what, SHEET) is None


def test_a_replay_tells_what_is_worse_in_the_middle_and_after_for_every_member():
    first = member(image("1.0"), boots=(ONE,))
    second = member(boots=("1/flash:sw-1.0.img",), id="2")
    what = judged(device(first, second, place=ONE))
    walk = walk_device(what)

    def harms(change):
        after = rejudge(what, done(what, what.device, change, walk))
        half = harm_halfway(change, walk, walk_halfway(what, change), frozenset())
        return half, worse(walk, walk_after(what, walk, change, after))

    _, gone = harms(Delete(place=Place("flash", "sw-1.0.img", "1")))
    assert len(gone) == 2
    assert gone[1] == "member 2: the next boot changes from proven to stranded"
    over, _ = harms(Copy(place=Place("flash", "sw-1.0.img", "1"), content=two()))
    assert "proven to stranded" in over[0]
    assert harms(Copy(place=AT, content=two())) == ([], [])
