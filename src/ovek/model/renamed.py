"""Names of earlier editions, and what each is called now; an old one is refused with that."""

from collections.abc import Collection

RENAMED = {
    # keys of files
    "fits": "hardware",
    "start": "boot",
    "ways": "access",
    "start_digest_age": "boot_digest_age",
    # rules
    "starts-from-removable": "boots-from-removable",
    "starts-unwanted": "next-boot-unwanted",
    "bank-cannot-start": "bank-cannot-boot",
    "next-start-older": "next-boot-older",
    "member-starts-differ": "member-boots-differ",
    "image-cut-short": "image-truncated",
    "image-unmeasured": "image-unverified",
    # verdicts, and states of a next boot
    "cut-short": "truncated",
    "unmeasured": "unverified",
    "ready": "proven",
    "half": "partly read",
}


def new_name(name: str, known: Collection[str]) -> str | None:
    """What a name of an earlier edition is called now, where that is one of the known names.

    >>> new_name("fits", ["file", "hardware"]), new_name("fits", ["file"])
    ('hardware', None)
    """
    new = RENAMED.get(name)
    return new if new in known else None
