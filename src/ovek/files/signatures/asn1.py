"""The parts of CMS that a detached signature is made of (RFC 5652), read by `cryptography`."""

# What decodes them looks at the types of the fields: they must not be strings.

from typing import Annotated

from cryptography.hazmat.asn1 import (
    TLV,
    Explicit,
    GeneralizedTime,
    Implicit,
    Null,
    SetOf,
    UTCTime,
    decode_der,
    encode_der,
    sequence,
)
from cryptography.x509 import ObjectIdentifier

__all__ = ["GeneralizedTime", "UTCTime", "decode_der", "encode_der"]


@sequence
class ContentInfo:
    """A CMS object: its type, and what it holds."""

    content_type: ObjectIdentifier
    content: Annotated[TLV, Explicit(0)]


@sequence
class PlainAlgorithm:
    """An algorithm that has no parameters."""

    oid: ObjectIdentifier
    parameters: Null | None


@sequence
class MaskAlgorithm:
    """The mask generation of RSA-PSS, over a digest."""

    oid: ObjectIdentifier
    digest: PlainAlgorithm


@sequence
class PssParameters:
    """The parameters of RSA-PSS; what is left out is by the standard SHA-1, and 20 bytes."""

    digest: Annotated[PlainAlgorithm | None, Explicit(0)]
    mask: Annotated[MaskAlgorithm | None, Explicit(1)]
    salt: Annotated[int | None, Explicit(2)]


@sequence
class Algorithm:
    """An algorithm of a digest or signature."""

    oid: ObjectIdentifier
    parameters: Null | PssParameters | None


@sequence
class EncapsulatedContent:
    """What was signed: its type, and the bytes themselves unless the signature is detached."""

    content_type: ObjectIdentifier
    content: Annotated[bytes | None, Explicit(0)]


@sequence
class Attribute:
    """An attribute of a signature."""

    kind: ObjectIdentifier
    values: SetOf[TLV]


@sequence
class IssuerAndSerial:
    """A certificate by who issued it, and its number there."""

    issuer: TLV
    serial: int


@sequence
class SignerInfo:
    """One signature: by whom (a certificate, or the id of its key), over what, and itself."""

    version: int
    signer: IssuerAndSerial | Annotated[bytes, Implicit(0)]
    digest_algorithm: Algorithm
    attributes: Annotated[SetOf[Attribute] | None, Implicit(0)]
    signature_algorithm: Algorithm
    signature: bytes
    unsigned_attributes: Annotated[SetOf[Attribute] | None, Implicit(1)]


@sequence
class SignedData:
    """Signatures, with the certificates that were sent along."""

    version: int
    digest_algorithms: SetOf[Algorithm]
    content: EncapsulatedContent
    certificates: Annotated[SetOf[TLV] | None, Implicit(0)]
    revocations: Annotated[SetOf[TLV] | None, Implicit(1)]
    signers: SetOf[SignerInfo]
