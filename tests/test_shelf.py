"""Files on a server or stick: verdicts, archives, names, pasted digests, lists."""

import gzip
import hashlib
import io
import json
import os
import subprocess
import tarfile
import zipfile

import pytest
from msgspec.structs import replace

from builders import device, digest, image, member, published, release
from ovek.engine.releases import ReleaseIndex
from ovek.engine.shelf import UsedBy, judge_shelf
from ovek.files import unpacked
from ovek.model.digest import Digests
from ovek.model.shelf import ShelfFile
from ovek.sources import shelf

CONTENT = {name: f"image {name}".encode() * 20_000 for name in ("sw-1.0.img", "sw-2.0.img")}


@pytest.fixture
def shelf_site(ovek, monkeypatch):
    """A site whose catalog publishes sw-1.0.img and sw-2.0.img with real digests."""
    monkeypatch.setenv("XDG_CACHE_HOME", str(ovek.folder / "cache"))
    releases = [
        {
            "file": name,
            "size": len(data),
            "version": name[3:6],
            "hardware": ["SW*"],
            "digests": {
                "md5": hashlib.md5(data).hexdigest(),
                "sha256": hashlib.sha256(data).hexdigest(),
            },
        }
        for name, data in CONTENT.items()
    ]
    ovek.write("catalog/list.json", json.dumps({"format": "ovek.catalog/1", "releases": releases}))
    return ovek


def judged(site, *typed, exits=0):
    return {one["path"]: one for one in site.json("shelf", *typed, exits=exits)["files"]}


def test_files_are_judged_and_who_uses_them_is_told(shelf_site):
    made = Digests(md5=hashlib.md5(CONTENT["sw-1.0.img"]).hexdigest())
    file = image("1.0", digests=made, size=len(CONTENT["sw-1.0.img"]))
    shelf_site.snapshot(device(member(file, boots=("flash:sw-1.0.img",)), place="flash:sw-1.0.img"))
    shelf_site.write("shelf/sw-1.0.img", CONTENT["sw-1.0.img"])
    shelf_site.write("shelf/deep/sw-2.0.img", CONTENT["sw-2.0.img"][:-1])
    shelf_site.write("shelf/sw-9.9.img", b"unknown")
    shelf_site.write("shelf/notes.txt", b"notes")
    found = judged(shelf_site, exits=1)
    assert found["sw-1.0.img"]["verdict"] == "proven"
    assert found["sw-1.0.img"]["by"] == "sha256"
    assert found["sw-1.0.img"]["used_by"] == ["sw"]
    assert found["sw-1.0.img"]["hardware"] == ["SW*"]
    assert found["deep/sw-2.0.img"]["verdict"] == "truncated"
    assert found["sw-9.9.img"]["verdict"] == "unlisted"
    assert found["notes.txt"]["verdict"] is None
    shown = shelf_site("shelf", exits=1).stdout
    assert shown.startswith("3 images: 1 proven, 1 unlisted, 1 truncated.")
    assert "notes.txt" not in shown
    assert "notes.txt" in shelf_site("shelf", "-v", exits=1).stdout


def test_a_file_that_bears_one_name_and_holds_another_release_leads_the_output(shelf_site):
    shelf_site.write("shelf/sw-1.0.img", CONTENT["sw-2.0.img"])
    shelf_site.write("shelf/mine.img", CONTENT["sw-1.0.img"])
    shown = shelf_site("shelf", exits=1).stdout
    assert shown.startswith(
        "sw-1.0.img contains sw-2.0.img, but has the name of sw-1.0.img; rename it.\n2 images: 2 "
    )
    found = judged(shelf_site, exits=1)
    assert [found[name]["named"] for name in ("sw-1.0.img", "mine.img")] == ["sw-1.0.img", None]
    shelf_site.write("shelf/sw-1.0.img", CONTENT["sw-1.0.img"])
    assert shelf_site("shelf").stdout.startswith("2 images: 2 proven.")


