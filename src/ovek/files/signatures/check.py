"""Check the signatures of a list or an image: which lie beside it, and what the best comes to."""

from collections.abc import Collection, Iterable, Iterator
from datetime import datetime
from pathlib import Path

from msgspec.structs import replace

from ovek.files.decode import cannot_read, read_bytes
from ovek.files.errors import InputError
from ovek.files.safe_open import check_regular, opened
from ovek.files.signatures import cms, openpgp
from ovek.files.signatures.clear import is_clear_signed, taken_apart
from ovek.files.signatures.keyring import Keyring, missing_for
from ovek.files.signatures.names import beside, is_signature
from ovek.files.signatures.openpgp import NotSignatureError
from ovek.model.signature import BEST_FIRST, SignatureCheck, as_of_keys

_LARGEST = 2**18  # bytes of a signature's file
_LARGEST_LIST = 64 * 2**20
_START = 4096  # bytes in which a clear-signed list says that it is one
_MOST, _MOST_OF_IMAGE = 16, 4  # signatures of one file: each of an image reads it once
# Files in a folder, and bytes of all, that are held against a signature of another one.
_MOST_SIBLINGS, _MOST_READ = 50, 2**23


def has_signature(file: Path) -> bool:
    """Whether a list has a signature: beside it, or in it. Raises InputError."""
    if beside(file):
        return True
    try:
        with opened(file) as stream:
            start = stream.read(_START)
    except OSError as error:
        raise cannot_read(file, error) from None
    return is_clear_signed(start.decode("utf-8-sig", "replace"))


def check_list(
    file: Path,
    keys: Keyring,
    now: datetime,
    signature: Path | None = None,
    *,
    publishers: Collection[str] = (),
) -> SignatureCheck | None:
    """What the signature of a list comes to; None where it has none.

    It is the one that is named, or those that lie beside the list, or the one in a list that is
    clear-signed. `publishers` are those that the list names, for whom its key has to be. Raises
    InputError where a file cannot be read.
    """
    data = read_bytes(file, at_most=_LARGEST_LIST)
    text = data.decode("utf-8-sig", "replace")
    checks: list[SignatureCheck] = []
    if is_clear_signed(text):
        parts = taken_apart(text)
        checks += _checks_in(parts.signed, parts.behind.encode(), keys, file.name, now)
    if signature is not None:
        read_bytes(signature, at_most=_LARGEST_LIST)  # one that a person named has to be there
    for path in [signature] if signature is not None else beside(file):
        checks += _beside(file, data, path, keys, now)
    return _best(checks, keys, publishers)


def check_image(
    file: Path, keys: Keyring, now: datetime, publishers: Collection[str] = ()
) -> SignatureCheck | None:
    """What the signatures beside an image come to; None where there are none. Raises InputError.

    `publishers` are those whose image it is, as far as that is known.
    """
    check_regular(file)
    checks: list[SignatureCheck] = []
    for path in beside(file):
        left = _MOST_OF_IMAGE - len(checks)
        checks += _named(_checks(file, path, keys, now, most=left), file, path, keys, now)
    return _best(checks, keys, publishers)


def _best(
    checks: Iterable[SignatureCheck], keys: Keyring, publishers: Collection[str]
) -> SignatureCheck | None:
    """The signature that counts of several: the one that says the most for the file.

    One whose key may not sign for all of the publishers is of no use for it.
    """
    results = (_held(one, keys, sorted(publishers)) for one in checks)
    return min(results, key=lambda one: BEST_FIRST.index(one.state), default=None)


def _held(check: SignatureCheck, keys: Keyring, publishers: Iterable[str]) -> SignatureCheck:
    """A check held against each of the publishers for whom its key has to be."""
    for name in publishers:
        if not (result := as_of_keys(check, keys.said, name)).good:
            return result
    return check


def _beside(
    file: Path, data: bytes, signature: Path, keys: Keyring, now: datetime
) -> Iterable[SignatureCheck]:
    """What a signature's file says of a list; it may be a signed copy of the whole list."""
    try:
        text = read_bytes(signature, at_most=_LARGEST_LIST).decode("utf-8-sig", "replace")
    except InputError as error:
        return [SignatureCheck(state="bad", why=error.met, file=signature.name)]
    if not is_clear_signed(text):
        return _named(_checks(data, signature, keys, now), file, signature, keys, now)
    parts = taken_apart(text)
    checks = _checks_in(parts.signed, parts.behind.encode(), keys, signature.name, now)
    if _plain(data) == _plain(parts.signed):
        return checks
    why = f"the list that is signed in it is not the one in {file.name}"
    return [replace(one, state="other-file", why=why) if one.good else one for one in checks]


def _plain(data: bytes) -> list[bytes]:
    return [line.rstrip() for line in data.rstrip().split(b"\n")]


def _checks(
    source: Path | bytes, signature: Path, keys: Keyring, now: datetime, most: int = _MOST
) -> list[SignatureCheck]:
    """What each signature in a file comes to; one that cannot be read is bad."""
    try:
        data = read_bytes(signature, at_most=_LARGEST)
    except InputError as error:
        return [SignatureCheck(state="bad", why=error.met, file=signature.name)]
    return _checks_in(source, data, keys, signature.name, now, most)


def _checks_in(
    source: Path | bytes,
    data: bytes,
    keys: Keyring,
    name: str,
    now: datetime,
    most: int = _MOST,
) -> list[SignatureCheck]:
    """What each signature in some bytes comes to, of which there may be so many."""
    try:
        if _is_cms(data):
            if (why := missing_for("CMS")) is not None:
                return [SignatureCheck(state="unchecked", why=why, file=name, form="CMS")]
            return list(cms.check(source, cms.signed_data(data, most), keys, name, now))
        packets = openpgp.packets_in(data, most)
        return [openpgp.check(source, packet, keys, name, now) for packet in packets]
    except NotSignatureError as error:
        return [SignatureCheck(state="bad", why=str(error), file=name)]


def _is_cms(data: bytes) -> bool:
    """Whether a signature is CMS: PEM, or DER, which begins with a sequence."""
    return data[:1] == b"\x30" or any(mark in data for mark in cms.BEGINS)


def _named(
    checks: list[SignatureCheck], file: Path, signature: Path, keys: Keyring, now: datetime
) -> Iterator[SignatureCheck]:
    """Say of which file a signature is that is not of this one, if that lies beside it."""
    for check in checks:
        if check.state not in ("bad", "other-file") or check.form is None:
            yield check
            continue
        other = next(_others(file, signature, keys, now), None)
        if other is None:
            yield check
        else:
            why = f"it is the signature of {other}, not of {file.name}"
            yield replace(check, state="other-file", why=why)


def _others(file: Path, signature: Path, keys: Keyring, now: datetime) -> Iterator[str]:
    """The files beside a file of which a signature is a good one."""
    near = sorted(path for path in signature.parent.iterdir() if path.is_file())
    others = [path for path in near if path != file and not is_signature(path.name)]
    left = _MOST_READ
    for path in others[:_MOST_SIBLINGS]:
        try:
            data = read_bytes(path, at_most=left)
        except InputError:
            continue
        left -= len(data)
        if any(check.good for check in _checks(data, signature, keys, now)):
            yield path.name
