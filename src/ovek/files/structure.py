"""Damage that a file's own format can prove, told by content and not by name.

Each check reads what the format itself promises: gzip (RFC 1952), xz and bzip2 streams with their
checks, zip (CRC-32 of each member), tar (POSIX ustar header sums, the end), ELF (segments and
sections inside the file), SquashFS (bytes used), U-Boot's legacy image (CRC-32 of header and data)
and flattened image tree (total size, hashes inside), ISO 9660 (volume size), and cpio "newc" (the
end, sums where it has them). A file of none of these is None: nothing is said of it.
"""

import errno
import hashlib
import lzma
import re
import struct
import zipfile
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import BinaryIO

from ovek.files.safe_open import opened
from ovek.files.unpacked import Bounds, DamagedArchiveError, TooMuchError, unpacked
from ovek.model.structure import Structure

_CHUNK = 2**20

_MOST_NODES = 20_000  # of a tree, and how deep one may be
_MOST_DEEP = 64
_MOST_TREE = 256 * 2**20  # bytes of a tree that are held at once
_OCTAL, _HEX = re.compile(rb"[0-7]*"), re.compile(rb"[0-9A-Fa-f]+")
MOST_DIRECTORY = 8 * 2**20  # bytes of a zip's directory, which is held at once
# What damaged members make of the readers; a place before the start of the file is EINVAL.
_UNPACKING = (zipfile.BadZipFile, zlib.error, lzma.LZMAError, EOFError)
# What headers that lie make of the readers.
_LIES = (struct.error, ValueError, OverflowError, LookupError, RecursionError, MemoryError)


class _Broken(Exception):  # noqa: N818 - says what the file is, no error of ours
    """What is broken, and the offset in bytes."""

    def __init__(self, why: str, offset: int) -> None:
        super().__init__(why)
        self.offset = offset


def structure_of(file: Path) -> Structure | None:
    """Recognise a file by its content and check it; None where it is of no known format.

    Raises OSError.
    """
    with opened(file) as stream:
        size = stream.seek(0, 2)
        stream.seek(0)
        head = stream.read(512)
        for kind, fits, check in _KINDS:
            if fits(head) or (kind == "ISO 9660" and _is_iso(stream)):
                stream.seek(0)
                try:
                    check(stream, size)
                except TooMuchError:
                    return None
                except _Broken as broken:
                    return Structure(kind=kind, sound=False, why=str(broken), offset=broken.offset)
                except _LIES as wrong:
                    why = f"its header is impossible ({wrong})"
                    return Structure(kind=kind, sound=False, why=why, offset=0)
                return Structure(kind=kind, sound=True)
    return None


def _compressed(stream: BinaryIO, size: int) -> None:
    bounds = Bounds(size)
    try:
        with unpacked(stream) as inside:
            while data := inside.read1(_CHUNK):
                bounds.take(len(data))
    except EOFError:
        raise _Broken("it ends in the middle of a stream", size) from None
    except DamagedArchiveError as wrong:
        if wrong.memory:
            raise TooMuchError("it needs too much memory") from None
        raise _Broken(f"the data does not unpack ({wrong})", stream.tell()) from None


def _zip(stream: BinaryIO, size: int) -> None:
    bounds = Bounds(size)
    if directory_size(stream, size) > MOST_DIRECTORY:
        raise TooMuchError("its directory is too large")
    try:
        with zipfile.ZipFile(stream) as archive:
            for member in archive.infolist():
                try:
                    with archive.open(member) as inside:
                        while data := inside.read(_CHUNK):
                            bounds.take(len(data))
                except (*_UNPACKING, OSError) as wrong:
                    if isinstance(wrong, OSError) and wrong.errno not in (None, errno.EINVAL):
                        raise
                    why = f"the member {member.filename!r} is damaged ({wrong})"
                    raise _Broken(why, member.header_offset) from None
                except (RuntimeError, NotImplementedError):
                    continue  # encrypted, or packed in a way not known here: nothing to be said
    except NotImplementedError:
        raise TooMuchError("it is of a later version of the format") from None
    except zipfile.BadZipFile as wrong:
        raise _Broken(f"its directory is damaged or cut off ({wrong})", size) from None


def directory_size(stream: BinaryIO, size: int) -> int:
    """How large a zip says that its directory is, in bytes; its readers hold all of it at once.

    APPNOTE.TXT, 4.3.14 to 4.3.16: the record at the end, and its wider one where that is used.
    """
    stream.seek(max(0, size - 2**16 - 22))
    end = stream.read(2**16 + 22)
    stream.seek(0)
    at = end.rfind(b"PK\x05\x06")
    if at < 0 or len(end) < at + 22:
        return 0
    wide = end.rfind(b"PK\x06\x06", 0, at)
    told: int = struct.unpack_from("<I", end, at + 12)[0]
    if wide >= 0 and len(end) >= wide + 56:
        told = max(told if told != 0xFFFFFFFF else 0, struct.unpack_from("<Q", end, wide + 40)[0])
    return min(told, size)


