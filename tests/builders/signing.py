"""Keys, certificates and signatures, made with the real libraries."""

from datetime import UTC, datetime, timedelta
from functools import cache
from pathlib import Path

import pytest

pysequoia = pytest.importorskip("pysequoia", reason="the extra `signatures` is not installed")

from cryptography import x509  # noqa: E402
from cryptography.hazmat.primitives import hashes, serialization  # noqa: E402
from cryptography.hazmat.primitives.asymmetric import ec, rsa  # noqa: E402
from cryptography.hazmat.primitives.serialization import pkcs7  # noqa: E402
from pysequoia import Cert, SignatureMode, Tsk, sign  # noqa: E402
from pysequoia.packet import PacketPile  # noqa: E402

from ovek.files.signatures import asn1  # noqa: E402

NOW = datetime.now(UTC) + timedelta(hours=1)  # after all that is signed in a run
DAY = timedelta(days=1)


# ---- OpenPGP -------------------------------------------------------------------------------------


@cache
def key(who: str = "Nobody") -> Tsk:
    return Tsk.generate(f"{who} <release@{who.lower()}.example>")


def public(tsk: Tsk) -> Cert:
    return tsk.extract_certificate()


def openpgp(data: bytes, who: Tsk | None = None, *, armor: bool = True) -> bytes:
    signer = (who or key()).signer()
    return bytes(sign(signer, data, mode=SignatureMode.DETACHED, armor=armor))


def clear(data: bytes, who: Tsk | None = None) -> bytes:
    return bytes(sign((who or key()).signer(), data, mode=SignatureMode.CLEAR))


def revoked(tsk: Tsk) -> Cert:
    cert = public(tsk)
    packets = PacketPile.from_bytes(bytes(cert.revoke(tsk.certifier())))
    return Cert.from_packets([*PacketPile.from_bytes(bytes(cert)), *packets])


def expired(tsk: Tsk, at: datetime) -> Cert:
    return public(tsk).set_expiration(at, tsk.certifier())


def weak(data: bytes, who: Tsk | None = None) -> bytes:
    """A signature that says it is over a SHA-1: the byte that names the digest is another one."""
    packet = bytearray(openpgp(data, who, armor=False))
    packet[packet.index(b"\x04\x00") + 3] = 2
    return bytes(packet)


# ---- CMS -----------------------------------------------------------------------------------------


def certificate(
    name: str = "Nobody", kind: str = "ec", issuer: str | None = None, last: int = 30
) -> tuple[x509.Certificate, ec.EllipticCurvePrivateKey | rsa.RSAPrivateKey]:
    """A certificate that signs itself, or that one of this name issued; for so many days more."""
    return _certificate(name, kind, issuer, last)


@cache
def _certificate(
    name: str, kind: str, issuer: str | None, last: int
) -> tuple[x509.Certificate, ec.EllipticCurvePrivateKey | rsa.RSAPrivateKey]:
    own: ec.EllipticCurvePrivateKey | rsa.RSAPrivateKey
    own = ec.generate_private_key(ec.SECP256R1()) if kind == "ec" else rsa.generate_private_key(
        65537, 2048
    )  # fmt: skip
    subject = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, name)])
    by, signing = (subject, own) if issuer is None else (
        certificate(issuer)[0].subject, certificate(issuer)[1]
    )  # fmt: skip
    build = (
        x509.CertificateBuilder()
        .subject_name(subject).issuer_name(by).public_key(own.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(NOW - 60 * DAY).not_valid_after(NOW + last * DAY)
        .add_extension(x509.BasicConstraints(ca=issuer is None, path_length=None), critical=True)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(own.public_key()), False)
        .add_extension(
            x509.AuthorityKeyIdentifier.from_issuer_public_key(signing.public_key()), False
        )
        .add_extension(
            x509.KeyUsage(True, False, False, False, False, issuer is None, False, False, False),
            critical=True,
        )
    )  # fmt: skip
    return build.sign(signing, hashes.SHA256()), own


def pem(one: x509.Certificate) -> bytes:
    return one.public_bytes(serialization.Encoding.PEM)


def cms(
    data: bytes, *names: str, armor: bool = False, options: tuple = (), **of: str | int | None
) -> bytes:
    """A detached CMS signature of each of these, by the certificates of `certificate`."""
    build = pkcs7.PKCS7SignatureBuilder().set_data(data)
    for name in names or ("Nobody",):
        build = build.add_signer(*certificate(name, **of), hashes.SHA256())
    encoding = serialization.Encoding.PEM if armor else serialization.Encoding.DER
    chosen = [pkcs7.PKCS7Options.DetachedSignature, pkcs7.PKCS7Options.Binary, *options]
    return build.sign(encoding, chosen)


def over_sha1(signature: bytes) -> bytes:
    """A CMS signature that says it is over a SHA-1."""
    outer = asn1.decode_der(asn1.ContentInfo, signature)
    signed = outer.content.parse(asn1.SignedData)
    for info in signed.signers.as_list():
        info.digest_algorithm.oid = x509.ObjectIdentifier("1.3.14.3.2.26")
    inner = asn1.encode_der(signed)
    wrapped = b"\xa0\x82" + len(inner).to_bytes(2, "big") + inner
    body = b"\x06\x09" + bytes.fromhex("2a864886f70d010702") + wrapped
    return b"\x30\x82" + len(body).to_bytes(2, "big") + body


# ---- a site's keys -------------------------------------------------------------------------------


def fingerprint(one: Cert | x509.Certificate) -> str:
    if isinstance(one, Cert):
        return str(one.fingerprint)
    return one.fingerprint(hashes.SHA256()).hex()


def entry(one: Cert | x509.Certificate, publisher: str = "Nobody", **more: str) -> tuple:
    """A key of a site: whose it is, and what else keys.toml says of it."""
    return one, {"publisher": publisher, **more}


def write_keys(folder: Path, *entries: tuple) -> None:
    """Write the keys of a site; by default the OpenPGP key and the certificate of Nobody."""
    keys = folder / "keys"
    keys.mkdir(exist_ok=True)
    text = 'format = "ovek.keys/1"\n'
    for number, (one, said) in enumerate(
        entries or (entry(public(key())), entry(certificate()[0]))
    ):
        file = keys / f"key-{number}.asc"
        file.write_bytes(str(one).encode() if isinstance(one, Cert) else pem(one))
        facts = {"file": file.name, "fingerprint": fingerprint(one), **said}
        lines = [f"{name} = {value}" if name in ("from", "until", "revoked", "signs_for")
                 else f'{name} = "{value}"' for name, value in facts.items()]  # fmt: skip
        text += "\n[[key]]\n" + "\n".join(lines) + "\n"
    (keys / "keys.toml").write_text(text)
