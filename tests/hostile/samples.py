"""Good samples to make worse, of every format that Ovek reads."""

import bz2
import gzip
import hashlib
import io
import json
import lzma
import os
import struct
import tarfile
import tempfile
import zipfile
import zlib
from importlib import resources
from pathlib import Path

from languages import marked
from ovek.files.advisories import KEPT as KEPT_FILE
from ovek.files.advisories import advisory_stamps, read_advisories
from ovek.files.database import FLEET, INDEX
from ovek.files.fleet import FleetFile
from ovek.files.state import state_of

DATA = hashlib.sha512(b"ovek").digest() * 40
SITE = Path(str(resources.files("ovek.demo"))) / "site"
_SHEETS = Path(str(resources.files("ovek.files"))) / "sheets"


def _digest(name: str, data: bytes = DATA) -> str:
    return hashlib.new(name, data).hexdigest()


def _tar(kind: int = tarfile.PAX_FORMAT) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=kind) as tar:
        for name, size in (("folder/a.img", 700), ("b" * 120, 512), ("é.img", 0)):
            info = tarfile.TarInfo(name)
            info.size = size
            tar.addfile(info, io.BytesIO(DATA[:size]))
        link = tarfile.TarInfo("link")
        link.type, link.linkname = tarfile.SYMTYPE, "folder/a.img"
        tar.addfile(link)
    return out.getvalue()


def _zip() -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        kinds = (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED, zipfile.ZIP_BZIP2, zipfile.ZIP_LZMA)
        for kind in kinds:
            archive.writestr(f"folder/{kind}.img", DATA, compress_type=kind)
    return out.getvalue()


def _cpio() -> bytes:
    def one(name: bytes, data: bytes) -> bytes:
        head = [0, 0o100644, 0, 0, 1, 0, len(data), 0, 0, 0, 0, len(name) + 1, sum(data)]
        body = b"070702" + b"".join(b"%08X" % field for field in head) + name + b"\0"
        body += b"\0" * (-len(body) % 4) + data
        return body + b"\0" * (-len(body) % 4)

    return one(b"a.img", DATA[:333]) + one(b"TRAILER!!!", b"")


def _elf() -> bytes:
    head = bytearray(64 + 2 * 56)
    head[:6] = b"\x7fELF\x02\x01"
    struct.pack_into("<QQ", head, 32, 64, 0)
    struct.pack_into("<4H", head, 54, 56, 2, 0, 0)
    struct.pack_into("<QQQQ", head, 64 + 8, 176, 0, 0, 100)
    return bytes(head) + DATA[:400]


def _legacy_image() -> bytes:
    body = DATA[:500]
    head = bytearray(64)
    struct.pack_into(">I", head, 0, 0x27051956)
    struct.pack_into(">I8xI", head, 12, len(body), zlib.crc32(body))
    struct.pack_into(">I", head, 4, zlib.crc32(bytes(head)))
    return bytes(head) + body


def _image_tree() -> bytes:
    names = b"data\0algo\0value\0"

    def fact(at: int, value: bytes) -> bytes:
        return struct.pack(">III", 3, len(value), at) + value + b"\0" * (-len(value) % 4)

    def node(name: bytes, *inside: bytes) -> bytes:
        front = struct.pack(">I", 1) + name + b"\0" * (4 - len(name) % 4)
        return front + b"".join(inside) + struct.pack(">I", 2)

    digest = hashlib.sha256(DATA[:300]).digest()
    hashes = node(b"hash-1", fact(5, b"sha256\0"), fact(10, digest))
    body = node(b"", node(b"images", node(b"one", fact(0, DATA[:300]), hashes)))
    body += struct.pack(">I", 9)
    total = 40 + len(body) + len(names)
    head = struct.pack(
        ">10I", 0xD00DFEED, total, 40, 40 + len(body), 40, 17, 16, 0, len(names), len(body)
    )
    return head + body + names


def _iso() -> bytes:
    volume = bytearray(2048)
    volume[:6] = b"\x01CD001"
    struct.pack_into("<I", volume, 80, 17)
    struct.pack_into("<H", volume, 128, 2048)
    return bytes(32768) + bytes(volume)


