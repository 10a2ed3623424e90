"""A block of text pasted from a release page: names, sizes, digests, versions that belong together.

A line with a file name starts a release, unless digests or a size came before the first name; in
that case each release ends with its name. What stands between belongs to it. A label beside a
digest (`SHA512:`) decides what it is, also where it is wrapped over lines or grouped by blanks;
else its length does. One that does not fit its label, or of an algorithm that no release is held
against, is refused by name. Of a path or URL the last name counts, whole. Only a size in whole
bytes counts: one in megabytes is rounded, and would call every good copy cut short.
"""

import re
from collections.abc import Iterator
from pathlib import Path

from ovek.files.decode import list_text
from ovek.files.errors import InputError
from ovek.files.importers.interface import Bad, Importer
from ovek.files.importers.sidefile import normalised
from ovek.files.names import shown_name
from ovek.model.catalog import Origin, Published, Release
from ovek.model.digest import LENGTHS, TITLES, Algorithm, Digests, algorithm_of
from ovek.model.size import LARGEST

_DIGEST = re.compile(
    r"(?<![0-9A-Za-z])(?:[0-9A-Fa-f]{128}|[0-9A-Fa-f]{64}|[0-9A-Fa-f]{40}|[0-9A-Fa-f]{32}"
    r"|[0-9A-Fa-f]{2}(?::[0-9A-Fa-f]{2}){15,63})(?![0-9A-Za-z])"
)
_LABEL = re.compile(
    r"\b(?P<label>MD5|SHA-?(?:1|256|512|384|224|3(?:-\d{3})?)|SHA3-\d{3}|BLAKE-?[23]\w*)"
    r"(?:\s+(?:checksum|digest|hash|sum))?\s*[:=]\s*(?=[0-9A-Fa-f])",
    re.IGNORECASE,
)
_GROUP = re.compile(r"\s*([0-9A-Fa-f]+)(?![0-9A-Za-z])")
_LABELS: dict[str, Algorithm] = {
    "MD5": "md5", "SHA1": "sha1", "SHA256": "sha256", "SHA512": "sha512",
}  # fmt: skip
# A name starts with a letter or digit and ends with a suffix; it stands in no path.
_WORD = re.compile(r"[\w.+()-]+")
_START = re.compile(r"(?<![\w/.])[A-Za-z0-9]")
_SUFFIX = re.compile(r"\.[A-Za-z][A-Za-z0-9]{1,7}(?![\w/])")
_SIZE = re.compile(
    r"(?:size|bytes|length)\W{0,3}(?P<bytes>\d[\d ,']{2,20}\d)(?![\d.]|\s*[KMGT]i?B)"
    r"|(?P<after>\d[\d,']{2,20})\s*bytes",
    re.IGNORECASE,
)
_VERSION = re.compile(r"(?:version|release|ver\.?)\W{0,3}(?P<version>\d[\w.]*\w)", re.IGNORECASE)


class _FoundDigest:
    """One release while its facts are being found."""

    def __init__(self) -> None:
        self.name: str | None = None
        self.line = 0
        self.size: int | None = None
        self.version: str | None = None
        self.digests: dict[Algorithm, str] = {}

    @property
    def has_facts(self) -> bool:
        return self.size is not None or bool(self.digests)


def read(file: Path) -> Iterator[Published | Bad]:
    """Go through the releases that a text tells of. Raises InputError where there is none."""
    bad: list[Bad] = []
    text = _joined(file, list_text(file), bad)
    current, found = _FoundDigest(), []
    name_last: bool | None = None
    for number, line in enumerate(text.splitlines(), 1):
        rest = _DIGEST.sub(" ", line)
        spans = list(_names(rest))
        for name in (rest[start:end] for start, end in spans):
            if name_last is None:
                name_last = current.has_facts
            if current.name is not None and current.name != name:
                found.append(current)
                current = _FoundDigest()
            if current.name is None:
                current.name, current.line = name, number
        ends = [0, *(end for _, end in spans)]
        boots = [*(start for start, _ in spans), len(rest)]
        rest = " ".join(rest[end:start] for end, start in zip(ends, boots, strict=True))
        _facts(file, number, line, rest, current)
        if name_last and current.name is not None:
            found.append(current)
            current = _FoundDigest()
    found.append(current)
    parts = [part for part in found if part.name is not None and part.has_facts]
    yield from bad
    if not parts and bad:
        return
    if not parts:
        met = "has no file name with a digest or size"
        raise InputError(
            file, met, "Give a digest list, CSV, Metalink, or the part of a release page with both"
        )
    for part in parts:
        release = Release(
            file=part.name or "",
            size=part.size,
            version=part.version,
            digests=Digests(**part.digests),
        )
        yield Published(release, Origin(shown_name(file), part.line))


