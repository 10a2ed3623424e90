"""Damage that formats prove: files that real tools made, then cut or flipped."""

import bz2
import gzip
import lzma
import random
import shutil
import subprocess
import zipfile

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ovek.files import unpacked
from ovek.files.structure import structure_of

DATA = random.Random(9).randbytes(160_000)


def needs(program):
    if shutil.which(program) is None:
        pytest.skip(f"{program} is not installed (.ci/run installs it)")


def run(folder, *command, stdin=None):
    subprocess.run(command, cwd=folder, check=True, capture_output=True, input=stdin)


def made(folder, kind):
    """A file of a kind, made by the real tool."""
    (folder / "data").write_bytes(DATA)
    out = folder / "made"
    if kind in ("gzip", "xz", "bzip2"):
        needs(kind)
        run(folder, kind, "-k", "data")
        next(folder.glob("data.*")).rename(out)
    elif kind == "zip":
        needs("zip")
        run(folder, "zip", "-q", "made.zip", "data")
        (folder / "made.zip").rename(out)
    elif kind == "tar":
        run(folder, "tar", "-cf", "made", "data")
    elif kind == "ELF":
        shutil.copy(shutil.which("tar"), out)
    elif kind == "SquashFS":
        needs("mksquashfs")
        run(folder, "mksquashfs", "data", "made", "-quiet", "-no-progress", "-noappend")
    elif kind == "U-Boot image":
        needs("mkimage")
        run(folder, "mkimage", "-A", "arm", "-T", "firmware", "-C", "none", "-d", "data", "made")
    elif kind == "image tree":
        needs("mkimage")
        needs("dtc")
        (folder / "tree.its").write_text(
            '/dts-v1/; / { description = "x"; images { one { description = "y";'
            ' data = /incbin/("data"); type = "firmware"; arch = "arm"; compression = "none";'
            ' hash-1 { algo = "sha256"; }; }; }; configurations { default = "c";'
            ' c { firmware = "one"; }; }; };'
        )
        run(folder, "mkimage", "-f", "tree.its", "made")
    elif kind == "cpio":
        needs("cpio")
        run(folder, "cpio", "-o", "-H", "crc", "-O", "made", stdin=b"data\n")
    return out


KINDS = (
    "gzip",
    "xz",
    "bzip2",
    "zip",
    "tar",
    "ELF",
    "SquashFS",
    "U-Boot image",
    "image tree",
    "cpio",
)


@pytest.mark.parametrize("kind", KINDS)
def test_a_whole_file_is_sound(tmp_path, kind):
    found = structure_of(made(tmp_path, kind))
    assert (found.kind, found.sound) == (kind, True)


@pytest.mark.parametrize("kind", KINDS)
def test_a_file_cut_off_is_broken(tmp_path, kind):
    file = made(tmp_path, kind)
    data = file.read_bytes()
    file.write_bytes(data[: len(data) * 3 // 5])
    found = structure_of(file)
    assert (found.kind, found.sound) == (kind, False)
    assert found.why
    assert 0 <= found.offset <= len(data)


@pytest.mark.parametrize(
    "kind", ["gzip", "xz", "bzip2", "zip", "U-Boot image", "image tree", "cpio"]
)
def test_a_flipped_bit_is_found_where_the_format_has_sums(tmp_path, kind):
    file = made(tmp_path, kind)
    data = bytearray(file.read_bytes())
    data[len(data) // 2] ^= 0x10
    file.write_bytes(data)
    assert structure_of(file).sound is False


def test_a_tar_with_a_flipped_header_is_broken_at_its_offset(tmp_path):
    file = made(tmp_path, "tar")
    data = bytearray(file.read_bytes())
    data[3] ^= 1
    file.write_bytes(data)
    found = structure_of(file)
    assert (found.sound, found.offset) == (False, 0)


@pytest.mark.parametrize("kind", ["gzip", "xz", "bzip2"])
def test_other_data_behind_a_whole_stream_is_no_damage(tmp_path, kind):
    file = made(tmp_path, kind)
    file.write_bytes(file.read_bytes() + b"a signature, say")
    assert structure_of(file).sound


def test_of_a_bomb_nothing_is_said(tmp_path, monkeypatch):
    monkeypatch.setattr(unpacked, "RATIO_COUNTS_FROM", 2**20)
    monkeypatch.setattr(unpacked, "MOST_RATIO", 10)
    bomb = tmp_path / "bomb"
    with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("zeros", bytes(32 * 2**20))
    assert structure_of(bomb) is None
    for packed in (gzip.compress, bz2.compress, lzma.compress):
        bomb.write_bytes(packed(bytes(32 * 2**20)))
        assert structure_of(bomb) is None


def test_an_iso_image_is_held_against_its_volume_size(tmp_path):
    needs("genisoimage")
    (tmp_path / "data").write_bytes(DATA)
    run(tmp_path, "genisoimage", "-quiet", "-o", "made", "data")
    file = tmp_path / "made"
    assert structure_of(file).kind == "ISO 9660"
    assert structure_of(file).sound
    file.write_bytes(file.read_bytes()[:100_000])
    assert structure_of(file).sound is False


def test_of_other_files_nothing_is_said(tmp_path):
    file = tmp_path / "a"
    for data in (b"", b"x", b"plain text\n" * 9999, b"\x1f\x8b", b"PK"):
        file.write_bytes(data)
        assert structure_of(file) is None


HEADS = (
    b"\x1f\x8b\x08",
    b"\xfd7zXZ\0",
    b"BZh91AY&SY",
    b"PK\x03\x04",
    b"\x7fELF\x02\x01",
    b"\x7fELF",
    b"hsqs",
    b"\x27\x05\x19\x56",
    b"\xd0\x0d\xfe\xed\0\0\0\x50",
    b"070701",
    b"070702",
    b"x" * 257 + b"ustar",
)


@given(st.sampled_from(HEADS), st.binary(max_size=300))
def test_whatever_follows_a_known_start_it_is_sound_or_broken(tmp_path_factory, head, rest):
    file = tmp_path_factory.getbasetemp() / "any"
    file.write_bytes(head + rest)
    found = structure_of(file)
    assert found is None or found.sound or found.why