def test_the_shelf_says_which_file_is_the_one_for_a_device_and_why_not_the_others(shelf_site):
    shelf_site.snapshot(device(member(image("1.0")), place="flash:sw-1.0.img"))
    shelf_site.write("shelf/sw-1.0.img", CONTENT["sw-1.0.img"])
    shelf_site.write("shelf/sw-9.9.img", b"unknown")
    shown = shelf_site("shelf", "--for", "sw", exits=1).stdout
    assert shown.startswith("sw: needs sw-2.0.img; it is not on this shelf.")
    shelf_site.write("shelf/sw-2.0.img", CONTENT["sw-2.0.img"][:-1])
    shown = shelf_site("shelf", "--for", "sw", exits=1).stdout
    assert shown.startswith("sw: needs sw-2.0.img; the copies here are bad. Download it again.")
    assert "this copy is truncated" in shown
    shelf_site.write("shelf/deep/sw-2.0.img", CONTENT["sw-2.0.img"])
    shown = shelf_site("shelf", "--for", "sw").stdout
    assert shown.startswith("sw: needs sw-2.0.img; proven copy: deep/sw-2.0.img.")
    offered = shelf_site.json("shelf", "--for", "sw")["offer"]
    assert {each["path"]: (each["use"], each["why"]) for each in offered["files"]} == {
        "deep/sw-2.0.img": ("the one", ""),
        "sw-2.0.img": ("the one", "this copy is truncated"),
        "sw-1.0.img": ("no", "sw-2.0.img is newer"),
        "sw-9.9.img": ("no", "it is not in the catalog, so its hardware is unknown"),
    }


@pytest.mark.parametrize(
    "name",
    ["SW-1.0.IMG", "sw-1.0 (2).img", "sw-1.0 - Copy.img", "Copy of sw-1.0.img", "sw-1.0.img.bak"],
)
def test_a_name_that_differs_a_little_is_understood(shelf_site, name):
    shelf_site.write(f"shelf/{name}", CONTENT["sw-1.0.img"])
    assert "under another name" in judged(shelf_site)[name]["why"]
    shelf_site.write(f"shelf/{name}", b"x" * len(CONTENT["sw-1.0.img"]))
    assert judged(shelf_site, exits=1)[name]["verdict"] == "altered"


def test_a_name_without_its_ending_is_understood():
    releases = ReleaseIndex(published(release("1.0", size=3)))
    one = ShelfFile(path="sw-1.0", size=3, digests=Digests(md5=digest("other")))
    assert next(judge_shelf([one], releases, (), UsedBy())).verdict == "altered"


def archive(kind):
    """An archive of that kind with sw-1.0.img inside."""
    data, out = CONTENT["sw-1.0.img"], io.BytesIO()
    if kind == "zip":
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
            made.writestr("dir/sw-1.0.img", data)
    elif kind == "gz":
        out.write(gzip.compress(data))
    else:
        with tarfile.open(fileobj=out, mode=f"w{kind.removeprefix('tar')}") as made:
            entry = tarfile.TarInfo("dir/sw-1.0.img")
            entry.size = len(data)
            made.addfile(entry, io.BytesIO(data))
    return out.getvalue()


@pytest.mark.parametrize("kind", ["zip", "tar", "tar:gz", "tar:xz", "tar:bz2", "gz"])
def test_archives_are_looked_into(shelf_site, kind):
    shelf_site.write("shelf/sw-1.0.img.pack", archive(kind))
    inside = [one for path, one in judged(shelf_site).items() if "!" in path]
    assert [one["verdict"] for one in inside] == ["proven"]
    assert inside[0]["release"] == "sw-1.0.img"


def published_archive(site, data, **more):
    """A catalog that publishes sw-1.0.zip alone; what is inside has no digest of its own."""
    made = {"sha256": hashlib.sha256(data).hexdigest()}
    one = {"file": "sw-1.0.zip", "size": len(data), "version": "1.0", "hardware": ["SW*"],
           "digests": made, **more}  # fmt: skip
    site.write("catalog/list.json", json.dumps({"format": "ovek.catalog/1", "releases": [one]}))


