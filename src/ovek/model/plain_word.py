"""Names in lines that a person types: only plain ones may stand there.

A name that a device or a file tells may hold a line break, a blank, a quote or a sign that a shell
or a device takes for something else. Such a name is never part of a line to type.
"""

import re

_PLAIN = re.compile(r"[A-Za-z0-9_./:+@%=,~][A-Za-z0-9_./:+@%=,~-]*")


def is_plain(name: str) -> bool:
    """Whether a name may be typed as it stands: letters, digits and `_ . / : + @ % = , ~ -`.

    A dash in front would be taken for an option.

    >>> is_plain("flash:ox40-full-7.4.2.img"), is_plain("a b.img"), is_plain("-rf"), is_plain("x;y")
    (True, False, False, False)
    """
    return _PLAIN.fullmatch(name) is not None


def typed(name: str, instead: str) -> str:
    """A name as part of a line to type; a word for it where it is not safe to type.

    >>> typed("sw-2.0.img", "IMAGE"), typed("sw`reboot`.img", "IMAGE")
    ('sw-2.0.img', 'IMAGE')
    """
    return name if is_plain(name) else instead