def _joined(file: Path, text: str, bad: list[Bad]) -> str:
    """The text with each labelled digest in one piece, and what is refused of them taken out.

    The lines stay as many, so that each fact keeps its number.
    """
    pieces, at = [], 0
    for match in _LABEL.finditer(text):
        if match.start() < at:
            continue
        label = re.sub("[^A-Z0-9]", "", match["label"].upper())
        algorithm = _LABELS.get(label)
        number = text.count("\n", 0, match.start()) + 1
        digest, end = _grouped(text, match.end(), LENGTHS.get(algorithm or "md5", 0), algorithm)
        if algorithm is None or len(digest) != LENGTHS[algorithm]:
            if len(digest) < _SHORTEST:  # a word that happens to be hex
                continue
            met = f"the {match['label']} has {len(digest)} hex digits"
            do = f"It should be {LENGTHS[algorithm]}" if algorithm is not None else ""
            if algorithm is None:
                met = f"the digest is {match['label']}, which Ovek does not use"
                do = f"Known are {', '.join(TITLES[name] for name in reversed(LENGTHS))}"
            bad.append(Bad(InputError(file, met, do, line=number)))
            digest = ""
        pieces.append(f"{text[at : match.end()]}{digest} ")
        pieces.append("\n" * text.count("\n", match.end(), end))
        at = end
    return "".join([*pieces, text[at:]])


def _grouped(text: str, at: int, length: int, algorithm: Algorithm | None) -> tuple[str, int]:
    """The hex digits from a place on, over blanks and line ends, and where they end.

    No more groups than the label's length takes; of an unknown label all of its line.
    """
    digits = ""
    while match := _GROUP.match(text, at):
        if algorithm is not None and digits and len(digits) + len(match[1]) > length:
            break
        if algorithm is None and digits and "\n" in match[0]:
            break
        digits, at = digits + match[1].lower(), match.end()
        if algorithm is not None and len(digits) >= length:
            break
    return digits, at


_SHORTEST = 24  # hex digits that are meant as a digest


def _names(line: str) -> Iterator[tuple[int, int]]:
    """Where the file names of a line are, each character looked at once: a line may be long."""
    for word in _WORD.finditer(line) if "." in line else ():
        if "." not in word[0]:
            continue
        first = word.start()
        if line[:first].endswith("//"):  # a host, or nothing
            continue
        start = _START.search(line, first, word.end())
        if line[first - 1 : first] == "/" and line[first].isalnum():
            start = _WORD.match(line, first)  # the last name of a path
        if start is None:
            continue
        # One character more, so that a slash behind the word is seen.
        *_, suffix = None, *_SUFFIX.finditer(line, start.start() + 1, word.end() + 1)
        if suffix is not None:
            yield start.start(), suffix.end()


def _facts(file: Path, number: int, line: str, rest: str, current: _FoundDigest) -> None:
    for match in _DIGEST.finditer(line):
        digest = normalised(match[0])
        algorithm = algorithm_of(digest)
        if algorithm is None:
            continue
        if current.digests.get(algorithm, digest) != digest:
            text = f"{current.name or 'a file'} has two digests of {LENGTHS[algorithm]} characters"
            do = "Paste one release at a time, or separate them by their names"
            raise InputError(file, text, do, line=number)
        current.digests[algorithm] = digest
    if (size := _SIZE.search(rest)) and (told := size["bytes"] or size["after"]):
        size_told = int(re.sub(r"[ ,']", "", told))
        if size_told > LARGEST:
            text = f"the size is {size_told} bytes"
            raise InputError(file, text, "No file is that large; correct it", line=number)
        current.size = size_told
    if version := _VERSION.search(rest):
        current.version = current.version or version["version"]


KIND = "pasted text"
IMPORTER = Importer(
    kind=KIND,
    claims=lambda file, text: True,
    read=lambda file, said: read(file),
    guessed=True,
)
