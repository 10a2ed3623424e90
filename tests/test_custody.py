"""Where an image went wrong, from the catalog to every flash."""

import hashlib
import json

import pytest
from msgspec.structs import replace

from builders import bank, device, digest, image, judged, member, published, release, sheet
from builders.results import VIEW, result
from ovek.engine import custody
from ovek.engine.releases import ReleaseIndex
from ovek.model.catalog import Contained, Origin, Published
from ovek.model.custody import Sighting
from ovek.model.digest import Digests
from ovek.model.results.copies import FleetCustody
from ovek.render.custody import answer
from ovek.render.custody import custody as lines

RELEASES = ReleaseIndex(published(release("1.0")))
RIGHT, BAD, WORSE = (Digests(md5=digest(text)) for text in ("sw-1.0.img", "bad", "worse"))


def seen(hop, place, digests=RIGHT, **more):
    more.setdefault("name", "sw-1.0.img")
    one = Sighting(hop=hop, place=place, size=1, digests=digests, **more)
    return "sw-1.0.img", one


def follow(*copies):
    found = custody.follow(RELEASES, copies)
    assert len(found) == 1
    return found[0]


def groups(one):
    return [(group.label, group.good, [c.place for c in group.copies]) for group in one.groups]


def test_where_every_copy_is_right_nothing_went_wrong():
    one = follow(seen("shelf", "s"), seen("flash", "f"))
    assert one.first_bad is None
    assert groups(one) == [("A", True, ["list.json:1", "s", "f"])]
    assert one.advice == ()


def test_one_bad_flash_is_told_alone():
    one = follow(seen("shelf", "s"), seen("flash", "f", BAD), seen("flash", "g"))
    assert one.first_bad == "flash"
    assert one.advice[0].startswith("B: only f has this content; ")


def test_a_copy_that_was_bad_on_the_shelf_explains_every_flash_that_took_it():
    one = follow(seen("shelf", "s", BAD), seen("flash", "f", BAD), seen("flash", "g", BAD))
    assert one.first_bad == "shelf"
    assert one.advice[0].startswith(
        "B: the copy on the shelf was bad already (s), and so are the copies on f, g; "
    )


SIZED = 100 * 2**20


def test_where_all_copies_on_several_hops_agree_the_published_digest_may_be_wrong():
    one = custody.follow(RELEASES, [
        ("sw-1.0.img", replace(seen(hop, place, BAD)[1], size=SIZED))
        for hop, place in (("shelf", "s"), ("flash", "f"), ("flash", "g"))
    ])[0]  # fmt: skip
    assert one.first_bad is None
    assert one.disputed
    assert one.advice == (
        "B: the published digest may be wrong: all 3 copies, on the shelf and the flash, are the "
        "same; ask the publisher for the digest before you trust or delete a copy",
    )
    near = follow(seen("shelf", "s", BAD), seen("flash", "f", BAD), seen("flash", "g"))
    assert not near.disputed, "one copy is the published one"


def test_a_digest_that_its_publisher_doubts_makes_no_copy_wrong():
    doubted = ReleaseIndex(published(release("1.0", digest_doubtful=True)))
    (one,) = custody.follow(doubted, [seen("shelf", "s"), seen("flash", "f", BAD)])
    assert (one.first_bad, one.disputed) == (None, True)
    assert {group.good for group in one.groups} == {None}


def test_the_publisher_is_asked_again_only_where_no_good_copy_is_left():
    kept = follow(seen("shelf", "s", BAD), seen("flash", "f"))
    assert "copy it again from a good copy on flash, f" in kept.advice[0]
    assert "publisher" not in kept.advice[0]
    lost = follow(seen("shelf", "s", BAD), seen("shelf", "t", BAD))
    assert "get it from the publisher again" in lost.advice[0]


def test_copies_of_which_no_publisher_has_a_digest_are_compared_with_each_other():
    bare = ReleaseIndex(published(release("1.0", digests=Digests())))
    (one,) = custody.follow(bare, [seen("shelf", "s"), seen("flash", "f")])
    assert one.listed_by == "none"
    assert "No publisher has a digest" in answer([one])
    assert "no publisher" not in answer([follow(seen("shelf", "s"))])


def test_a_shelf_that_was_never_read_makes_nothing_missing():
    running = seen("flash", "f", running=True, device="d")
    assert custody.follow(RELEASES, [running])[0].restorable is False
    assert custody.follow(RELEASES, [running], unread=True)[0].restorable is None
    both = [running, seen("shelf", "s")]
    assert custody.follow(RELEASES, both, unread=True)[0].restorable is True


def test_a_record_of_our_own_is_followed_as_such():
    ours = [Published(release("1.0"), Origin("own.json", 1), None, "own")]
    (one,) = custody.follow(ReleaseIndex(ours), [seen("shelf", "s"), seen("flash", "f", BAD)])
    assert one.listed_by == "own"
    assert one.advice[0].startswith("B: differs from your own record")


