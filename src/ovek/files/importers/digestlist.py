r"""Digest lists: two columns, or BSD-tagged lines, as checksum programs write and read them.

A two-column line is a digest, a blank, a blank (text) or `*` (binary), and a file name; the name
may come first. A tagged one is `ALGORITHM (NAME) = DIGEST`, with or without the blanks; a line
`ALGORITHM hash of NAME:` tells what the digest on the next line is of. A line that starts with a
backslash has its name escaped: `\\` is a backslash, `\n` a line feed, `\r` a carriage return. Lines
that start with `#` and blank lines are left out.
"""

import re
from collections.abc import Iterator
from pathlib import Path

from msgspec import Struct

from ovek.files.decode import list_text
from ovek.files.errors import InputError
from ovek.files.importers.interface import Bad, Hints, Importer
from ovek.files.names import shown_name
from ovek.model.catalog import Origin, Published, Release
from ovek.model.digest import LENGTHS, TITLES, Algorithm, Digests, algorithm_of

_LINE = re.compile(
    r"(?P<escaped>\\?)(?P<digest>[^\s\\]+)(?: [ *](?P<name>.+)|\s+(?P<loose>\S.*))", re.DOTALL
)
# What `shasum -U` (line ends made alike) and `-0` (bits) write in place of the second blank.
_CHANGED = re.compile(r"\\?[0-9a-fA-F]{32,} (?P<mark>[U^])[^\s].*", re.DOTALL)
_TAG = re.compile(r"(?P<escaped>\\?)(?P<tag>[A-Za-z0-9/_-]+) ?\(")
_TAGGED = re.compile(r" ?= ?(?P<digest>\S+)")
_TAGS: dict[str, Algorithm] = {"MD5": "md5", "SHA1": "sha1", "SHA256": "sha256", "SHA512": "sha512"}
# Digests that no release is held against, by how their tags begin.
_OTHERS = {
    "BLAKE2": "BLAKE2", "BLAKE3": "BLAKE3", "SHA3": "SHA-3", "KECCAK": "SHA-3", "SHA384": "SHA-384",
    "SHA224": "SHA-224", "SM3": "SM3", "RMD160": "RIPEMD-160", "RIPEMD": "RIPEMD-160",
    "CRC": "CRC", "SHAKE": "SHA-3", "WHIRLPOOL": "Whirlpool",
}  # fmt: skip
_HINTS = re.compile(
    r"b2sum|blake-?[23]|\.b[23]\b|sha-?3\b|\.sha3|sha3sum|keccak|whirlpool", re.IGNORECASE
)
_HASH_OF = re.compile(r"(?P<tag>[A-Za-z0-9-]{1,20}) hash of (?:file )?(?P<name>.+)")
_HEX = re.compile(r"[0-9a-fA-F]+")
_ESCAPE = re.compile(r"\\(.?)", re.DOTALL)
_ESCAPED = {"\\": "\\", "n": "\n", "r": "\r"}
_DO = "Write each line as: DIGEST, two spaces, FILE"


def read(file: Path, said: Hints = {}) -> Iterator[Published | Bad]:  # noqa: B006 - never changed
    """Go through a digest list; each line is a release with only a name and one digest.

    The algorithm is told by a tag, else by the digest's length. Folders in front of a name are
    dropped, behind slashes and backslashes: a catalog knows files by name. A line that cannot be
    read, or that may be of an algorithm that its digits do not tell apart, costs itself. Lines end
    with a line feed, or in `-z` lists with a NUL. Raises InputError where there is no line at all.
    """
    text = list_text(file)
    end = "\0" if "\0" in text else "\n"
    found, heading, plain = False, "", said.get("algorithm")
    for number, line in _joined(text.split(end)):
        if not line.strip() or line.startswith("#"):
            heading += line
            continue
        found = True
        try:
            release = _release(file, number, line, plain, heading, escapes=end == "\n")
        except InputError as error:
            yield Bad(error)
        else:
            yield Published(release, Origin(shown_name(file), number))
    if not found:
        raise InputError(file, "is empty: no digest", "Fill it, or delete it")


def _joined(lines: list[str]) -> Iterator[tuple[int, str]]:
    """Each line with its number; one that says of what the next is the digest, with that one.

    A line of prose behind such a pair, which says that it went well, is left out.
    """
    label, paired = None, False
    for number, line in enumerate(lines, 1):
        line = line.removesuffix("\r")
        heading = _HASH_OF.fullmatch(line)
        digest = line.replace(" ", "").strip()
        if label is not None and algorithm_of(digest) and _HEX.fullmatch(digest):
            name = label["name"].rstrip().removesuffix(":")
            yield number, f"{label['tag']} ({name}) = {digest}"
            label, paired = None, True
            continue
        if label is not None:
            yield number - 1, label[0]
        label = heading
        if heading is None and not (paired and line.strip() and not is_line(line)):
            yield number, line
        paired = False
    if label is not None:
        yield len(lines), label[0]