def test_a_proven_archive_proves_the_image_in_it_there_and_on_flash(shelf_site):
    data = archive("zip")
    published_archive(shelf_site, data)
    shelf_site.write("shelf/sw-1.0.zip", data)
    inside = hashlib.sha256(CONTENT["sw-1.0.img"]).hexdigest()
    file = image("1.0", digests=Digests(sha256=inside), size=len(CONTENT["sw-1.0.img"]))
    bad = image("1.0", digests=Digests(sha256=digest("x", "sha256")), size=file.size)
    flashes = [device(member(one, boots=("flash:sw-1.0.img",)), place="flash:sw-1.0.img",
                      device=name) for name, one in (("good", file), ("bad", bad))]  # fmt: skip
    shelf_site.snapshot(*flashes)

    def verdicts():
        walks = shelf_site.json("bootwalk", exits=None)["devices"]
        boots = {one["device"]: one["members"][0]["boots"] or {} for one in walks}
        return {name: image.get("verdict") for name, image in boots.items()}

    assert verdicts() == {"good": "unlisted", "bad": "unlisted"}
    told = shelf_site("shelf")
    assert "the contents of sw-1.0.zip are stored in catalog/opened.json" in told.stderr
    assert "sw-1.0.zip!dir/sw-1.0.img: it is inside a proven archive" not in told.stdout
    assert judged(shelf_site)["sw-1.0.zip!dir/sw-1.0.img"]["verdict"] == "proven"
    assert verdicts() == {"good": "proven", "bad": None}  # the altered one may not start
    assert shelf_site("shelf").stderr == ""
    assert "lies in       sw-1.0.zip" in shelf_site("catalog", "show", "sw-1.0.img").stdout


def test_what_an_archive_contains_counts_only_while_a_publisher_has_the_archive(shelf_site):
    data = archive("zip")
    published_archive(shelf_site, data)
    shelf_site.write("shelf/sw-1.0.zip", data)
    shelf_site("shelf")
    assert "lies in" in shelf_site("catalog", "show", "sw-1.0.img").stdout
    published_archive(shelf_site, data + b"x")  # the list was wrong, and is mended
    assert "has no release 'sw-1.0.img'" in shelf_site.refuses("catalog", "show", "sw-1.0.img")


def test_what_an_archive_contains_does_not_count_while_sources_disagree_on_the_archive(shelf_site):
    data = archive("zip")
    published_archive(shelf_site, data)
    shelf_site.write("shelf/sw-1.0.zip", data)
    shelf_site("shelf")
    other = {"file": "sw-1.0.zip", "digests": {"sha256": hashlib.sha256(b"other").hexdigest()}}
    shelf_site.write(
        "catalog/other.json", json.dumps({"format": "ovek.catalog/1", "releases": [other]})
    )
    assert "has no release 'sw-1.0.img'" in shelf_site.refuses("catalog", "show", "sw-1.0.img")


def test_what_an_archive_contains_is_proven_no_better_than_the_archive(shelf_site):
    data = archive("zip")
    published_archive(shelf_site, data, digests={"md5": hashlib.md5(data).hexdigest()})
    used = Digests(sha512=hashlib.sha512(CONTENT["sw-1.0.img"]).hexdigest())
    file = image("1.0", digests=used, size=len(CONTENT["sw-1.0.img"]))
    shelf_site.snapshot(device(member(file, boots=("flash:sw-1.0.img",)), place="flash:sw-1.0.img"))
    shelf_site.write("shelf/sw-1.0.zip", data)
    found = judged(shelf_site)["sw-1.0.zip"]
    ((name, _),) = found["contains"][0]["digests"].items()
    assert (found["by"], name) == ("md5", "md5")
    walk = shelf_site.json("bootwalk", exits=None)["devices"][0]
    assert walk["members"][0]["boots"]["verdict"] == "unverified"