def test_digests_stand_below_each_other_and_are_marked_from_where_they_differ():
    good, bad = "ab" * 64, "ab" * 50 + "cd" * 14
    one = custody.follow(ReleaseIndex(published(release("1.0", digests=Digests(sha512=good)))), [
        seen("shelf", "s", Digests(sha512=good)), seen("flash", "f", Digests(sha512=bad)),
    ])[0]  # fmt: skip
    shown = [str(line) for line in lines(result(FleetCustody, images=[one]), VIEW)]
    at = shown.index(f"     {bad[64:]}")
    assert shown[at + 1] == "     " + " " * 36 + "^" * 28
    assert f"     {good[:64]}" in shown
    assert all(len(line) <= 80 for line in shown if line.startswith("     "))


def test_a_copy_that_was_bad_in_the_archive_is_the_first_hop():
    one = follow(seen("archive", "a!x", BAD), seen("shelf", "s", BAD))
    assert one.first_bad == "archive"
    assert "in the archive" in one.advice[0]


def test_a_wrong_digest_on_two_flashes_that_no_source_has_is_told():
    one = follow(seen("shelf", "s"), seen("flash", "f", BAD), seen("flash", "g", BAD))
    assert one.advice[0].startswith("B: 2 devices have the same bad copy: f, g; ")


def test_each_wrong_digest_is_a_group_of_its_own():
    one = follow(seen("flash", "f", BAD), seen("flash", "g", WORSE))
    assert [(label, right) for label, right, _ in groups(one)] == [
        ("A", True),
        ("B", False),
        ("C", False),
    ]


def test_copies_measured_by_different_algorithms_meet_at_the_catalog():
    sha = Digests(sha512=digest("sw-1.0.img", "sha512"))
    assert len(follow(seen("shelf", "s"), seen("flash", "f", sha)).groups) == 1


def test_a_copy_without_a_digest_is_not_known():
    one = follow(seen("flash", "f", Digests()))
    assert groups(one)[-1] == ("?", None, ["f"])
    assert one.first_bad is None
    assert one.advice == ("?: 1 copy without a digest",)


def test_where_nothing_published_tells_no_copy_is_called_wrong():
    releases = ReleaseIndex(published(release("1.0", digests=Digests())))
    found = custody.follow(releases, [seen("flash", "f", BAD), seen("flash", "g", WORSE)])[0]
    assert found.first_bad is None
    assert "not in the catalog" in found.advice[-1]


def test_what_runs_and_is_nowhere_on_the_shelf_cannot_be_restored():
    assert follow(seen("flash", "f", running=True)).restorable is False
    assert follow(seen("flash", "f", running=True), seen("shelf", "s", BAD)).restorable is False
    assert follow(seen("flash", "f", running=True), seen("archive", "a!x")).restorable is True
    assert follow(seen("flash", "f")).restorable is None


def test_the_hop_is_the_first_folder_in_the_order_given():
    laptop = seen("shelf", "laptop/a", folder="laptop", order=1)
    stick = seen("shelf", "stick/a", BAD, folder="stick", order=2)
    one = follow(stick, laptop, seen("flash", "f", BAD))
    assert (one.first_bad, one.bad_in) == ("shelf", "stick")
    assert one.advice == (
        "B: the copy on the shelf was bad already (stick/a), and so are the copies on f; "
        "copy it again from "
        "the last good copy, laptop/a",
    )
    other = follow(seen("shelf", "laptop/a", BAD, folder="laptop", order=1), stick)
    assert (other.bad_in, "publisher again" in other.advice[0]) == ("laptop", True)


def test_a_copy_is_held_against_the_publisher_that_has_its_bytes():
    theirs = release("1.0", digests=Digests(md5=digest("theirs")))
    index = ReleaseIndex(
        [*published(release("1.0"), publisher="A"), *published(theirs, publisher="B")]
    )
    copies = [seen("flash", "f"), seen("flash", "g", Digests(md5=digest("theirs")))]
    found = custody.follow(index, copies)
    assert [[copy.place for copy in one.groups[0].copies[1:]] for one in found] == [["f"], ["g"]]
    assert [one.first_bad for one in found] == [None, None]
    bad = custody.follow(index, [*copies, seen("flash", "h", BAD)])
    assert [one.first_bad for one in bad] == ["flash", None]


def test_what_a_release_contains_is_followed():
    inside = Contained(path="x/sw-1.0.img", digests=RIGHT)
    archive_ = release("1.0", file="sw.zip", contains=(inside,))
    index = ReleaseIndex(published(archive_))
    (one,) = custody.follow(index, [seen("flash", "f"), seen("flash", "g", BAD)])
    assert (one.image, one.first_bad, one.listed) == ("sw-1.0.img", "flash", True)


def unlisted(*copies):
    return custody.follow(RELEASES, [(None, copy) for _, copy in copies])


def test_without_a_publisher_copies_are_compared_with_each_other():
    (same,) = unlisted(seen("flash", "f", BAD), seen("flash", "g", BAD))
    assert (same.listed, same.odd, same.restorable) == (False, (), None)
    assert same.advice == (
        "A: not in the catalog, so it cannot be verified; its 2 copies are all the same",
    )
    trio = [seen("flash", place, BAD) for place in "fg"] + [seen("flash", "h", WORSE)]
    (odd,) = unlisted(*trio)
    assert (odd.odd, odd.advice[0].startswith("B: the odd copy is h: 2 others")) == (("B",), True)
    (two,) = unlisted(seen("flash", "f", BAD), seen("flash", "h", WORSE))
    assert (two.odd, "differ from each other" in two.advice[0]) == ((), True)


