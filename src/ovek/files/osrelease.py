"""os-release (freedesktop.org, os-release(5)): what runs on a Linux system, as shell assignments.

A value may be quoted by either kind of quotes; in double ones a backslash escapes the character
after it. Empty lines and those that start with `#` say nothing.
"""

import re
import shlex

_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")


class OsReleaseError(ValueError):
    """A text that is not what the format says."""


def read_os_release(data: bytes) -> dict[str, str]:
    r"""Read an os-release file; of a name that is given twice, the last counts.

    Raises OsReleaseError.

    >>> read_os_release(b'# a comment\nID=deck\nVERSION_ID="4.1"\nNAME=\'Deck OS\'\n')
    {'ID': 'deck', 'VERSION_ID': '4.1', 'NAME': 'Deck OS'}
    """
    found: dict[str, str] = {}
    for number, line in enumerate(data.decode("utf-8", "replace").splitlines(), 1):
        text = line.strip()
        if not text or text.startswith("#"):
            continue
        name, equals, value = text.partition("=")
        if not equals or not _NAME.fullmatch(name):
            raise OsReleaseError(f"line {number} is not NAME=VALUE: {text[:40]!r}")
        try:
            words = shlex.split(value, posix=True)
        except ValueError as error:
            raise OsReleaseError(f"line {number} has an unclosed quote: {error}") from None
        found[name] = " ".join(words)
    return found