def _release(
    file: Path, number: int, line: str, plain: str | None, heading: str, *, escapes: bool
) -> Release:
    """The release that one line tells of. Raises InputError."""
    parts = _parts(line)
    if parts is None:
        raise InputError(file, "is not a digest and a file name", _DO, line=number)
    digest, name = parts.digest.lower(), parts.name
    if (mark := _CHANGED.fullmatch(line)) is not None:
        text = f"the mark {mark['mark']!r} says that the digest is not of the file's own bytes"
        do = f"Digest the file as it is; if its name is {name!r}, put two spaces before it"
        raise InputError(file, text, do, line=number)
    if parts.tag is not None:
        _check_other(file, number, parts.tag)
    algorithm = algorithm_of(digest)
    if parts.tag is not None and algorithm is not None:
        _check_tag(file, number, parts.tag, algorithm)
    if algorithm is None or not re.fullmatch("[0-9a-f]+", digest):
        lengths = ", ".join(f"{LENGTHS[each]} ({TITLES[each]})" for each in reversed(LENGTHS))
        text = f"the digest has {len(digest)} characters"
        if algorithm is not None:
            text = "the digest has characters other than 0-9 and a-f"
        if len(digest) == 96:
            text = "the digest has the length of SHA-384, which Ovek does not use"
        raise InputError(file, text, f"A digest is hex, and as long as {lengths}", line=number)
    if parts.tag is None:
        _check_hint(file, number, plain, heading, algorithm)
    if parts.escaped and escapes:
        name = _unescaped(file, number, name)
    elif escapes:
        name = name.rpartition("\\")[2]
    name = name.rpartition("/")[2]
    if not name:
        raise InputError(file, "names a folder, not a file", _DO, line=number)
    if name == "-":
        text = "is of standard input (-), which is not a file"
        raise InputError(file, text, "Put the file's name in its place", line=number)
    return Release(file=name, digests=Digests(**{algorithm: digest}))


def _check_other(file: Path, number: int, tag: str) -> None:
    """Refuse a tag of an algorithm that no release is held against, by its name."""
    plain = re.sub("[^A-Z0-9]", "", tag.upper())
    for front, title in _OTHERS.items():
        if plain.startswith(front):
            text = f"the digest is {title} ({tag}), which Ovek does not use"
            raise InputError(file, text, f"Known are {_known()}", line=number)


def _check_hint(
    file: Path, number: int, plain: str | None, heading: str, algorithm: Algorithm
) -> None:
    """Refuse what may be another algorithm of the same length, unless a person says it is not."""
    if plain is not None:
        if plain != algorithm:
            text = f"the digest has the length of {TITLES[algorithm]}, --algorithm says {plain}"
            raise InputError(file, text, "Fix the line or the option", line=number)
        return
    hint = _HINTS.search(shown_name(file)) or _HINTS.search(heading)
    if hint is not None and algorithm in ("sha512", "sha256"):
        text = f"{hint[0]!r} suggests another algorithm with the same length as "
        text += TITLES[algorithm]
        do = f"If it is {TITLES[algorithm]}, add --algorithm {algorithm}"
        raise InputError(file, text, do, line=number)


def _known() -> str:
    return ", ".join(TITLES[name] for name in reversed(LENGTHS))


def name_in(line: str) -> str | None:
    """The file that a line of a list names: behind a digest, or alone; None: it names none.

    >>> name_in("0" * 32 + "  a.img"), name_in("b.img"), name_in("# a note"), name_in("two words")
    ('a.img', 'b.img', None, None)
    """
    line = line.strip()
    if not line or line.startswith("#"):
        return None
    parts = _parts(line)
    if parts is not None and (parts.tag or algorithm_of(parts.digest.lower()) is not None):
        return parts.name.removeprefix("./")
    return line.removeprefix("./") if len(line.split()) == 1 else None


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
    if (turned := _turned(line)) is not None:
        return turned
    if match := _LINE.fullmatch(line):
        return _Parts(bool(match["escaped"]), match["digest"], match["name"] or match["loose"])
    return None


def _turned(line: str) -> _Parts | None:
    """A line whose name comes before its digest; None where it is none."""
    front, *rest = line.rstrip().rsplit(None, 1)
    first = front.split(None, 1)[0].lstrip("\\") if rest else ""
    digest = rest[0].lstrip("*") if rest else ""
    if algorithm_of(digest) is None or not _HEX.fullmatch(digest):
        return None
    if algorithm_of(first) is not None and _HEX.fullmatch(first):
        return None  # both may be one: the usual order counts
    return _Parts(False, digest, front)


def _check_tag(file: Path, number: int, tag: str, algorithm: Algorithm) -> None:
    """Hold the tag of a line against its digest's length; `SHA2-512` is OpenSSL's SHA512."""
    plain = tag.upper().replace("SHA2-", "SHA").replace("-", "").replace("SHA512/512", "SHA512")
    if _TAGS.get(plain) != algorithm:
        text = f"the tag says {tag}, the digest has the length of {TITLES[algorithm]}"
        raise InputError(file, text, "Fix the tag or the digest", line=number)


def _unescaped(file: Path, number: int, name: str) -> str:
    def one(match: re.Match[str]) -> str:
        if match[1] not in _ESCAPED:
            text = f"the name has the escape \\{match[1]}"
            raise InputError(file, text, r"Known escapes are \\, \n and \r", line=number)
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
    parts = [line for _, line in _joined(text.splitlines())]
    lines = [line for line in parts if line.strip() and not line.startswith("#")]
    named = file.suffix.lower() in {f".{name}" for name in LENGTHS}
    return (bool(lines) and all(map(is_line, lines))) or named


IMPORTER = Importer(
    kind="digest list",
    claims=_claims,
    read=read,
    stands=frozenset({*(f".{name}" for name in LENGTHS), ".txt"}),
)
