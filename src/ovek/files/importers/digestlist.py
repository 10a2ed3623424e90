r"""Digest lists: two columns, or BSD-tagged lines, as checksum programs write and read them.

A two-column line is a digest, a blank, a blank (text) or `*` (binary), and a file name. A tagged
one is `ALGORITHM (NAME) = DIGEST`, with or without the blanks. A line that starts
with a backslash has its name escaped: `\\` is a backslash, `\n` a line feed, `\r` a carriage
return. Lines that start with `#` and blank lines are left out.
"""

import re
from collections.abc import Iterator
from pathlib import Path

from msgspec import Struct

from ovek.files.errors import InputError
from ovek.files.importers.interface import Importer
from ovek.files.names import shown_name
from ovek.files.typed import read_bytes, text_of
from ovek.model.catalog import Origin, Published, Release
from ovek.model.digest import LENGTHS, TITLES, Algorithm, Digests, algorithm_of

_LINE = re.compile(
    r"(?P<escaped>\\?)(?P<digest>[^\s\\]+)(?: [ *](?P<name>.+)|\s+(?P<loose>\S.*))", re.DOTALL
)
_TAG = re.compile(r"(?P<escaped>\\?)(?P<tag>[A-Za-z0-9/-]+) ?\(")
_TAGGED = re.compile(r" ?= ?(?P<digest>\S+)")
_TAGS: dict[str, Algorithm] = {"MD5": "md5", "SHA1": "sha1", "SHA256": "sha256", "SHA512": "sha512"}
_ESCAPE = re.compile(r"\\(.?)", re.DOTALL)
_ESCAPED = {"\\": "\\", "n": "\n", "r": "\r"}
_DO = "Write each line as: DIGEST, two blanks, FILE"


def read(file: Path) -> Iterator[Published]:
    """Go through a digest list; each line is a release with only a name and one digest.

    The algorithm is told by the digest's length. Folders in front of a name are dropped: a
    catalog knows files by name. Raises InputError.
    """
    text = text_of(file, read_bytes(file))
    found = False
    for number, line in enumerate(text.split("\n"), 1):
        line = line.removesuffix("\r")
        if not line.strip() or line.startswith("#"):
            continue
        found = True
        parts = _parts(line)
        if parts is None:
            raise InputError(file, "is not a digest and a file name", _DO, line=number)
        digest, name = parts.digest.lower(), parts.name
        algorithm = algorithm_of(digest)
        if parts.tag is not None and algorithm is not None:
            _check_tag(file, number, parts.tag, algorithm)
        if algorithm is None or not re.fullmatch("[0-9a-f]+", digest):
            lengths = ", ".join(f"{LENGTHS[name]} ({TITLES[name]})" for name in reversed(LENGTHS))
            met = f"the digest has {len(digest)} characters"
            if algorithm is not None:
                met = "the digest holds more than the characters 0-9 and a-f"
            raise InputError(file, met, f"A digest is hex, and as long as {lengths}", line=number)
        if parts.escaped:
            name = _unescaped(file, number, name)
        name = name.rpartition("/")[2]
        if not name:
            raise InputError(file, "names a folder, not a file", _DO, line=number)
        release = Release(file=name, digests=Digests(**{algorithm: digest}))
        yield Published(release, Origin(shown_name(file), number))
    if not found:
        raise InputError(file, "is empty: it lists no digest", "Fill it, or remove it")


def is_line(line: str) -> bool:
    """Whether a line may be one of a digest list."""
    parts = _parts(line)
    return parts is not None and algorithm_of(parts.digest) is not None


class _Parts(Struct, frozen=True):
    """What a line is made of; `tag` is None where it is of two columns."""

    escaped: bool
    digest: str
    name: str
    tag: str | None = None


def _parts(line: str) -> _Parts | None:
    """Take a line apart, each piece looked at once: it may be long. None: it is no such line."""
    if tag := _TAG.match(line):
        name, _, rest = line[tag.end() :].rpartition(")")
        if name and (tagged := _TAGGED.fullmatch(rest)):
            return _Parts(bool(tag["escaped"]), tagged["digest"], name, tag["tag"])
    if match := _LINE.fullmatch(line):
        return _Parts(bool(match["escaped"]), match["digest"], match["name"] or match["loose"])
    return None


def _check_tag(file: Path, number: int, tag: str, algorithm: Algorithm) -> None:
    """Hold the tag of a line against its digest's length; `SHA2-512` is OpenSSL's SHA512."""
    plain = tag.upper().replace("SHA2-", "SHA").replace("-", "").replace("SHA512/512", "SHA512")
    if _TAGS.get(plain) != algorithm:
        met = f"the tag says {tag}, the digest has the length of {TITLES[algorithm]}"
        raise InputError(file, met, "Mend the tag or the digest", line=number)


def _unescaped(file: Path, number: int, name: str) -> str:
    def one(match: re.Match[str]) -> str:
        if match[1] not in _ESCAPED:
            met = f"the name holds the escape \\{match[1]}"
            raise InputError(file, met, r"Known escapes are \\, \n and \r", line=number)
        return _ESCAPED[match[1]]

    return _ESCAPE.sub(one, name)


def line_of(digest: str, name: str) -> str:
    """One two-column line, escaped where the name needs it, as `md5sum -c` and its kin read it."""
    if any(char in name for char in "\\\n\r"):
        escaped = name.replace("\\", "\\\\").replace("\n", "\\n").replace("\r", "\\r")
        return f"\\{digest} *{escaped}\n"
    return f"{digest} *{name}\n"


def _claims(file: Path, text: str) -> bool:
    """Whether every line may be one of a digest list, or the name says that it is one."""
    lines = [line for line in text.splitlines() if line.strip() and not line.startswith("#")]
    named = file.suffix.lower() in {f".{name}" for name in LENGTHS}
    return (bool(lines) and all(map(is_line, lines))) or named


IMPORTER = Importer(
    kind="digest list",
    claims=_claims,
    read=lambda file, said: read(file),
    stands=frozenset({*(f".{name}" for name in LENGTHS), ".txt"}),
)