def test_what_lies_in_an_archive_is_the_one_where_the_archive_is(shelf_site):
    data = archive("zip")
    published_archive(shelf_site, data, status="recommended", kind="system-image")
    shelf_site.snapshot(device(member(image("0.9")), running="0.9"))
    shelf_site.write("shelf/sw-1.0.zip", data)
    for _ in ("before it is kept", "after"):
        offered = shelf_site.json("shelf", "--for", "sw")["offer"]
        assert {one["path"]: one["use"] for one in offered["files"]} == {
            "sw-1.0.zip": "the one",
            "sw-1.0.zip!dir/sw-1.0.img": "the one",
        }


def test_a_bad_line_of_a_list_is_told_once(shelf_site):
    shelf_site.snapshot(device(member(image("1.0")), place="flash:sw-1.0.img"))
    shelf_site.write("catalog/bad.md5", f"{digest('a')}  a.img\nzz\n")
    shelf_site.write("shelf/sw-2.0.img", CONTENT["sw-2.0.img"])
    assert shelf_site("shelf", "--for", "sw").stderr.count("is ignored") == 1


def test_an_archive_that_is_altered_or_holds_a_choice_proves_nothing(shelf_site):
    data = archive("zip")
    published_archive(shelf_site, data + b"x")
    shelf_site.write("shelf/sw-1.0.zip", data)
    shelf_site("shelf", exits=1)
    out = io.BytesIO(data)
    with zipfile.ZipFile(out, "a") as made:
        made.writestr("dir/sw-2.0.img", CONTENT["sw-2.0.img"])
    published_archive(shelf_site, out.getvalue())
    shelf_site.write("shelf/sw-1.0.zip", out.getvalue())
    assert shelf_site("shelf").stderr == ""
    assert not (shelf_site.folder / "catalog/opened.json").exists()


def test_room_is_made_for_the_image_inside_and_not_for_its_archive(shelf_site):
    data = archive("zip")
    inside = {"path": "dir/sw-1.0.img", "size": len(CONTENT["sw-1.0.img"]),
              "digests": {"sha256": hashlib.sha256(CONTENT["sw-1.0.img"]).hexdigest()}}  # fmt: skip
    published_archive(shelf_site, data, contains=[inside])
    shelf_site.snapshot(device(member(image("2.0"), boots=("flash:sw-2.0.img",))))
    (plan,) = shelf_site.json("cleanup", "--room-for", "sw-1.0.zip", exits=None)["plans"]
    assert plan["made_of"]["image"] >= len(CONTENT["sw-1.0.img"]) > len(data)
    assert plan["made_of"]["file"] == "sw-1.0.img"


def test_a_damaged_archive_is_broken_inside(shelf_site):
    data = bytearray(archive("gz"))
    data[-6] ^= 1
    shelf_site.write("shelf/sw-1.0.img.gz", bytes(data))
    found = judged(shelf_site, exits=1)["sw-1.0.img.gz"]
    assert found["structure"]["sound"] is False
    assert "internal damage" in found["why"]


def test_a_bomb_is_given_up_on(tmp_path, monkeypatch):
    monkeypatch.setattr(unpacked, "RATIO_COUNTS_FROM", 2**20)
    file = tmp_path / "bomb.gz"
    file.write_bytes(gzip.compress(bytes(64 * 2**20)))
    members, note = shelf._inside(file, ("md5",))
    assert members == ()
    assert "1000 times its size" in note


def test_links_pipes_and_hidden_files_are_passed_over(shelf_site):
    shelf_site.write("outside.img", b"secret")
    shelf_site.write("shelf/sw-1.0.img", CONTENT["sw-1.0.img"])
    (shelf_site.folder / "shelf/link.img").symlink_to("../outside.img")
    (shelf_site.folder / "shelf/out").symlink_to("/etc")
    os.mkfifo(shelf_site.folder / "shelf/pipe.img")
    assert list(judged(shelf_site)) == ["sw-1.0.img"]


