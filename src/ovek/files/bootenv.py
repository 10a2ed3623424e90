"""Boot environments of open boot loaders: GRUB's block, and U-Boot's text and binary forms.

GRUB (its manual, "Environment block"): 1024 bytes, a first line `# GRUB Environment Block`, then
`name=value` lines in which a backslash escapes the character after it, then `#` to the end.

U-Boot (its documentation, "U-Boot environment"): as `fw_printenv` prints it, `name=value` lines; as
stored, a little-endian CRC-32 of the data, in redundant environments a flag byte, then
`name=value` strings that each end in a zero byte, a second zero byte ending the list.
"""

import re
import zlib

_GRUB_HEAD = b"# GRUB Environment Block\n"
_NAME = re.compile(r"[^=\s][^=]*")


class BootEnvError(ValueError):
    """A boot environment that is not what its format says."""


def read_grub_env(block: bytes) -> dict[str, str]:
    """Read a GRUB environment block. Raises BootEnvError."""
    if not block.startswith(_GRUB_HEAD):
        raise BootEnvError("it does not start with '# GRUB Environment Block'")
    found: dict[str, str] = {}
    body = block[len(_GRUB_HEAD) :].decode("utf-8", "replace")
    # An escaped line feed stays within its line.
    for line in re.findall(r"(?:\\.|[^\\\n])+", body, re.DOTALL):
        if line.startswith("#"):
            continue
        name, equals, value = line.partition("=")
        if not equals or not name:
            raise BootEnvError(f"{line!r} is not NAME=VALUE")
        found[name] = re.sub(r"\\(.)", r"\1", value, flags=re.DOTALL)
    return found


def read_u_boot_env(data: bytes) -> dict[str, str]:
    """Read a U-Boot environment, text or binary by its content. Raises BootEnvError."""
    if b"\0" not in data:
        return _variables(data.decode("utf-8", "replace").splitlines(), "line")
    for head in (4, 5):
        if len(data) > head and zlib.crc32(data[head:]) == int.from_bytes(data[:4], "little"):
            body = data[head:].split(b"\0\0", 1)[0]
            return _variables(body.decode("utf-8", "replace").split("\0"), "string")
    raise BootEnvError("its CRC-32 is not that of its data")


def _variables(entries: list[str], kind: str) -> dict[str, str]:
    found: dict[str, str] = {}
    for number, entry in enumerate(entries, 1):
        if not entry:
            continue
        name, equals, value = entry.partition("=")
        if not equals or not _NAME.fullmatch(name):
            raise BootEnvError(f"{kind} {number} is not NAME=VALUE: {entry[:40]!r}")
        found[name] = value
    return found
