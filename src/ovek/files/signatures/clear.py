"""Clear-signed text: what of it is signed, and the signature in it."""

from msgspec import Struct

_BEGIN, _END = "-----BEGIN PGP SIGNED MESSAGE-----", "-----BEGIN PGP SIGNATURE-----"


class ClearSigned(Struct, frozen=True):
    """A clear-signed text: the signed lines, the number of lines before them, and what is behind.

    Behind the signed lines stands the block of the signature.
    """

    before: int
    lines: list[str]
    behind: str

    @property
    def signed(self) -> bytes:
        """The bytes that were signed: without blanks at the ends of lines, and the last line end.

        What signs them makes the line ends alike.
        """
        return "\n".join(line.rstrip(" \t") for line in self.lines).encode()


def is_clear_signed(text: str) -> bool:
    """Whether a text is clear-signed: its first line says so.

    What stands before that line is not signed, so a text that says so further down is none.
    """
    return text.lstrip()[: len(_BEGIN)] == _BEGIN


def taken_apart(text: str) -> ClearSigned:
    """The parts of a clear-signed text.

    The signed lines begin behind the first blank one, and end before that of the signature. A dash
    guards those that begin with one.
    """
    lines = [line.removesuffix("\r") for line in text.split("\n")]
    begun = next(number for number, line in enumerate(lines) if line.strip())
    numbers = range(begun + 1, len(lines))
    end = next((n for n in numbers if lines[n].rstrip() == _END), len(lines))
    start = next((n + 1 for n in numbers if n < end and not lines[n].strip()), end)
    signed = [line.removeprefix("- ") for line in lines[start:end]]
    return ClearSigned(start, signed, "\n".join(lines[end:]))


def signed_text(text: str) -> str:
    """The signed lines of a clear-signed text, each where it stands; any other text as it is.

    Lines that are not signed become blank, so that each keeps its number.

    >>> text = "-----BEGIN PGP SIGNED MESSAGE-----\\nHash: SHA512\\n\\n- -a\\nb\\n"
    >>> signed_text(text + "-----BEGIN PGP SIGNATURE-----\\n\\nwr0E\\n")
    '\\n\\n\\n-a\\nb\\n'
    """
    if not is_clear_signed(text):
        return text
    parts = taken_apart(text)
    return "\n" * parts.before + "".join(f"{line}\n" for line in parts.lines)
