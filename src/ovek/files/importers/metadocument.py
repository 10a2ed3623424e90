"""What a Metalink document lists: `file` with `size`, `hash`, `version` and `publisher` (RFC 5854).

Entities are not expanded and nothing outside the file is fetched.
"""

from collections.abc import Iterator
from pathlib import Path
from xml.sax import SAXException, handler, xmlreader

import defusedxml.sax
from defusedxml import DefusedXmlException

from ovek.files.decode import read_bytes
from ovek.files.errors import InputError
from ovek.files.importers.interface import Bad
from ovek.files.importers.sidefile import normalised
from ovek.files.names import shown_name
from ovek.model.catalog import Origin, Published, Release
from ovek.model.digest import LENGTHS, Algorithm, Digests

NAMESPACE = "urn:ietf:params:xml:ns:metalink"
# The names of RFC 5854, section 4.2.4.1 (the registry of hash function textual names).
_NAMES: dict[str, Algorithm] = {
    "md5": "md5",
    "sha-1": "sha1",
    "sha-256": "sha256",
    "sha-512": "sha512",
}


class _Collector(handler.ContentHandler):
    """Collects the files of a Metalink document, with the line that each starts on."""

    def __init__(self, file: Path, locator: xmlreader.Locator) -> None:
        super().__init__()
        self.file = file
        self.found: list[Published | Bad] = []
        self._path: list[str] = []
        self._pieces: list[str] = []
        self._hash: str | None = None
        self._facts: dict[str, str] = {}
        self._digests: dict[Algorithm, str] = {}
        self._other: list[str] = []
        self._line = 0
        self._locator = locator

    def line(self) -> int:
        return self._locator.getLineNumber() or 1

    def startElementNS(  # noqa: N802
        self, name: tuple[str | None, str], qname: str | None, attrs: xmlreader.AttributesNSImpl
    ) -> None:
        space, tag = name
        if not self._path and (space, tag) != (NAMESPACE, "metalink"):
            text = f"the first element is {tag!r} in the namespace {space!r}"
            do = f"A Metalink 4 file starts with metalink in {NAMESPACE!r}"
            raise InputError(self.file, text, do, line=self.line())
        self._path.append(tag if space == NAMESPACE else f"?{tag}")
        self._pieces = []
        plain = {key[1]: value for key, value in attrs.items()}
        if self._path == ["metalink", "file"]:
            self._line, self._digests, self._other = self.line(), {}, []
            self._facts = {"name": plain.get("name", "")}
        elif self._path == ["metalink", "file", "hash"]:
            self._hash = plain.get("type", "").lower()
        elif self._path == ["metalink", "file", "publisher"]:
            self._facts["publisher"] = plain.get("name", "")

    def characters(self, content: str) -> None:
        self._pieces.append(content)  # each entity comes by itself

    @property
    def _text(self) -> str:
        return "".join(self._pieces)

    def endElementNS(self, name: tuple[str | None, str], qname: str | None) -> None:  # noqa: N802
        if self._path == ["metalink", "file", "hash"] and self._hash in _NAMES:
            self._take_hash(_NAMES[self._hash])
        elif self._path == ["metalink", "file", "hash"]:
            self._other.append(self._hash or "(no type)")
        elif self._path[:2] == ["metalink", "file"] and self._path[2:] in (["size"], ["version"]):
            self._facts[self._path[2]] = self._text.strip()
        elif self._path == ["metalink", "file"]:
            self._take_file()
        self._path.pop()

    def _take_hash(self, algorithm: Algorithm) -> None:
        digest = normalised(self._text)
        if len(digest) != LENGTHS[algorithm] or set(digest) - set("0123456789abcdef"):
            text = f"the {algorithm} hash has {len(digest)} characters"
            do = f"It should be {LENGTHS[algorithm]} hex characters"
            raise InputError(self.file, text, do, line=self.line())
        self._digests[algorithm] = digest

    def _take_file(self) -> None:
        name, size = self._facts["name"], self._facts.get("size")
        if not name or name.startswith("/") or ".." in name.split("/"):
            text = f"a file is named {name!r}"
            raise InputError(self.file, text, "Use a name without ../", line=self._line)
        if size is not None and not (size.isascii() and size.isdecimal() and len(size) < 19):
            text = f"the size is {size!r}"
            raise InputError(self.file, text, "Give whole bytes", line=self._line)
        if self._other and not self._digests:
            text = f"{name} has only hashes that Ovek does not use: "
            do = f"Known are {', '.join(_NAMES)}"
            told = Bad(InputError(self.file, text + ", ".join(self._other), do, line=self._line))
            self.found.append(told)
            return
        release = Release(
            file=name.rpartition("/")[2],
            size=int(size) if size is not None else None,
            version=self._facts.get("version") or None,
            digests=Digests(**self._digests),
        )
        publisher = self._facts.get("publisher") or None
        self.found.append(Published(release, Origin(shown_name(self.file), self._line), publisher))


def read(file: Path) -> Iterator[Published | Bad]:
    """Go through the files of a Metalink document. Raises InputError."""
    data = read_bytes(file)
    parser = defusedxml.sax.make_parser()
    collector = _Collector(file, parser)
    parser.setFeature(handler.feature_namespaces, True)
    parser.setContentHandler(collector)
    try:
        parser.feed(data)
        parser.close()
    except DefusedXmlException as error:
        text = f"contains what no Metalink needs ({type(error).__name__})"
        raise InputError(
            file, text, "Do not trust it; download it again", line=collector.line()
        ) from None
    except SAXException as error:
        text = f"invalid XML: {error.getMessage()}"
        raise InputError(file, text, "Download it again", line=collector.line()) from None
    except (LookupError, ValueError) as error:  # an encoding that nobody knows
        raise InputError(file, f"invalid XML: {error}", "Save it as UTF-8", line=1) from None
    if not collector.found:
        raise InputError(file, "lists no file", "Check that it is the right file")
    yield from collector.found