def test_a_name_with_control_characters_is_made_visible(shelf_site):
    shelf_site.write("shelf/sw-\x1b[2J1.0.img", b"x")
    shown = shelf_site("shelf", "-v", exits=None).stdout
    assert "\x1b" not in shown
    assert "\\x1b[2J" in shown


def test_the_second_run_reads_no_file_that_has_not_changed(shelf_site):
    file = shelf_site.write("shelf/sw-1.0.img", CONTENT["sw-1.0.img"])
    right = judged(shelf_site)["sw-1.0.img"]["digests"]["sha256"]
    cache = next((shelf_site.folder / "cache").rglob("shelf.json"))
    # What the cache tells is taken: that is how it shows that the file is not read.
    cache.write_bytes(cache.read_bytes().replace(right.encode(), b"0" * 64))
    assert judged(shelf_site, exits=1)["sw-1.0.img"]["verdict"] == "altered"
    assert judged(shelf_site, "--fresh")["sw-1.0.img"]["verdict"] == "proven"
    before = file.stat()
    file.write_bytes(b"y" * before.st_size)
    os.utime(file, ns=(before.st_atime_ns, before.st_mtime_ns))
    assert judged(shelf_site, exits=1)["sw-1.0.img"]["verdict"] == "altered"
    file.write_bytes(CONTENT["sw-1.0.img"])
    assert judged(shelf_site)["sw-1.0.img"]["verdict"] == "proven"


@pytest.mark.parametrize("program", ["md5sum", "sha512sum"])
def test_a_written_list_is_accepted_by_the_real_program(shelf_site, program):
    for name in ("sw-1.0.img", "with blank.img", "back\\slash", "line\nfeed", "ünï"):
        shelf_site.write(f"shelf/{name}", name.encode())
    listing = shelf_site.folder / f"all.{program.removesuffix('sum')}"
    shelf_site("shelf", "--write-list", listing.name, exits=1)
    folder = shelf_site.folder / "shelf"
    done = subprocess.run(
        [program, "-c", str(listing)], cwd=folder, capture_output=True, check=True
    )
    assert done.stdout.count(b": OK") == 5


def test_a_pasted_digest_is_compared_in_full_with_the_first_difference_marked(shelf_site):
    file = shelf_site.write("a.img", b"x")
    made = digest("x", "sha256")
    pasted = ":".join(made[at : at + 2] for at in range(0, 64, 2)).upper()
    assert "a.img has this SHA-256." in shelf_site("shelf", "--expect", pasted, file.name).stdout
    other = made[:9] + ("0" if made[9] != "0" else "1") + made[10:]
    shown = shelf_site("shelf", "--expect", other, file.name, exits=1).stdout.splitlines()
    assert shown[0] == "a.img does not have this SHA-256."
    assert shown[1].endswith(other)
    assert shown[2].endswith(made)
    assert shown[3].index("^") == shown[2].index(made) + 9
    assert "character 10 of 64" in shown[3]


@pytest.mark.parametrize(
    ("typed", "told"),
    [
        (["shelf", "--expect", "abc", "a.img"], "not a digest"),
        (["shelf", "--expect", "z" * 32, "a.img"], "hex"),
        (["shelf", "--expect", "0" * 32], "give the file"),
        (["shelf", "--expect", "0" * 32, "gone.img"], "gone.img"),
        (["shelf", "--write-list", "a.txt", "."], ".sha512"),
        (["shelf", "nowhere"], "nowhere"),
    ],
)
def test_wrong_words_are_told(shelf_site, typed, told):
    assert told in shelf_site(*typed, exits=2).stderr


def test_a_file_that_cannot_be_read_costs_its_own_line(tmp_path, monkeypatch):
    (tmp_path / "good").write_bytes(b"x")
    (tmp_path / "bad").write_bytes(b"x")
    real = shelf.digest_stream

    def failing(stream, algorithms, advance):
        if stream.name.endswith("bad"):
            raise OSError(5, "Input/output error")
        return real(stream, algorithms, advance)

    monkeypatch.setattr(shelf, "digest_stream", failing)
    cache = shelf.Cache(tmp_path / ".cache.json", fresh=False)
    found = shelf.read_shelf(tmp_path, ("md5",), cache, lambda size: None)
    assert {one.path: one.problem for one in found} == {
        "bad": "it cannot be read (input/output error)",
        "good": None,
    }


