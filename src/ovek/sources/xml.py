"""An XML message as it comes, piece by piece: nothing of it is kept but what somebody listens for.

It is bounded in elements and in depth, and a document type is refused: with it come entities. Who
hands in the pieces bounds its bytes.
"""

from typing import Protocol
from xml.parsers import expat

MOST_ELEMENTS = 500_000
_DEEPEST = 200  # elements one in another; settings have a dozen


class XmlError(ValueError):
    """What came is no message that is read on."""


class TooDeepError(XmlError):
    """Elements lie too deep in each other, or are too many."""


class Hears(Protocol):
    """Who listens to a message. The outermost element has depth 1; `tag` is `namespace}name`."""

    def begins(self, depth: int, tag: str, attributes: dict[str, str]) -> None:
        """An element begins."""

    def says(self, depth: int, text: str) -> None:
        """The element at this depth holds a text, without the blanks around it; never empty."""

    def ends(self, depth: int, tag: str) -> None:
        """An element ends."""


class Message:
    """One message; `feed` raises XmlError, and so does `close` where it is not whole."""

    def __init__(self, hears: Hears) -> None:
        self._hears = hears
        self._depth = self._elements = 0
        self._text: list[str] = []
        self._blank = True  # nothing but blanks so far, which may stand before a message
        self._parser = expat.ParserCreate(namespace_separator="}")
        self._parser.buffer_text = True
        self._parser.StartElementHandler = self._begin
        self._parser.EndElementHandler = self._end
        self._parser.CharacterDataHandler = self._text.append
        self._parser.StartDoctypeDeclHandler = self._refuse

    def feed(self, piece: bytes) -> None:
        """Read on. Raises XmlError."""
        if self._blank:
            piece = piece.lstrip()
            self._blank = not piece
        self._parse(piece, last=False)

    def close(self) -> None:
        """It is over. Raises XmlError."""
        self._parse(b"", last=True)

    def _parse(self, piece: bytes, *, last: bool) -> None:
        try:
            self._parser.Parse(piece, last)
        except (expat.ExpatError, ValueError, LookupError) as error:
            if isinstance(error, XmlError):
                raise
            raise XmlError(str(error)) from None

    def _begin(self, tag: str, attributes: dict[str, str]) -> None:
        self._tell_text()
        self._depth += 1
        self._elements += 1
        if self._depth > _DEEPEST:
            raise TooDeepError(f"over {_DEEPEST} elements lie in each other")
        if self._elements > MOST_ELEMENTS:
            raise TooDeepError(f"it has over {MOST_ELEMENTS} elements")
        self._hears.begins(self._depth, tag, attributes)

    def _end(self, tag: str) -> None:
        self._tell_text()
        self._hears.ends(self._depth, tag)
        self._depth -= 1

    def _tell_text(self) -> None:
        text = "".join(self._text).strip()
        self._text.clear()
        if text and self._depth:
            self._hears.says(self._depth, text)

    def _refuse(self, *_: object) -> None:
        raise XmlError("it has a document type")
