"""OpenPGP signatures (RFC 9580 and 4880): detached, armoured or binary, and clear-signed."""

import binascii
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from ovek.files.signatures.keyring import Keyring, OpenPgpKey, missing_for
from ovek.model.signature import SignatureCheck, SignatureState

_BEGIN, _END = b"-----BEGIN PGP SIGNATURE-----", b"-----END PGP SIGNATURE-----"
_SIGNATURE, _SKIPPED = 2, (10, 21)  # tags of packets; markers and padding say nothing
_RSA = ("RSAEncryptSign", "RSASign")
_WEAK = ("MD5", "SHA1", "RipeMD")


class NotSignatureError(ValueError):
    """What a file holds instead of signatures."""


def packets_in(data: bytes, most: int = 16) -> list[bytes]:
    """The `most` signature packets of a file, armoured or binary; raise NotSignatureError.

    Only their heads are read here, so that what else a file may hold is never unpacked.

    >>> packets_in(b"\\xc2\\x01\\x04")
    [b'\\xc2\\x01\\x04']
    """
    parts = _unarmoured(data) if _BEGIN in data else [data]
    packets = [packet for part in parts for packet in _packets(part)]
    if not packets:
        raise NotSignatureError("it has no signature")
    if len(packets) > most:
        raise NotSignatureError(f"it has {len(packets)} signatures, more than {most}")
    return packets


def _unarmoured(data: bytes) -> Iterator[bytes]:
    """The bytes in each armoured block: its lines between the headers and the checksum."""
    body: list[bytes] | None = None
    for line in map(bytes.strip, data.split(b"\n")):
        if line == _BEGIN:
            body = []
        elif line == _END and body is not None:
            start = body.index(b"") + 1 if b"" in body else 0
            kept = [each for each in body[start:] if each and not each.startswith(b"=")]
            try:
                yield binascii.a2b_base64(b"".join(kept), strict_mode=True)
            except binascii.Error as error:
                raise NotSignatureError(f"its armour cannot be read ({error})") from None
            body = None
        elif body is not None:
            body.append(line)


def _packets(data: bytes) -> Iterator[bytes]:
    start = 0
    while start < len(data):
        tag, head, length = _head(data, start)
        end = start + head + length
        if end > len(data):
            raise NotSignatureError("it is cut short")
        if tag == _SIGNATURE:
            yield data[start:end]
        elif tag not in _SKIPPED:
            raise NotSignatureError(
                f"it holds an OpenPGP packet that is not a signature (tag {tag})"
            )
        start = end


def _head(data: bytes, at: int) -> tuple[int, int, int]:
    """The tag of a packet, and how many bytes its head and its body have."""
    first, rest = data[at], data[at + 1 : at + 6]
    if not first & 0x80:
        raise NotSignatureError("it is not OpenPGP data")
    if not first & 0x40:
        width = {0: 1, 1: 2, 2: 4}.get(first & 3, 0)
        if not width or len(rest) < width:
            raise NotSignatureError("it has a packet of unknown length")
        return first >> 2 & 0xF, 1 + width, int.from_bytes(rest[:width], "big")
    if len(rest) >= 1 and rest[0] < 192:
        return first & 0x3F, 2, rest[0]
    if len(rest) >= 2 and rest[0] < 224:
        return first & 0x3F, 3, (rest[0] - 192 << 8) + rest[1] + 192
    if len(rest) == 5 and rest[0] == 255:
        return first & 0x3F, 6, int.from_bytes(rest[1:], "big")
    raise NotSignatureError("it has a packet of unknown length")