def test_a_file_that_grows_meanwhile_is_told(tmp_path, monkeypatch):
    file = tmp_path / "growing"
    file.write_bytes(b"x")
    real = shelf.digest_stream

    def growing(stream, algorithms, advance):
        file.write_bytes(b"xy")
        return real(stream, algorithms, advance)

    monkeypatch.setattr(shelf, "digest_stream", growing)
    cache = shelf.Cache(tmp_path / ".cache.json", fresh=False)
    found = shelf.read_shelf(tmp_path, ("md5",), cache, lambda size: None)
    assert found[0].problem == "it changed while it was read"


def test_a_cache_that_cannot_be_read_is_no_cache(shelf_site):
    shelf_site.write("shelf/sw-1.0.img", CONTENT["sw-1.0.img"])
    judged(shelf_site)
    cache = next((shelf_site.folder / "cache").rglob("shelf.json"))
    cache.write_bytes(b"nonsense")
    assert judged(shelf_site)["sw-1.0.img"]["verdict"] == "proven"


def test_policy_sets_the_weakest_digest_that_proves_a_file(shelf_site):
    shelf_site.write("shelf/sw-1.0.img", CONTENT["sw-1.0.img"])
    shelf_site.write("policy.toml", 'weakest_digest = "sha512"\n')
    found = judged(shelf_site)["sw-1.0.img"]
    assert found["verdict"] == "unverified"
    assert "policy requires SHA-512 or stronger" in found["why"]


def test_an_audit_tells_what_runs_and_is_not_on_the_shelf_or_broken_there(shelf_site):
    packed = gzip.compress(os.urandom(5000))[:-900]
    broken = Digests(sha256=hashlib.sha256(packed).hexdigest())
    made = Digests(md5=hashlib.md5(CONTENT["sw-1.0.img"]).hexdigest())
    files = [image("1.0", digests=made), image("9.9", digests=broken)]
    place = "flash:sw-1.0.img"
    shelf_site.snapshot(device(member(*files, boots=(place,)), place=place))
    rules = {f["rule"] for f in shelf_site.json("audit")["devices"][0]["findings"]}
    assert not rules & {"image-not-on-shelf", "image-broken-inside"}
    shelf_site.write("shelf/sw-9.9.img.gz", packed)
    rules = {f["rule"] for f in shelf_site.json("audit")["devices"][0]["findings"]}
    assert rules >= {"image-not-on-shelf", "image-broken-inside"}
    shelf_site.write("shelf/sw-1.0.img", CONTENT["sw-1.0.img"])
    rules = {f["rule"] for f in shelf_site.json("audit")["devices"][0]["findings"]}
    assert "image-not-on-shelf" not in rules


@pytest.mark.parametrize("lie", ["problem", "size", "changed", None])
def test_what_is_read_elsewhere_counts_where_it_is_the_file_that_lies_here(tmp_path, lie):
    file = tmp_path / "sw.img"
    file.write_bytes(b"one " * 100)
    asked = []

    class Answer:
        def __init__(self, found):
            self.found = found

        def result(self, kind):
            assert kind is ShelfFile
            if lie == "changed":
                file.write_bytes(b"two " * 100)
            return self.found

    def elsewhere(function, *args):
        asked.append(args)
        told = {"problem": {"problem": "it cannot be read"}, "size": {"size": 7}}.get(lie, {})
        return Answer(replace(function(*args), **told))

    cache = shelf.Cache(tmp_path / ".cache", fresh=True)
    (found,) = shelf.read_shelf(tmp_path, ("md5",), cache, lambda size: None, 1, elsewhere)
    assert asked and found.problem is None and found.size == 400
    assert found.digests.md5 == hashlib.md5(file.read_bytes()).hexdigest()