def _squashfs() -> bytes:
    head = bytearray(96)
    head[:4] = b"hsqs"
    struct.pack_into("<Q", head, 40, 300)
    return bytes(head) + DATA[:300]


ARCHIVES: list[bytes] = [
    _tar(),
    _tar(tarfile.GNU_FORMAT),
    _zip(),
    gzip.compress(DATA, mtime=0) * 2,
    gzip.compress(_tar(), mtime=0),
    lzma.compress(DATA),
    lzma.compress(_tar()),
    bz2.compress(DATA),
    bz2.compress(_tar()),
    _cpio(),
    _elf(),
    _legacy_image(),
    _image_tree(),
    _iso(),
    _squashfs(),
]

SUMS = "".join(f"{_digest('sha512')}  ox-{n}.img\n" for n in range(3)).encode()
TAGGED = f"SHA512 (ox 1.img) = {_digest('sha512')}\nMD5 (b) = {_digest('md5')}\n".encode()
ESCAPED = f"\\{_digest('md5')} *a\\nb\\\\c\n# note\n{_digest('sha1')}  x/y.img\n".encode()
LISTS = [SUMS, TAGGED, ESCAPED]
SIDE_FILES = [_digest("md5").encode(), b" ".join([_digest("md5").upper().encode()]) + b"\n"]
PASTED = [
    f"Image ox-1.img\nSize: 12,345 bytes\nVersion 7.4.1\nMD5 {_digest('md5')}\n".encode(),
    f"{_digest('sha512')}\nsize 9000\nox-2.img\nox-3.img {_digest('sha1')} 17 bytes\n".encode(),
]
TABLES = [
    f"File Name,Size (bytes),MD5,Version,Note\nox-1.img,12345,{_digest('md5')},7.4,x\n".encode(),
    f'name;sha256\n"ox 2.img";{_digest("sha256")}\n'.encode(),
]
METALINKS = [
    f"""<?xml version="1.0" encoding="UTF-8"?>
<metalink xmlns="urn:ietf:params:xml:ns:metalink"><file name="ox-1.img"><size>123</size>
<version>7.4</version><publisher name="Oxwick"/><hash type="sha-256">{_digest("sha256")}</hash>
<hash type="md5">{_digest("md5")}</hash></file></metalink>""".encode()
]
CATALOGS = [file.read_bytes() for file in sorted((SITE / "catalog").glob("*.json"))] + [
    json.dumps(
        {
            "format": "ovek.catalog/1",
            "releases": [
                {
                    "file": "a.img",
                    "size": 9,
                    "digests": {"md5": _digest("md5")},
                    "version": "1.2",
                    "needs": {"memory": 1, "components": {"boot-loader": "1"}},
                    "from": ["1.0"],
                    "status": "current",
                }
            ],
        }
    ).encode()
]
SNAPSHOTS = [
    b"\n".join(file.read_bytes().split(b"\n")[:2]) + b"\n"
    for file in sorted((SITE / "snapshots").glob("*.jsonl"))
]
ADDRESSES = (SITE / "addresses.csv").read_bytes()
FLEETS = [(SITE / "fleet.toml").read_bytes()]
FLEET_LISTS = [b"name,sheet,host,site\r\nbox,oxwick-40,192.0.2.1,Port Arle\r\n"]
POLICIES = [(SITE / "policy.toml").read_bytes()]
WAIVERS = [(SITE / "waivers.toml").read_bytes()]
SHEETS = [file.read_bytes() for file in sorted(_SHEETS.glob("*.toml"))]
BOOT_ENVIRONMENTS = [
    b"# GRUB Environment Block\nsaved_entry=one\nnext\\\nentry=two\n".ljust(1024, b"#"),
    b"bootcmd=run one\nbootdelay=2\n",
    struct.pack("<I", zlib.crc32(b"a=b\0c=d\0\0\0")) + b"a=b\0c=d\0\0\0",
]
KNOWN_HOSTS = [
    b"192.0.2.1 ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIOMqqnkVzrm0SdG6UOoqKLsabgH5C9okWi0dh2l9GKJl\n"
    b"@revoked [box]:2222 ssh-ed25519 "
    b"AAAAC3NzaC1lZDI1NTE5AAAAIOMqqnkVzrm0SdG6UOoqKLsabgH5C9okWi0dh2l9GKJl\n"
]
SESSIONS = [
    b"arle-core> show nothing\r\n?? what\r\narle-core> \x1b[1mlist\x1b[0m x\b\b\r\nab\rc\r\n"
]
EVIDENCE = [
    json.dumps(
        {
            "format": "ovek.evidence/1",
            "device": "box",
            "taken_at": "2026-03-02T21:14:05+00:00",
            "answers": [
                {"name": "files", "fills": "file", "rows": [{"volume": "flash", "path": "a"}]},
                {"name": "version", "asked": "version", "text": "7.4.1\n"},
                {"name": "x", "fills": "bank", "rows": [{"bank": "primary", "state": "ok"}]},
            ],
        }
    ).encode()
]
CACHES = [
    json.dumps(
        {"a": {"signs": [1, 2, 3, 4], "algorithms": ["md5"], "file": {"path": "a", "size": 1}}}
    ).encode()
]

