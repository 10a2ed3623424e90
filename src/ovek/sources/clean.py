r"""Terminal text made plain: what a person would have seen, without pagers, echoes and escapes.

>>> plain("ox\x1b[1mw\x1b[0mick\r\nab\bc\r\n")
'oxwick\nac\n'
"""

import re

from ovek.model.pattern import Pattern

# ECMA-48: CSI and OSC sequences, then any other two-character escape.
_ESCAPES = re.compile(
    r"\x1b\[[0-?]*[ -/]*[@-~]|\x1b[\]PX^_].*?(?:\x07|\x1b\\|\Z)|\x1b[ -/]*[0-~]|\x9b[0-?]*[@-~]",
    re.DOTALL,
)
_OTHER = re.compile(r"[\x00-\x07\x0b-\x1f\x7f-\x9f]")


def plain(text: str, pager: Pattern | None = None) -> str:
    """Take escapes, overstrikes, pager leftovers and line ends of all kinds out of a text."""
    text = _ESCAPES.sub("", text) if "\x1b" in text or "\x9b" in text else text
    if pager is not None:
        text = pager.sub("", text)
    if "\b" in text:
        text = _struck(text)
    text = text.replace("\r\n", "\n")
    if "\r" in text:
        text = "\n".join(_overwritten(line) for line in text.split("\n"))
    return _OTHER.sub("", text)


def _struck(text: str) -> str:
    """What is left where a backspace took the character before it, within its line."""
    left: list[str] = []
    for char in text:
        if char != "\b":
            left.append(char)
        elif left and left[-1] != "\n":
            left.pop()
    return "".join(left)


def _overwritten(line: str) -> str:
    """What is left where a bare carriage return went back to the start of the line."""
    if "\r" not in line:
        return line
    shown, width = [], 0
    for piece in reversed(line.split("\r")):  # the last to be written is seen whole
        if len(piece) > width:
            shown.append(piece[width:])
            width = len(piece)
    return "".join(shown).rstrip(" ")


def without_echo(text: str, typed: str) -> str:
    """Drop the first line where it is only the question itself, echoed."""
    first, _, rest = text.lstrip("\n").partition("\n")
    return rest if first.strip().endswith(typed.strip()) and typed.strip() else text