def _tar(stream: BinaryIO, size: int) -> None:
    at = 0
    while True:
        header = stream.read(512)
        if len(header) < 512:
            raise _Broken("it ends without the two empty blocks of a tar", at)
        if header == bytes(512):
            return
        told, summed = header[148:156].strip(b" \0"), sum(header[:148]) + 256 + sum(header[156:])
        length = header[124:136]
        data = int.from_bytes(length[1:], "big") if length[0] & 0x80 else _octal(length)
        if data is None or _octal(told) != summed:
            raise _Broken("the sum of a header is wrong", at)
        at += 512 + -(-data // 512) * 512
        if at > size:
            raise _Broken("a member reaches beyond the end of the file", size)
        stream.seek(at)


def _octal(field: bytes) -> int | None:
    """A number as tar writes it; None for what is none, a sign in front among it."""
    digits = field.strip(b" \0")
    return int(digits or b"0", 8) if _OCTAL.fullmatch(digits) else None


def _elf(stream: BinaryIO, size: int) -> None:
    head = stream.read(64)
    wide, order = head[4] == 2, "<" if head[5] == 1 else ">"
    if len(head) < (64 if wide else 52):
        raise _Broken("it is shorter than an ELF header", len(head))
    if wide:
        table, sections = struct.unpack_from(f"{order}QQ", head, 32)
        entry, count, section, sections_count = struct.unpack_from(f"{order}4H", head, 54)
    else:
        table, sections = struct.unpack_from(f"{order}II", head, 28)
        entry, count, section, sections_count = struct.unpack_from(f"{order}4H", head, 42)
    for at, length, what in (
        (table, entry * count, "program headers"),
        (sections, section * sections_count, "section headers"),
    ):
        if at + length > size:
            raise _Broken(f"its {what} end at {at + length}, beyond the file", size)
    for number in range(count):
        stream.seek(table + number * entry)
        data = stream.read(entry)
        place, layout = (8, "QQQQ") if wide else (4, "IIII")
        offset, _, _, length = struct.unpack_from(f"{order}{layout}", data, place)
        if offset + length > size:
            raise _Broken(f"segment {number} ends at {offset + length}, beyond the file", size)


def _squashfs(stream: BinaryIO, size: int) -> None:
    head = stream.read(96)
    if len(head) < 96:
        raise _Broken("it is shorter than its superblock", len(head))
    (used,) = struct.unpack_from("<Q", head, 40)
    if used > size:
        raise _Broken(f"it uses {used} bytes and the file has {size}", size)


def _legacy_image(stream: BinaryIO, size: int) -> None:
    head = stream.read(64)
    if len(head) < 64:
        raise _Broken("it is shorter than its header", len(head))
    told, length, data_told = struct.unpack_from(">I4xI8xI", head, 4)
    if zlib.crc32(head[:4] + bytes(4) + head[8:]) != told:
        raise _Broken("the CRC-32 of its header is wrong", 4)
    if 64 + length > size:
        raise _Broken(f"it should have {length} bytes of data, and the file ends earlier", size)
    summed, left = 0, length
    while left and (data := stream.read(min(_CHUNK, left))):
        summed, left = zlib.crc32(data, summed), left - len(data)
    if summed != data_told:
        raise _Broken("the CRC-32 of its data is wrong", 64)


def _image_tree(stream: BinaryIO, size: int) -> None:
    head = stream.read(40)
    if len(head) < 40:
        raise _Broken("it is shorter than its header", len(head))
    total, structs, strings = struct.unpack_from(">III", head, 4)
    if total > size:
        raise _Broken(f"its tree has {total} bytes and the file {size}", size)
    if total > _MOST_TREE:
        raise TooMuchError("its tree is too large")
    stream.seek(0)
    tree = stream.read(total)
    base = -(-total // 4) * 4
    hashes: dict[str, list[dict[str, bytes]]] = {}
    images = []
    for path, found in _nodes(tree, structs, strings):
        front, slash, name = path.rpartition("/")
        if name.startswith("hash"):
            hashes.setdefault(front, []).append(found)
        elif slash and path.startswith("/images/"):
            images.append((path, found))
    for path, found in images:
        if path not in hashes:
            continue
        data = found.get("data")
        if data is None and "data-size" in found:
            at = base + int.from_bytes(found.get("data-offset", b""), "big")
            length = int.from_bytes(found["data-size"], "big")
            if length > _MOST_TREE:
                raise TooMuchError("its tree is too large")
            stream.seek(int.from_bytes(found.get("data-position", b""), "big") or at)
            data = stream.read(length)
        for facts in hashes[path] if data is not None else ():
            assert data is not None
            _check_hash(path, facts, data)


def _check_hash(path: str, facts: dict[str, bytes], data: bytes) -> None:
    algorithm = facts.get("algo", b"").rstrip(b"\0").decode("ascii", "replace")
    value = facts.get("value", b"")
    if algorithm == "crc32":
        made = zlib.crc32(data).to_bytes(4, "big")
    elif algorithm in ("md5", "sha1", "sha256", "sha384", "sha512"):
        made = hashlib.new(algorithm, data, usedforsecurity=False).digest()
    else:
        return
    if made != value:
        raise _Broken(f"the {algorithm} of {path} is wrong", 0)


def _nodes(tree: bytes, at: int, strings: int) -> Iterator[tuple[str, dict[str, bytes]]]:
    """Go through the nodes of a flattened device tree (Devicetree specification, chapter 5)."""
    path: list[str] = []
    facts: list[dict[str, bytes]] = []
    number = 0
    try:
        while True:
            (token,) = struct.unpack_from(">I", tree, at)
            at += 4
            if token == 1:
                end = tree.index(b"\0", at)
                path.append(tree[at:end].decode("utf-8", "replace"))
                facts.append({})
                number += 1
                if number > _MOST_NODES or len(path) > _MOST_DEEP:
                    raise TooMuchError("its tree is too large")
                at = -(-(end + 1) // 4) * 4
            elif token == 2:
                yield "/".join(path) or "/", facts.pop()
                path.pop()
            elif token == 3:
                length, name = struct.unpack_from(">II", tree, at)
                end = tree.index(b"\0", strings + name)
                key = tree[strings + name : end].decode("utf-8", "replace")
                facts[-1][key] = tree[at + 8 : at + 8 + length]
                at = -(-(at + 8 + length) // 4) * 4
            elif token == 9:
                return
            elif token != 4:
                raise _Broken("its tree holds an unknown mark", at - 4)
    except (struct.error, ValueError, IndexError):
        raise _Broken("its tree ends in the middle", min(at, len(tree))) from None


def _is_iso(stream: BinaryIO) -> bool:
    stream.seek(32768)
    return stream.read(6) == b"\x01CD001"


def _iso(stream: BinaryIO, size: int) -> None:
    stream.seek(32768)
    volume = stream.read(2048)
    if len(volume) < 132:
        raise _Broken("its volume descriptor is cut off", size)
    blocks, block = (
        struct.unpack_from("<I", volume, 80)[0],
        struct.unpack_from("<H", volume, 128)[0],
    )
    if blocks * block > size:
        raise _Broken(f"its volume has {blocks * block} bytes and the file {size}", size)


def _cpio(stream: BinaryIO, size: int) -> None:
    at = 0
    while True:
        stream.seek(at)
        head = stream.read(110)
        if len(head) < 110:
            raise _Broken("it ends without the trailer of a cpio", at)
        if not _HEX.fullmatch(head[6:]):  # a sign or a blank is no number here
            raise _Broken("a header is not valid", at)
        fields = [int(head[6 + 8 * n : 14 + 8 * n], 16) for n in range(13)]
        if head[:6] not in (b"070701", b"070702"):
            raise _Broken("a header does not start as one", at)
        length, name_length, told = fields[6], fields[11], fields[12]
        name = stream.read(name_length).rstrip(b"\0")
        start = -(-(at + 110 + name_length) // 4) * 4
        if start + length > size:
            raise _Broken("a member reaches beyond the end of the file", size)
        if name == b"TRAILER!!!":
            return
        if head[:6] == b"070702":
            stream.seek(start)
            summed, left = 0, length
            while left and (data := stream.read(min(_CHUNK, left))):
                summed, left = (summed + sum(data)) & 0xFFFFFFFF, left - len(data)
            if summed != told:
                raise _Broken(f"the sum of {name.decode('utf-8', 'replace')!r} is wrong", start)
        at = -(-(start + length) // 4) * 4


_Check = Callable[[BinaryIO, int], None]
_KINDS: tuple[tuple[str, Callable[[bytes], bool], _Check], ...] = (
    (
        "gzip",
        lambda h: h.startswith(b"\x1f\x8b\x08"),
        _compressed,
    ),
    ("xz", lambda h: h.startswith(b"\xfd7zXZ\0"), _compressed),
    (
        "bzip2",
        lambda h: h.startswith(b"BZh") and h[4:10] == b"1AY&SY",
        _compressed,
    ),
    ("zip", lambda h: h.startswith(b"PK\x03\x04"), _zip),
    ("tar", lambda h: h[257:262] == b"ustar", _tar),
    ("ELF", lambda h: h.startswith(b"\x7fELF") and len(h) > 5, _elf),
    ("SquashFS", lambda h: h.startswith(b"hsqs"), _squashfs),
    ("U-Boot image", lambda h: h.startswith(b"\x27\x05\x19\x56"), _legacy_image),
    ("image tree", lambda h: h.startswith(b"\xd0\x0d\xfe\xed"), _image_tree),
    ("cpio", lambda h: h[:6] in (b"070701", b"070702"), _cpio),
    ("ISO 9660", lambda h: False, _iso),
)
