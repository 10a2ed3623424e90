"""Sizes: bytes in data, MiB and GiB to three figures for people.

>>> parse_size("1.5 GiB")
1610612736
>>> show_size(1_610_612_736)
'1.50 GiB'
"""

import re

_UNITS = {
    "": 1,
    "B": 1,
    "KB": 10**3,
    "MB": 10**6,
    "GB": 10**9,
    "TB": 10**12,
    "KIB": 2**10,
    "MIB": 2**20,
    "GIB": 2**30,
    "TIB": 2**40,
    "PIB": 2**50,
}
LARGEST = 2**63 - 1
_SIZE = re.compile(r"\s*(?P<number>\d{1,20}(?:\.\d{1,9})?)\s*(?P<unit>[A-Za-z]*)\s*", re.ASCII)


class SizeError(ValueError):
    """A text that is no size."""


def parse_size(text: str) -> int:
    """Read a size such as `64 MiB`, `1.2GB` or `4096` (bytes); return whole bytes, rounded up.

    Units are those of IEC 80000-13: `MiB` is 2**20 bytes, `MB` is 10**6. Raises SizeError.
    """
    match = _SIZE.fullmatch(text)
    unit = _UNITS.get(match["unit"].upper()) if match else None
    if match is None or unit is None:
        raise SizeError(f"{text!r} is not a valid size; use e.g. 64MiB, 1.2GB or 4096 (bytes)")
    whole, _, part = match["number"].partition(".")
    scale: int = 10 ** len(part)
    size: int = -(-int(whole + part) * unit // scale)
    if size > LARGEST:
        raise SizeError(f"{text.strip()!r} is too large; the maximum is 2**63 - 1 bytes")
    return size


def typed_size(text: str) -> int:
    """Read a size that a person typed, which has to name its unit. Raises SizeError."""
    size = parse_size(text)
    if size and text.strip().replace(".", "").isdigit():
        near = "KiB" if size >= 10**5 else "MiB"
        number = text.strip()
        raise SizeError(f"{number!r} has no unit; {number} {near}? (in bytes: {number}B)")
    return size


def step_of(text: str) -> int:
    """To how many bytes a written size is known: its unit, or the last digit behind its point.

    Raises SizeError.

    >>> step_of("4096"), step_of("7 KiB"), step_of("1.5 MiB")
    (1, 1024, 104858)
    """
    parse_size(text)
    match = _SIZE.fullmatch(text)
    assert match is not None
    scale: int = 10 ** len(match["number"].partition(".")[2])
    return max(1, -(-_UNITS[match["unit"].upper()] // scale))


def show_size(size: int) -> str:
    """Show bytes to three figures, with the largest unit that keeps the number below 1000.

    >>> [show_size(n) for n in (0, 999, 1000, 20_971_520, 2**30 - 1)]
    ['0 B', '999 B', '0.977 KiB', '20.0 MiB', '1.00 GiB']
    """
    amount, unit = float(abs(size)), "B"
    for larger in ("KiB", "MiB", "GiB", "TiB", "PiB"):
        if amount < 999.5:
            break
        amount, unit = amount / 1024, larger
    sign = "-" if size < 0 else ""
    if unit == "B":
        return f"{sign}{amount:.0f} B"
    digits = next(
        n for n, limit in ((3, 0.9995), (2, 9.995), (1, 99.95), (0, 1e9)) if amount < limit
    )
    return f"{sign}{amount:.{digits}f} {unit}"


def show_mib(size: int) -> str:
    """Show bytes in MiB, whatever their number, so that the rows of a table can be compared.

    >>> [show_mib(n) for n in (0, 5000, 8_336_179, 55_470_000, 5_970_000_000)]
    ['0 MiB', '<0.01 MiB', '7.95 MiB', '52.9 MiB', '5693 MiB']
    """
    amount = abs(size) / 2**20
    sign = "-" if size < 0 else ""
    if size and amount < 0.01:
        return f"{sign}<0.01 MiB"
    digits = 0 if not size or amount >= 99.95 else 1 if amount >= 9.995 else 2
    return f"{sign}{amount:.{digits}f} MiB"


def show_share(part: int, whole: int) -> str:
    """Show a part of a whole in per cent; what is not nothing is never shown as 0%.

    >>> [show_share(n, 1000) for n in (0, 4, 430, 999, 1000)]
    ['0%', 'under 1%', '43%', '99%', '100%']
    """
    share = part * 100 // whole
    return "under 1%" if part and not share else f"{share}%"