HOSTS_TABLES = [
    b"Hostname;IP address;Type\na;192.0.2.1;oxwick-40\nb;;tolvane-8\n",
    b"name,address,site,role\na,192.0.2.1,North,core\n",
]
HOSTS = [b"[core]\nc1 address=192.0.2.1 port=22\nc2 'user=x y'\n# no\n[all:vars]\nx=1\n"]
HOSTS_YAML = [
    b"all:\n  children:\n    core:\n      hosts:\n        c1: {address: 192.0.2.1}\n        c2:\n",
    b"edge: [e1, e2]\ncore:\n  c1: {port: 22}\n",
]
LARGE_FLEET = b'name = "x"\n' + b"# " + b"x" * 2**17 + b"\n"
LARGE_FLEET += b'[[device]]\nname = "a"\nsheet = "oxwick-40"\nsite = "North"\n'
KEPT, INDEXES, READ_AT = list[bytes](), list[bytes](), 1_700_000_000_000_000_000
ADVISORIES = [(SITE / "advisories/oxw-2026-003.json").read_bytes()]
KEPT_ADVISORIES = list[bytes]()


def _databases() -> None:
    """What Ovek keeps beside a large fleet, and beside a snapshot."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "fleet.toml").write_bytes(LARGE_FLEET)
        FleetFile(folder)
        (folder / "a.jsonl").write_bytes(SNAPSHOTS[0])
        os.utime(folder / "a.jsonl", ns=(READ_AT, READ_AT))
        state_of(folder)
        KEPT.append((folder / FLEET).read_bytes())
        (folder / "advisories").mkdir()
        (folder / "advisories/a.json").write_bytes(ADVISORIES[0])
        os.utime(folder / "advisories/a.json", ns=(READ_AT, READ_AT))
        read_advisories(folder, advisory_stamps(folder))
        KEPT_ADVISORIES.append((folder / "advisories" / KEPT_FILE).read_bytes())
        INDEXES.append((folder / INDEX).read_bytes())


_databases()
KEYS = [
    b'format = "ovek.keys/1"\n[[key]]\nfile = "a.asc"\npublisher = "Oxwick"\n'
    b'fingerprint = "0000 1111 2222 3333 4444  5555 6666 7777 8888 9999"\n'
    b'from = 2024-01-01\nuntil = 2027-01-01\nrevoked = 2026-01-01\nsigns_for = ["Ox*"]\n'
]
MARKED = [
    b"a# show\nversion <<running.version=1.0>>, model <<model=Q>>\na# dir f\nsize  name\n"
    b"   <<size=12>>  <<path=a-1.0.img>>\n    7  b\n\n2 files\na# ",
    *(marked(name).encode() for name in ("harrock", "lathe")),
]
RECORDS = [
    json.dumps(
        {
            "format": "ovek.shelf-record/1",
            "shelf": "depot",
            "at": "sftp://192.0.2.1/images",
            "read_at": "2026-03-02T21:14:05Z",
            "files": [{"path": "a", "size": 1, "digests": {"md5": "a" * 32}, "sign": "x"}],
        }
    ).encode()
]
