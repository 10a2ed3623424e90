"""What a list does not tell and a person says: `catalog annotate`; and lists in other forms."""

import bz2
import os
import tarfile

import pytest

from builders import CATALOG, MIB, ONE, device, digest, image, member
from ovek.files.catalog import read_catalogs, sorted_out
from ovek.files.errors import InputError
from ovek.files.importers import digestlist
from ovek.files.importers.known import importer_of

SHA = digest("sw-2.0.img", "sha512")
SPACED = " ".join(SHA[at : at + 2] for at in range(0, 128, 2))


@pytest.fixture
def listed(ovek):
    """A site whose catalog is a digest list alone."""
    for file in (ovek.folder / "catalog").iterdir():
        file.unlink()
    names = [f"sw-{version}.img" for version in ("1.0", "2.0")]
    lines = "".join(f"{digest(name, 'sha512')}  {name}\n" for name in names)
    ovek.write("catalog/list.sha512", lines)
    ovek.snapshot(
        device(
            member(image("1.0", digests=CATALOG[0].release.digests), boots=(ONE,)),
            place=ONE,
        )
    )
    return ovek


def releases(ovek):
    return {one["file"]: one for one in ovek.json("catalog", "list")["releases"]}


def test_a_digest_list_alone_proves_and_says_for_which_hardware_it_does_not(listed):
    assert "sw: go" in listed("audit", exits=None).stdout
    assert "For 2 of them the catalog does not say" in listed("catalog", "list").stdout
    listed("catalog", "annotate", "sw-*.img", "--hardware", "SW*")
    assert "does not say which hardware" not in listed("catalog", "list").stdout


def test_what_is_said_makes_a_list_plannable_and_stays_when_it_is_imported_again(listed):
    listed.write("policy.toml", 'target = "2.0"\n')
    assert listed.json("audit", exits=None)["devices"][0]["on_target"] is False
    typed = ("catalog", "annotate", "sw-2.0.img", "--version", "2.0", "--hardware", "SW*")
    shown = listed(*typed, "--status", "recommended").stdout
    assert shown.startswith("sw-2.0.img is 1 release: sw-2.0.img")
    one = releases(listed)["sw-2.0.img"]
    assert (one["version"], one["hardware"], one["status"]) == ("2.0", ["SW*"], "recommended")
    assert listed("catalog", "pick", "sw").stdout.startswith("sw: sw-2.0.img (2.0, recommended)")
    again = (listed.folder / "catalog/list.sha512").read_text()
    listed.write("catalog/list.sha512", again + f"{digest('x', 'sha512')}  sw-3.0.img\n")
    assert releases(listed)["sw-2.0.img"]["version"] == "2.0"


def test_what_is_said_anew_of_a_glob_takes_the_place_and_the_rest_stays(listed):
    listed("catalog", "annotate", "sw-*", "--hardware", "AP*", "--track", "feature")
    file = listed.folder / "catalog/annotations.toml"
    file.write_text("# by hand\n" + file.read_text())
    listed("catalog", "annotate", "sw-*", "--hardware", "SW1*", "--hardware", "SW2*")
    assert releases(listed)["sw-1.0.img"]["hardware"] == ["SW1*", "SW2*"]
    assert releases(listed)["sw-1.0.img"]["track"] == "feature"
    assert file.read_text().startswith("# by hand\n"), "what a person wrote stays"
    assert file.read_text().count("[[annotation]]") == 1


def test_a_look_writes_nothing(listed):
    listed("catalog", "annotate", "sw-*", "--version", "9", "--look")
    assert not (listed.folder / "catalog/annotations.toml").exists()


def test_what_cannot_be_said_is_refused_and_nothing_is_written(listed):
    told = listed.refuses("catalog", "annotate", "sw-2.0.im", "--version", "2.0")
    assert "Did you mean 'sw-2.0.img'?" in told
    assert (
        "give at least one of --hardware" in listed("catalog", "annotate", "sw-*", exits=2).stderr
    )
    assert "is empty" in listed("catalog", "annotate", "sw-*", "--version", " ", exits=2).stderr
    assert "'new'" in listed("catalog", "annotate", "sw-*", "--status", "new", exits=2).stderr
    assert not (listed.folder / "catalog/annotations.toml").exists()


@pytest.mark.parametrize(
    ("text", "parts"),
    [
        ('[[annotation]]\nfiles = "a"\nhardwear = ["x"]\n', ["annotation[0].hardwear", "hardware"]),
        ('[[annotation]]\nfiles = "a"\nversion = 7\n', ["annotation[0].version"]),
        ('[[annotation]]\nfiles = "a"\n', ["the annotation of 'a' sets nothing"]),
        ('[[annotation]]\nversion = "1"\n', ["files"]),
        ("[[annotation\n", ["line 1"]),
    ],
)
def test_a_mistake_in_the_file_is_told_with_its_key(listed, text, parts):
    listed.write("catalog/annotations.toml", text)
    told = listed.refuses("catalog", "list")
    assert "annotations.toml" in told
    for part in parts:
        assert part in told