def check(
    source: Path | bytes, packet: bytes, keys: Keyring, name: str, now: datetime
) -> SignatureCheck:
    """What one signature of a file (or of bytes) comes to; `name` is that of its own file."""
    if (why := missing_for("OpenPGP")) is not None:
        return SignatureCheck(state="unchecked", why=why, file=name, form="OpenPGP")
    from pysequoia import Sig

    try:
        signature = Sig.from_bytes(packet)
        issuer = signature.issuer_fingerprint or signature.issuer_key_id
        signed_at = _utc(signature.created)
        kind = "RSA" if _word(signature.key_algorithm) in _RSA else _word(signature.key_algorithm)
        algorithm = f"{kind}, {_hash_of(signature)}"
        ends = _utc(signature.expiration)
    except (RuntimeError, ValueError, OverflowError) as error:
        why = f"its packet cannot be read ({_first_line(error)})"
        return SignatureCheck(state="bad", why=why, file=name, form="OpenPGP")

    key, subkey = _key_of(issuer, keys)

    def of(state: SignatureState, why: str) -> SignatureCheck:
        return SignatureCheck(
            state=state,
            why=why,
            file=name,
            form="OpenPGP",
            publisher=key.facts.publisher if key is not None else None,
            key=key.facts.fingerprint if key is not None else issuer,
            algorithm=algorithm,
            signed_at=signed_at,
        )

    if key is None or subkey is None:
        return of("unknown-key", f"the key {issuer or 'that made it'} is not in keys/keys.toml")
    if _word(signature.hash_algorithm) in _WEAK:
        return of("weak", f"it is over a {_hash_of(signature)}, which can be forged")
    if key.cert.is_revoked or key.subkeys[subkey].revoked:
        return of("revoked", f"the key {subkey} was revoked by its owner")
    if (doubt := key.facts.doubt(signed_at)) is not None:
        return of(*doubt)
    expires = [one for one in (_utc(key.cert.expiration), _utc(key.subkeys[subkey].expires)) if one]
    if signed_at is not None and expires and signed_at > min(expires):
        when = f"{min(expires):%Y-%m-%d}, before the signature was made on {signed_at:%Y-%m-%d}"
        return of("expired", f"the key {subkey} expired on {when}")
    if ends is not None and ends < now:
        return of("expired", f"the signature itself expired on {ends:%Y-%m-%d}")
    if signed_at is not None and signed_at > now:
        return of(
            "bad", f"it says that it was made on {signed_at:%Y-%m-%d}, which is in the future"
        )
    if not _verifies(source, signature, key):
        return of("bad", "the file is not the one that was signed, or the signature was changed")
    return of("good", "")


def _key_of(issuer: str | None, keys: Keyring) -> tuple[OpenPgpKey | None, str | None]:
    """The key that an issuer (a fingerprint, or the end of one) names, and which of its subkeys."""
    for key in keys.openpgp:
        for fingerprint in key.subkeys:
            if issuer is not None and (
                fingerprint == issuer or (len(issuer) == 16 and _key_id(fingerprint) == issuer)
            ):
                return key, fingerprint
    return None, None


def _key_id(fingerprint: str) -> str:
    """The short id of a key: the end of a version 4 fingerprint, the beginning of later ones."""
    return fingerprint[-16:] if len(fingerprint) == 40 else fingerprint[:16]


def _verifies(source: Path | bytes, signature: Any, key: OpenPgpKey) -> bool:
    from pysequoia import verify

    def store(ids: list[str]) -> list[Any]:
        return [key.cert]

    try:
        if isinstance(source, bytes):
            verified = verify(bytes=source, store=store, signature=signature)
        else:
            verified = verify(file=str(source), store=store, signature=signature)
    except (RuntimeError, ValueError, OSError):
        return False
    return any(one.certificate == key.facts.fingerprint for one in verified.valid_sigs)


def _utc(time: datetime | None) -> datetime | None:
    return None if time is None else time.astimezone(UTC)


def _word(value: Any) -> str:
    """The name of one of the library's constants."""
    return str(value).rpartition(".")[2]


def _hash_of(signature: Any) -> str:
    """The name of the digest that a signature is over, as people write it."""
    word = _word(signature.hash_algorithm)
    if word == "RipeMD":
        return "RIPEMD-160"
    return word.replace("_", "-") if "_" in word else word.replace("SHA", "SHA-")


def _first_line(error: Exception) -> str:
    return (str(error).splitlines() or [""])[0]
