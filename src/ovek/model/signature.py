"""Signatures of lists and images, and the keys that a site knows: `ovek.keys/1`."""

from datetime import date, datetime
from fnmatch import fnmatchcase
from typing import Annotated, Literal

from msgspec import Meta, Struct
from msgspec.structs import force_setattr, replace

from ovek.model.snapshot import Name

KEYS_FORMAT = "ovek.keys/1"

SignatureForm = Literal["OpenPGP", "CMS"]
SignatureState = Literal[
    "good", "expired", "revoked", "weak", "wrong-publisher", "unknown-key", "unchecked",
    "other-file", "bad",
]  # fmt: skip
# Of several signatures of one file the first that is met of these counts.
BEST_FIRST: tuple[SignatureState, ...] = (
    "good", "wrong-publisher", "expired", "revoked", "weak", "unknown-key", "unchecked",
    "other-file", "bad",
)  # fmt: skip
REFUSED: tuple[SignatureState, ...] = ("other-file", "bad")  # of no list with one is a line taken
_HEX_DIGITS = (40, 64)  # of a fingerprint


class SigningKey(
    Struct,
    frozen=True,
    forbid_unknown_fields=True,
    omit_defaults=True,
    kw_only=True,
    rename={"from_": "from"},
):
    """A key or certificate in `keys/`, and whose it is."""

    file: Annotated[str, Meta(min_length=1, pattern=r"^[^/\\]+$")]  # its name in keys/
    publisher: Name  # to whom it belongs
    fingerprint: str  # of the primary key, or the SHA-256 of the certificate, in hex
    from_: date | None = None  # the first day of which a signature counts
    until: date | None = None  # the last day of which a signature counts
    revoked: date | None = None  # the day on which it was withdrawn: nothing that it signed counts
    signs_for: tuple[Name, ...] = ()  # globs of publishers; none: only for its own

    def __post_init__(self) -> None:
        plain = "".join(self.fingerprint.split()).replace(":", "").lower()
        if len(plain) not in _HEX_DIGITS or set(plain) - set("0123456789abcdef"):
            raise ValueError(f"fingerprint is {self.fingerprint!r}; it has 40 or 64 hex digits")
        force_setattr(self, "fingerprint", plain)

    def signs(self, publisher: str | None) -> bool:
        """Whether it may sign for a publisher; for one that no list names it may."""
        if publisher is None:
            return True
        return any(fnmatchcase(publisher, glob) for glob in self.signs_for or (self.publisher,))

    def doubt(self, signed_at: datetime | None) -> tuple[SignatureState, str] | None:
        """What `keys.toml` has against a signature of a time (None: unknown); None for nothing."""
        if self.revoked is not None:
            return "revoked", f"keys.toml says that the key was revoked on {self.revoked}"
        day = None if signed_at is None else signed_at.date()
        if self.from_ is not None and (day is None or day < self.from_):
            return "expired", f"keys.toml takes this key from {self.from_} on; {_made(day)}"
        if self.until is not None and (day is None or day > self.until):
            return "expired", f"keys.toml takes this key until {self.until}; {_made(day)}"
        return None


def _made(day: date | None) -> str:
    return f"the signature was made on {day}" if day else "the signature does not say when it was"


class SigningKeys(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`keys/keys.toml`: the keys of a site."""

    format: Literal["ovek.keys/1"] = "ovek.keys/1"
    key: tuple[SigningKey, ...] = ()


class SignatureCheck(
    Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True, kw_only=True
):
    """What a signature of a file came to."""

    state: SignatureState
    why: str  # what was seen, as the rest of a sentence that begins with the state
    file: str  # the name of the signature's file; of the list itself if it is clear-signed
    form: SignatureForm | None = None  # None: it is neither
    publisher: str | None = None  # whose key it is, by keys.toml
    key: str | None = None  # the whole fingerprint of the key
    algorithm: str | None = None  # of key and digest: "EdDSA, SHA-512"
    signed_at: datetime | None = None  # by its own word
    checked_on: date | None = None  # None: now

    @property
    def good(self) -> bool:
        """Whether a key that the site knows signed these bytes, and may sign them."""
        return self.state == "good"

    @property
    def shown(self) -> str:
        """Who signed, or what is wrong, in a few words."""
        return f"signed by {self.publisher}" if self.good else TITLES[self.state]

    @property
    def sentence(self) -> str:
        """Who signed with what and when, or what is wrong, and why."""
        when = f"made {self.signed_at:%Y-%m-%d}" if self.signed_at is not None else ""
        on = f"checked {self.checked_on}" if self.checked_on is not None else ""
        facts = ", ".join(filter(None, (self.form, self.algorithm, when, on)))
        why = f"; {self.why}" if self.why else ""
        return f"{self.shown} ({self.file}{': ' if facts else ''}{facts}){why}"


TITLES: dict[SignatureState, str] = {
    "good": "good signature",
    "expired": "signature of an expired key",
    "revoked": "signature of a revoked key",
    "weak": "weak signature",
    "wrong-publisher": "signature of another publisher's key",
    "unknown-key": "signature of an unknown key",
    "unchecked": "signature not checked",
    "other-file": "signature of another file",
    "bad": "bad signature",
}


def as_of_keys(
    check: SignatureCheck, keys: tuple[SigningKey, ...], publisher: str | None
) -> SignatureCheck:
    """What a kept check comes to by the keys that the site knows now: they may be withdrawn since.

    No check gets better by it.
    """
    if not check.good:
        return check
    key = next((one for one in keys if one.fingerprint == check.key), None)
    if key is None:
        why = "its key is not in keys/keys.toml any more"
        return replace(check, state="unknown-key", why=why)
    if (doubt := key.doubt(check.signed_at)) is not None:
        return replace(check, state=doubt[0], why=doubt[1])
    if not key.signs(publisher):
        why = f"the key of {key.publisher} may not sign for {publisher}"
        return replace(check, state="wrong-publisher", why=why)
    return replace(check, publisher=key.publisher)


# What to do about a list whose signature is not good, by the state of the signature.
REMEDIES: dict[SignatureState, str] = {
    "bad": "Get the list and its signature again, from the publisher",
    "other-file": "Get the signature of this list, from the publisher",
    "unknown-key": "If the publisher confirms this key by another way, put it into keys/ and "
    "keys/keys.toml",
    "expired": "Ask the publisher for a list that is signed with a current key",
    "revoked": "Ask the publisher for a list that is signed with a current key",
    "weak": "Ask the publisher for a signature over SHA-256 or better",
    "wrong-publisher": "Correct --publisher, or signs_for in keys/keys.toml",
    "unchecked": "Have it checked before you import it",
}
