"""What the signatures of imported lists came to: `catalog/signatures.json`.

A check is told by the digest of the catalog file that the import wrote, so that it ends where
somebody edits that file, and no catalog that comes from elsewhere brings its own.
"""

import hashlib
from pathlib import Path
from typing import Literal

import msgspec
from msgspec import Struct

from ovek.files.atomic import write_whole
from ovek.files.decode import read_bytes
from ovek.files.errors import InputError
from ovek.model.signature import SignatureCheck

NAME = "signatures.json"


class SignatureRecord(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """The checks of imported lists, by the SHA-256 of each catalog file."""

    format: Literal["ovek.signatures/1"] = "ovek.signatures/1"
    checked: dict[str, SignatureCheck] = {}


def read_checks(folder: Path) -> dict[str, SignatureCheck]:
    """The checks in a catalog folder; none where there is no such file. Raises InputError."""
    file = folder / NAME
    if not file.exists():
        return {}
    try:
        return msgspec.json.decode(read_bytes(file), type=SignatureRecord).checked
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError) as error:
        do = "Delete it; then import the signed lists again"
        raise InputError(file, f"is damaged ({error})", do) from None


def keep_check(catalog: Path, check: SignatureCheck) -> None:
    """Keep what the signature of a list came to, for the catalog that was written of it.

    Raises InputError.
    """
    checks = {**read_checks(catalog.parent), fingerprint_of(catalog): check}
    text = msgspec.json.format(msgspec.json.encode(SignatureRecord(checked=checks)), indent=1)
    write_whole(catalog.parent / NAME, [text, b"\n"])


def fingerprint_of(catalog: Path) -> str:
    """The SHA-256 of a catalog file. Raises InputError."""
    return hashlib.sha256(read_bytes(catalog)).hexdigest()