def test_nothing_is_odd_that_was_digested_otherwise_or_that_several_have():
    other = seen("flash", "h", Digests(sha512=digest("bad", "sha512")))
    (one,) = unlisted(*[seen("flash", place, BAD) for place in "fg"], other)
    assert one.odd == ()
    pairs = [seen("flash", p, BAD) for p in "abc"] + [seen("flash", p, WORSE) for p in "de"]
    assert unlisted(*pairs)[0].odd == ()
    elsewhere = seen("flash", "z", WORSE, sheet="another")
    assert len(unlisted(*[seen("flash", p, BAD) for p in "ab"], elsewhere)) == 2


def test_what_nobody_published_is_found_on_the_shelf_by_its_bytes():
    running = seen("flash", "f", BAD, running=True, name="boot.img")
    (alone,) = unlisted(running)
    assert alone.restorable is False
    (kept,) = unlisted(running, seen("shelf", "s/x.bin", BAD, name="x.bin", folder="s"))
    assert kept.restorable is True
    (named,) = unlisted(running, seen("shelf", "s/boot.img", WORSE, name="boot.img", folder="s"))
    assert named.restorable is False
    assert unlisted(seen("shelf", "s/x.bin", BAD, folder="s")) == []


def test_a_renamed_copy_belongs_where_its_bytes_are():
    one = custody.follow(
        RELEASES, [seen("shelf", "s", BAD), (None, seen("flash", "f", BAD, name="b.img")[1])]
    )
    assert [(each.image, len(each.groups[1].copies)) for each in one] == [("sw-1.0.img", 2)]


def test_copies_under_other_names_are_told():
    assert follow(seen("shelf", "dir/new.img", name="new.img")).renamed == ("dir/new.img",)


def test_copies_on_flash_know_their_device_and_whether_they_run():
    what = device(member(image("1.0"), image("2.0")), place="flash:sw-1.0.img")
    found = [one for _, one in custody.on_flash(judged(what))]
    assert [(one.place, one.running) for one in found] == [
        ("sw flash:sw-1.0.img", True),
        ("sw flash:sw-2.0.img", False),
    ]
    banked = device(member(banks=(bank("a", "1.0"),), default="a"), in_bank="a")
    name, one = next(iter(custody.on_flash(judged(banked, sheet("banks")))))
    assert (name, one.name, one.running) == ("sw-1.0.img", "sw-1.0.img", True)


@pytest.mark.parametrize("text", ["sw-1", "1.0", digest("sw-1.0.img")[:8]])
def test_an_image_is_meant_by_name_version_or_digest(text):
    assert custody.matches(follow(seen("shelf", "s")), text)
    assert not custody.matches(follow(seen("shelf", "s")), "zz")


def test_custody_of_a_site_names_the_hop_where_it_went_wrong(ovek, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(ovek.folder / "cache"))
    bad = Digests(md5=hashlib.md5(b"cut").hexdigest())
    flash = image("1.0", digests=bad, size=3)
    ovek.snapshot(
        device(member(flash, boots=("flash:sw-1.0.img",)), place="flash:sw-1.0.img", device="one"),
        device(member(image("2.0"), boots=("flash:sw-2.0.img",)), device="two"),
    )
    ovek.write("shelf/sw-1.0.img", b"cut")
    shown = ovek("custody", exits=1).stdout
    assert shown.startswith(
        "1 of 2 images has bad copies: sw-1.0.img (first bad copy: on the shelf)."
    )
    assert "and so are the copies on one flash:sw-1.0.img; " in " ".join(shown.split())
    found = ovek.json("custody", "2.0")["images"]
    assert [one["image"] for one in found] == ["sw-2.0.img"]
    assert (
        ovek("custody", "nothing", exits=1).stdout
        == "No copy of such an image on any device or shelf that was read.\n"
    )


def test_a_plan_knows_what_the_shelf_holds(ovek, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(ovek.folder / "cache"))
    data = b"image 2.0"
    catalog = json.loads((ovek.folder / "catalog/list.json").read_text())
    made = {"md5": hashlib.md5(data).hexdigest()}
    catalog["releases"][1].update(digests=made, size=len(data))
    ovek.write("catalog/list.json", json.dumps(catalog))
    old = image("2.0", digests=Digests(**made), size=len(data))
    ovek.snapshot(
        device(member(image("1.0"), image("3.0"), old, boots=("flash:sw-1.0.img",)), device="sw")
    )

    def tier():
        plan = ovek.json("cleanup", "--free", "9GiB", exits=1)["plans"][0]
        return {drop["place"]: drop["tier"] for drop in plan["drop"]}["flash:sw-2.0.img"]

    assert tier() == 4
    ovek.write("shelf/sw-2.0.img", data)
    assert tier() == 3
