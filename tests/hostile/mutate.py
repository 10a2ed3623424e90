"""Inputs made worse: a few changes to a sample, the same for the same seed."""

import random

_NUMBERS = [0, 1, 7, 8, 0x7F, 0x80, 0xFF, 2**15, 2**16 - 1, 2**31 - 1, 2**31, 2**32 - 1, 2**63]
_PIECES = [
    b"\0", b"\n", b"\r\n", b"\r", b"\b", b"\t", b" ", b"'", b'"', b"\\", b"/", b"../", b"=",
    b"{", b"}",
    b"[", b"]", b"(", b")", b"*", b"#", b"<", b">", b"&", b";", b"$(x)", b"`x`", b"%s", b"\x1b[31m",
    b"\x1b]0;x\x07", b"\x9b", b"\xff\xfe", b"\xef\xbb\xbf", b"\xc3\x28", b"\xed\xa0\x80",
    b"\xf4\x90",
    "\u202e".encode(), "\u2028".encode(), "\u0130".encode(), "é".encode(), b"-1", b"+1", b"1e999",
    b"20000 PiB", b"9" * 20, b"9" * 5000, b"nan", b"null", b"true", b"{}", b"[[[[[[[[",
    b"\\ud800", b"&#65;", b"<!ENTITY x 'y'>", b"<![CDATA[", b"SHA512 (", b"a" * 300,
]  # fmt: skip


def mutated(sample: bytes, others: list[bytes], chance: random.Random) -> bytes:
    """A sample with one to eight changes; `others` are samples that pieces may come from."""
    data = bytearray(sample)
    for _ in range(1 if chance.random() < 0.4 else chance.randint(2, 8)):
        _change(data, others, chance)
    return bytes(data[: 2**20])


def _change(data: bytearray, others: list[bytes], chance: random.Random) -> None:
    at = chance.randint(0, len(data))
    end = min(len(data), at + chance.choice((1, 2, 4, 8, 16, 64, 512)))
    kind = chance.randrange(9)
    if kind == 0 and data:
        data[at % len(data)] ^= 1 << chance.randrange(8)
    elif kind == 1 and data:
        data[at % len(data)] = chance.randrange(256)
    elif kind == 2:
        del data[at:end]
    elif kind == 3:
        data[at:at] = data[at:end] * chance.choice((1, 2, 50))
    elif kind == 4:
        data[at:at] = chance.choice(_PIECES)
    elif kind == 5:
        data[at:end] = chance.choice(_PIECES)
    elif kind == 6:
        number, width = chance.choice(_NUMBERS), chance.choice((1, 2, 4, 8))
        value = (number % 256**width).to_bytes(width, chance.choice(("little", "big")))
        data[at : at + width] = value
    elif kind == 7:
        other = chance.choice(others)
        start = chance.randint(0, len(other))
        data[at:end] = other[start : start + chance.choice((8, 64, 512))]
    else:
        del data[at:]
