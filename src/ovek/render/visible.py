r"""Text from devices and files, made safe to show.

>>> visible("ox40\x1b[31m.img")
'ox40\\x1b[31m.img'
"""


def visible(text: str) -> str:
    """Write every character that a terminal would not print as an escape, such as `\\x1b`.

    That takes control characters, bidirectional overrides and odd blanks; a plain blank stays.
    """
    if text.isprintable():
        return text
    return "".join(char if char.isprintable() else _escape(char) for char in text)


def _escape(char: str) -> str:
    code = ord(char)
    if code < 0x100:
        return f"\\x{code:02x}"
    return f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}"
