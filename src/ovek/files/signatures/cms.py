"""CMS signatures (RFC 5652, PKCS #7): detached, PEM or DER.

Who signed is told by a certificate in `keys/`: the signer's own, or one that issued it, over those
that the signature brings along. Signed attributes hold the digest of the file: where their own
signature is right and that digest is another, it is a signature of another file.
"""

import binascii
import hashlib
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from ovek.files.safe_open import opened
from ovek.files.signatures.keyring import Certified, Keyring
from ovek.files.signatures.openpgp import NotSignatureError
from ovek.model.signature import SignatureCheck, SignatureState

if TYPE_CHECKING:
    from cryptography.x509 import Certificate

    from ovek.files.signatures.asn1 import SignedData, SignerInfo

BEGINS = (b"-----BEGIN CMS-----", b"-----BEGIN PKCS7-----")
_ENDS = (b"-----END CMS-----", b"-----END PKCS7-----")
_MOST_CERTIFICATES, _DEEPEST = 32, 4
_CHUNK = 2**20
_SIGNED_DATA = "1.2.840.113549.1.7.2"
_DATA = bytes.fromhex("06092a864886f70d010701")  # the type of plain bytes, as DER
_CONTENT_TYPE, _DIGEST, _TIME = (f"1.2.840.113549.1.9.{number}" for number in (3, 4, 5))
_HASHES = {
    "1.2.840.113549.2.5": "md5", "1.3.14.3.2.26": "sha1",
    "2.16.840.1.101.3.4.2.4": "sha224", "2.16.840.1.101.3.4.2.1": "sha256",
    "2.16.840.1.101.3.4.2.2": "sha384", "2.16.840.1.101.3.4.2.3": "sha512",
}  # fmt: skip
_WEAK = ("md5", "sha1")
_PSS = "1.2.840.113549.1.1.10"


class _Signer(Struct, frozen=True):
    """Who signed: the certificate, and the one in `keys/` by which it is known, if any."""

    certificate: "Certificate | None"
    known: Certified | None
    why: str = ""


def signed_data(data: bytes, most: int = 16) -> "SignedData":
    """What a file of at most so many signatures holds, PEM or DER; raise NotSignatureError."""
    from ovek.files.signatures import asn1

    der = _der(data)
    try:
        outer = asn1.decode_der(asn1.ContentInfo, der)
        if outer.content_type.dotted_string != _SIGNED_DATA:
            raise NotSignatureError("it is CMS, but no signature")
        signed: SignedData = outer.content.parse(asn1.SignedData)
        signers = signed.signers.as_list()
        certificates = signed.certificates.as_list() if signed.certificates else []
    except ValueError as error:
        reason = error if isinstance(error, NotSignatureError) else f"not DER: {error}"
        raise NotSignatureError(f"it cannot be read ({reason})") from None
    if not 0 < len(signers) <= most:
        raise NotSignatureError(f"it has {len(signers)} signatures, not 1 to {most}")
    if len(certificates) > _MOST_CERTIFICATES:
        number = len(certificates)
        raise NotSignatureError(f"it holds {number} certificates, more than {_MOST_CERTIFICATES}")
    return signed


def _der(data: bytes) -> bytes:
    begun = next((mark for mark in BEGINS if mark in data), None)
    if begun is None:
        return data
    _, _, rest = data.partition(begun)
    body, ended, _ = rest.partition(_ENDS[BEGINS.index(begun)])
    try:
        if not ended:
            raise NotSignatureError("it is cut short")
        return binascii.a2b_base64(b"".join(body.split()), strict_mode=True)
    except binascii.Error as error:
        raise NotSignatureError(f"its armour cannot be read ({error})") from None


def check(
    source: Path | bytes, signed: "SignedData", keys: Keyring, name: str, now: datetime
) -> Iterator[SignatureCheck]:
    """What each signature of a file (or of bytes) comes to; `name` is that of its own file."""
    for signer in signed.signers.as_list():
        yield _check(source, signed, signer, keys, name, now)


