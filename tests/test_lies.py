"""Files whose headers lie: each costs its own line, within bounded time and memory."""

import bz2
import io
import os
import resource
import struct
import tarfile

import pytest

from ovek.files.structure import structure_of
from ovek.sources.shelf import Cache, read_shelf


def tar_header(size: bytes) -> bytes:
    head = bytearray(tarfile.TarInfo("a").tobuf(tarfile.USTAR_FORMAT))
    head[124:136] = size.ljust(12, b"\0")[:12]
    head[148:156] = b" " * 8
    head[148:156] = b"%06o\0 " % sum(head)
    return bytes(head)


def cpio_header(**fields) -> bytes:
    names = "ino mode uid gid nlink mtime size devmajor devminor rdevmajor rdevminor name check"
    values = [fields.get(name, b"00000000") for name in names.split()]
    return b"070701" + b"".join(values)


def image_tree(nodes: int, depth: int = 1) -> bytes:
    one = struct.pack(">I", 1) + b"n\0\0\0"
    body = (one * depth + struct.pack(">I", 2) * depth) * nodes + struct.pack(">I", 9)
    head = struct.pack(
        ">IIIIIIIIII", 0xD00DFEED, 40 + len(body), 40, 40, 40, 17, 16, 0, 0, len(body)
    )
    return head + body


def elf(**fields) -> bytes:
    head = bytearray(64)
    head[:6] = b"\x7fELF\x02\x01"
    struct.pack_into("<QQ", head, 32, fields.get("table", 64), 0)
    struct.pack_into("<4H", head, 54, fields.get("entry", 56), fields.get("count", 1), 0, 0)
    return bytes(head) + bytes(64)


LIES = {
    "a tar whose member has a size below nought": tar_header(b"-0000001000") + bytes(2048),
    "a tar whose size has a sign": tar_header(b"+0000001000") + bytes(2048),
    "a cpio whose member has a size below nought": cpio_header(size=b"-0000100", name=b"00000002")
    + b"a\0" + bytes(256),
    "a cpio with a blank in a number": cpio_header(size=b" 1      ", name=b"00000002") + b"a\0",
    "an ELF whose segments have no size": elf(entry=0, count=9),
    "an ELF whose segments are shorter than one is": elf(entry=3, count=9),
}  # fmt: skip


@pytest.mark.parametrize("what", LIES)
def test_a_header_that_lies_is_damage_and_nothing_worse(what, tmp_path):
    file = tmp_path / "lie.img"
    file.write_bytes(LIES[what])
    assert structure_of(file).sound is False


@pytest.mark.parametrize(("nodes", "depth"), [(300_000, 1), (1, 2000)])
def test_a_tree_of_too_many_nodes_is_given_up_on(nodes, depth, tmp_path):
    file = tmp_path / "tree.img"
    file.write_bytes(image_tree(nodes, depth))
    assert structure_of(file) is None
    file.write_bytes(image_tree(100))
    assert structure_of(file).sound is True


def shelf(folder):
    cache = Cache(folder.parent / "cache.json", fresh=False)
    found = {one.path: one for one in read_shelf(folder, ("md5",), cache, lambda size: None)}
    cache.save()
    return found


def test_a_small_archive_that_asks_for_much_costs_its_own_look_only(tmp_path):
    """A PAX header of 64 MiB, packed small: no header of an archive is so large."""
    folder = tmp_path / "shelf"
    folder.mkdir()
    head = tarfile.TarInfo("x")
    head.type, head.size = tarfile.XHDTYPE, 2**26
    packer = bz2.BZ2Compressor()
    data = packer.compress(head.tobuf(tarfile.USTAR_FORMAT))
    data += packer.compress(bytes(2**26))
    (folder / "bomb.tar.bz2").write_bytes(data + packer.flush())
    (folder / "sound.img").write_bytes(b"sound")
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    found = shelf(folder)
    assert "asks for" in found["bomb.tar.bz2"].note
    assert found["sound.img"].digests.md5 is not None
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 50 * 1024


def test_names_inside_that_are_no_utf8_are_escaped(tmp_path):
    folder = tmp_path / "shelf"
    folder.mkdir()
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.GNU_FORMAT) as tar:
        info = tarfile.TarInfo(os.fsdecode(b"bad\xff.img"))
        info.size = 3
        tar.addfile(info, io.BytesIO(b"abc"))
    (folder / "odd.tar").write_bytes(out.getvalue())
    assert [one.path for one in shelf(folder)["odd.tar"].members] == ["bad\\xff.img"]


def test_a_byte_changed_in_place_with_its_time_put_back_is_read_again(tmp_path):
    folder = tmp_path / "shelf"
    folder.mkdir()
    file = folder / "a.img"
    file.write_bytes(b"one")
    first = shelf(folder)["a.img"].digests.md5
    times = file.stat()
    with file.open("r+b") as stream:
        stream.write(b"two")
    os.utime(file, ns=(times.st_atime_ns, times.st_mtime_ns))
    assert shelf(folder)["a.img"].digests.md5 != first
