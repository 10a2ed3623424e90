r"""Terminal text made plain: what a person would have seen, without pagers, echoes and escapes.

>>> plain("ox\x1b[1mw\x1b[0mick\r\nab\bc\r\n")
'oxwick\nac\n'
"""

import re

# ECMA-48: CSI and OSC sequences, then any other two-character escape.
_ESCAPES = re.compile(
    r"\x1b\[[0-?]*[ -/]*[@-~]|\x1b[\]PX^_].*?(?:\x07|\x1b\\|\Z)|\x1b[ -/]*[0-~]|\x9b[0-?]*[@-~]",
    re.DOTALL,
)
_OTHER = re.compile(r"[\x00-\x07\x0b-\x1f\x7f-\x9f]")
_BACK = re.compile(r"[^\b\n]\x08")


def plain(text: str, pager: re.Pattern[str] | None = None) -> str:
    """Take escapes, overstrikes, pager leftovers and line ends of all kinds out of a text."""
    text = _ESCAPES.sub("", text) if "\x1b" in text or "\x9b" in text else text
    if pager is not None:
        text = pager.sub("", text)
    while "\b" in text:
        shorter = _BACK.sub("", text)
        text = shorter if shorter != text else text.replace("\b", "")
    text = text.replace("\r\n", "\n")
    if "\r" in text:
        text = "\n".join(_overwritten(line) for line in text.split("\n"))
    return _OTHER.sub("", text)


def _overwritten(line: str) -> str:
    """What is left where a bare carriage return went back to the start of the line."""
    shown = ""
    for piece in line.split("\r"):
        shown = piece + shown[len(piece) :]
    return shown.rstrip(" ") if "\r" in line else line


def without_echo(text: str, typed: str) -> str:
    """Drop the first line where it is only the question itself, echoed."""
    first, _, rest = text.lstrip("\n").partition("\n")
    return rest if first.strip().endswith(typed.strip()) and typed.strip() else text