def _check(
    source: Path | bytes,
    signed: "SignedData",
    info: "SignerInfo",
    keys: Keyring,
    name: str,
    now: datetime,
) -> SignatureCheck:
    hash_name = _HASHES.get(info.digest_algorithm.oid.dotted_string)
    attributes = _attributes(info)
    signed_at = _time_in(attributes)
    try:
        who = _who(signed, info, keys, signed_at or now)
    except ValueError as error:
        who = _Signer(None, None, f"its certificate cannot be read ({error})")

    def of(state: SignatureState, why: str) -> SignatureCheck:
        from cryptography.hazmat.primitives.hashes import SHA256

        known, certificate = who.known, who.certificate
        key = certificate.fingerprint(SHA256()).hex() if certificate is not None else None
        return SignatureCheck(
            state=state,
            why=why,
            file=name,
            form="CMS",
            publisher=known.facts.publisher if known is not None else None,
            key=known.facts.fingerprint if known is not None else key,
            algorithm=f"{_kind(certificate)}, {_shown(hash_name)}",
            signed_at=signed_at,
        )

    if signed.content.content is not None:
        return of("unchecked", "it brings the signed file along, and only detached ones are read")
    if who.certificate is None or who.known is None:
        return of("unknown-key", who.why)
    if hash_name is None:
        return of("unchecked", "it is over a digest that Ovek does not know")
    if hash_name in _WEAK:
        return of("weak", f"it is over a {_shown(hash_name)}, which can be forged")
    if (doubt := who.known.facts.doubt(signed_at)) is not None:
        return of(*doubt)
    if signed_at is not None and signed_at > now:
        return of(
            "bad", f"it says that it was made on {signed_at:%Y-%m-%d}, which is in the future"
        )
    if (doubt := _dated(who, signed_at or now)) is not None:
        return of(*doubt)
    digest = _digest(source, hash_name)
    try:
        if not _verifies(info, who.certificate, hash_name, digest):
            return of("bad", "the signature was changed, or is not of this key")
    except NotImplementedError as error:
        return of("unchecked", str(error))
    stated = attributes.get(_DIGEST)
    if info.attributes is not None and (attributes.get(_CONTENT_TYPE) != _DATA or stated is None):
        return of("bad", "its signed attributes do not say of what it is")
    if stated is not None and stated != b"\x04" + bytes([len(digest)]) + digest:
        return of("other-file", "it is of other bytes: the file is not the one that was signed")
    return of("good", "" if who.known.certificate == who.certificate else _issued_by(who))


def _attributes(info: "SignerInfo") -> dict[str, bytes]:
    """The signed attributes that have one value, each as DER."""
    from ovek.files.signatures import asn1

    attributes: dict[str, bytes] = {}
    for attribute in info.attributes.as_list() if info.attributes is not None else ():
        values = attribute.values.as_list()
        if len(values) == 1:
            name = attribute.kind.dotted_string
            # An attribute that is there twice says nothing.
            attributes[name] = b"" if name in attributes else asn1.encode_der(values[0])
    return attributes


def _time_in(attributes: dict[str, bytes]) -> datetime | None:
    from ovek.files.signatures import asn1

    value = attributes.get(_TIME, b"")
    kinds: dict[bytes, Any] = {b"\x17": asn1.UTCTime, b"\x18": asn1.GeneralizedTime}
    kind = kinds.get(value[:1])
    if kind is None:
        return None
    try:
        time: datetime = asn1.decode_der(kind, value).as_datetime()
    except ValueError:
        return None
    return time.replace(tzinfo=UTC) if time.tzinfo is None else time.astimezone(UTC)


def _who(signed: "SignedData", info: "SignerInfo", keys: Keyring, at: datetime) -> _Signer:
    """The certificate of a signer, and the one in `keys/` that is it or issued it."""
    from cryptography import x509

    for known in keys.certificates:
        if _is_of(info, known.certificate):
            return _Signer(known.certificate, known)
    brought = [
        x509.load_der_x509_certificate(_whole(each))
        for each in (signed.certificates.as_list() if signed.certificates else ())
    ]
    certificate = next((each for each in brought if _is_of(info, each)), None)
    if certificate is None:
        return _Signer(None, None, "its certificate is neither in keys/ nor in the signature")
    if not keys.certificates:
        return _Signer(certificate, None, _not_there(certificate))
    return _issued(certificate, brought, keys, at)


def _whole(value: Any) -> bytes:
    from ovek.files.signatures import asn1

    return asn1.encode_der(value)


def _issued(
    certificate: "Certificate", brought: list["Certificate"], keys: Keyring, at: datetime
) -> _Signer:
    """A certificate that one of `keys/` issued, directly or over others; by the library's rules."""
    from cryptography.x509 import verification

    verifier = (
        verification.PolicyBuilder()
        .store(verification.Store([one.certificate for one in keys.certificates]))
        .time(at.replace(tzinfo=None))
        .max_chain_depth(_DEEPEST)
        .extension_policies(
            ca_policy=verification.ExtensionPolicy.webpki_defaults_ca(),
            ee_policy=verification.ExtensionPolicy.permit_all(),
        )
        .build_client_verifier()
    )
    others = [each for each in brought if each != certificate]
    try:
        chain = verifier.verify(certificate, others).chain
    except verification.VerificationError as error:
        reason = (str(error).splitlines() or [""])[0]
        why = f"{_not_there(certificate)}, and no certificate there issued it ({reason})"
        return _Signer(certificate, None, why)
    anchors = {one.certificate: one for one in keys.certificates}
    return _Signer(certificate, anchors.get(chain[-1]))


def _issued_by(who: _Signer) -> str:
    """Who signed, of those that a certificate in `keys/` issued."""
    return f"the signer is {_subject(who.certificate)}" if who.certificate is not None else ""