def test_an_annotation_of_nothing_is_a_mistake_of_the_catalog(listed):
    listed.write("catalog/annotations.toml", '[[annotation]]\nfiles = "ap-*"\nversion = "1"\n')
    found = listed.json("catalog", "check", exits=1)["mistakes"]
    assert [(one["kind"], one["file"]) for one in found] == [("annotation-unused", "ap-*")]


def test_the_check_ends_with_one_where_a_line_was_left_out(listed):
    assert listed("catalog", "check").returncode == 0
    file = listed.folder / "catalog/list.sha512"
    file.write_text(file.read_text() + "not a digest\n")
    found = listed.json("catalog", "check", exits=1)["mistakes"]
    assert [one["kind"] for one in found] == ["line-left-out"]
    assert found[0]["origins"] == [{"file": "list.sha512", "line": 3}]


# -- lists -----------------------------------------------------------------------------------------


def read(tmp_path, text, name="list.txt", **said):
    file = tmp_path / name
    file.write_bytes(text if isinstance(text, bytes) else text.encode())
    found, bad = sorted_out(importer_of(file).read(file, said))
    return [one.release.file for one in found], [str(one) for one in bad]


@pytest.mark.parametrize(
    "text",
    [
        f"{SHA}  C:\\images\\new\\sw-2.0.img\n",
        f"{SHA} *images/sw-2.0.img\n",
        f"sw-2.0.img  {SHA}\n",
        f"sw-2.0.img *{SHA}\n",
        f"SHA512 hash of sw-2.0.img:\n{SHA}\nThe command completed successfully.\n",
        f"SHA512 hash of file C:\\images\\sw-2.0.img:\n{SPACED}\n",
        f"{SHA}  sw-2.0.img\n".encode("utf-16"),
        f"SHA512 hash of sw-2.0.img:\r\n{SHA}\r\nDone.\r\n".encode("utf-16"),
    ],
)  # fmt: skip
def test_a_list_in_any_of_these_forms_names_its_file(tmp_path, text):
    assert read(tmp_path, text) == (["sw-2.0.img"], [])


def test_a_name_that_a_list_escapes_keeps_its_backslash(tmp_path):
    assert read(tmp_path, f"\\{SHA}  a\\\\b.img\n") == (["a\\b.img"], [])


@pytest.mark.parametrize("name", ["images.b2", "images.sha3", "b2sum.txt"])
def test_a_list_whose_own_name_says_another_algorithm_is_not_taken_for_one_of_ours(tmp_path, name):
    file = tmp_path / name
    file.write_text(f"{SHA}  sw-2.0.img\n")
    with pytest.raises(InputError, match="suggests another algorithm"):
        sorted_out(digestlist.read(file))
    assert sorted_out(digestlist.read(file, {"algorithm": "sha512"}))[0], "a person may say so"


def test_a_line_of_prose_among_digests_costs_itself(tmp_path):
    names, bad = read(tmp_path, f"{SHA}  sw-2.0.img\nall is well\n", "list.sha512")
    assert names == ["sw-2.0.img"]
    assert len(bad) == 1


def test_a_header_that_lies_about_terabytes_ends_at_once(ovek):
    odd = tarfile.TarInfo("sw-1.0.img")
    odd.type, odd.size = b"Z", 8 * 2**40
    packer = bz2.BZ2Compressor(9)
    packed = packer.compress(odd.tobuf(format=tarfile.GNU_FORMAT))
    for _ in range(256):
        packed += packer.compress(b"\0" * MIB)
    ovek.write("shelf/sw-1.0.tar.bz2", packed + packer.flush())
    shown = ovek("shelf", "-v", exits=None).stdout
    assert "so it was not looked into further" in " ".join(shown.split())
    ovek.write("sw-1.0.img", os.urandom(1000))
    with tarfile.open(ovek.folder / "shelf/good.tar.bz2", "w:bz2") as near:
        near.add(ovek.folder / "sw-1.0.img", "sw-1.0.img")
    assert "good.tar.bz2!sw-1.0.img" in ovek("shelf", "-v", exits=None).stdout


def test_an_empty_folder_has_no_annotations(tmp_path):
    assert read_catalogs(tmp_path) == []
    (tmp_path / "annotations.toml").write_text('format = "ovek.annotations/1"\n')
    assert read_catalogs(tmp_path) == []


def test_a_size_is_said_of_one_file(ovek):
    ovek.write("more.txt", f"{'c' * 64}  sw-3.0.img\n{'d' * 64}  sw-3.1.img\n")
    ovek("catalog", "import", "more.txt")
    told = ovek("catalog", "annotate", "sw-3.*", "--size", "5", exits=2).stderr
    assert "--size is for one file" in told
    ovek("catalog", "annotate", "sw-3.1.img", "--size", "4096")
    (one,) = [each for each in ovek.json("catalog", "list")["releases"]
              if each["file"] == "sw-3.1.img"]  # fmt: skip
    assert one["sizes"] == [4096]