def _is_of(info: "SignerInfo", certificate: "Certificate") -> bool:
    """Whether a certificate is the one that a signer names: by issuer and number, or its key."""
    from cryptography import x509

    who = info.signer
    if isinstance(who, bytes):
        try:
            value = certificate.extensions.get_extension_for_class(x509.SubjectKeyIdentifier).value
        except (x509.ExtensionNotFound, ValueError):
            return False
        return bool(value.digest == who)
    same = certificate.serial_number == who.serial
    return same and certificate.issuer.public_bytes() == _whole(who.issuer)


def _dated(who: _Signer, at: datetime) -> tuple[SignatureState, str] | None:
    """What speaks against the signer's certificate at the time of the signature."""
    from cryptography import x509

    certificate = who.certificate
    if certificate is None:
        return None
    first, last = certificate.not_valid_before_utc, certificate.not_valid_after_utc
    if not first <= at <= last:
        why = f"the certificate is for {first:%Y-%m-%d} to {last:%Y-%m-%d}"
        return "expired", f"{why}, the signature is of {at:%Y-%m-%d}"
    try:
        use = certificate.extensions.get_extension_for_class(x509.KeyUsage).value
    except x509.ExtensionNotFound:
        return None
    except ValueError as error:
        return "bad", f"the certificate cannot be read ({error})"
    if not (use.digital_signature or use.content_commitment):
        return "wrong-publisher", "the certificate is not for signatures"
    return None


def _digest(source: Path | bytes, hash_name: str) -> bytes:
    digest = hashlib.new(hash_name)
    if isinstance(source, bytes):
        digest.update(source)
        return digest.digest()
    with opened(source) as stream:
        while chunk := stream.read(_CHUNK):
            digest.update(chunk)
    return digest.digest()


def _verifies(
    info: "SignerInfo", certificate: "Certificate", hash_name: str, digest: bytes
) -> bool:
    """Whether a signature is right, over its attributes or, without any, over a file's digest.

    Raises NotImplementedError where Ovek cannot tell.
    """
    from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
    from cryptography.hazmat.primitives import hashes
    from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa, utils

    from ovek.files.signatures import asn1

    algorithm: Any = getattr(hashes, hash_name.upper())()
    data, method = digest, utils.Prehashed(algorithm)
    if info.attributes is not None:
        data, method = asn1.encode_der(info.attributes), algorithm
    try:
        key = certificate.public_key()
        if isinstance(key, rsa.RSAPublicKey):
            key.verify(info.signature, data, _padding(info), method)
        elif isinstance(key, ec.EllipticCurvePublicKey):
            key.verify(info.signature, data, ec.ECDSA(method))
        elif isinstance(key, ed25519.Ed25519PublicKey) and info.attributes is not None:
            key.verify(info.signature, data)
        else:
            raise NotImplementedError(f"signatures by {_kind(certificate)} are not supported")
    except (InvalidSignature, ValueError):
        return False
    except UnsupportedAlgorithm as error:
        raise NotImplementedError(str(error)) from None
    return True


def _padding(info: "SignerInfo") -> Any:
    """The padding of an RSA signature. Raises NotImplementedError for one that is not known."""
    from cryptography.hazmat.primitives import hashes
    from cryptography.hazmat.primitives.asymmetric import padding

    from ovek.files.signatures.asn1 import PssParameters

    pss = info.signature_algorithm.parameters
    if info.signature_algorithm.oid.dotted_string != _PSS:
        return padding.PKCS1v15()
    mask = pss.mask if isinstance(pss, PssParameters) else None
    name = _HASHES.get(mask.digest.oid.dotted_string) if mask is not None else "sha1"
    if name is None or name in _WEAK or not isinstance(pss, PssParameters):
        raise NotImplementedError("RSA-PSS over a mask of this digest is not supported")
    salt = 20 if pss.salt is None else pss.salt
    return padding.PSS(padding.MGF1(getattr(hashes, name.upper())()), salt)


def _not_there(certificate: "Certificate") -> str:
    from cryptography.hazmat.primitives.hashes import SHA256

    key = certificate.fingerprint(SHA256()).hex()
    return f"the certificate {key} ({_subject(certificate)}) is not in keys/keys.toml"


def _subject(certificate: "Certificate") -> str:
    return certificate.subject.rfc4514_string()[:120] or "a certificate without a name"


def _kind(certificate: "Certificate | None") -> str:
    """What kind of key a certificate has, in a word."""
    if certificate is None:
        return "unknown"
    try:
        name = type(certificate.public_key()).__name__
    except Exception:  # of no kind that the library knows
        return "unknown"
    for front, word in (("RSA", "RSA"), ("Elliptic", "ECDSA"), ("EC", "ECDSA"), ("Ed", "Ed25519")):
        if name.startswith(front):
            return word
    return name


def _shown(hash_name: str | None) -> str:
    if hash_name is None:
        return "unknown"
    return hash_name.upper().replace("SHA", "SHA-")
