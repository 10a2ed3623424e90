"""The keys of a site, by which signatures of lists and images are checked."""

from datetime import UTC, datetime

from msgspec.structs import asdict

from ovek.app.devices import site_context
from ovek.files.signatures.keyring import FOLDER, NAME, missing_for
from ovek.files.site import Site
from ovek.model.results.keys import KeyFacts, KeyList
from ovek.model.signature import SignatureForm


def list_keys(site: Site) -> KeyList:
    """The keys in `keys/`, and whether what they sign now counts. Raises InputError.

    >>> from ovek import open_site
    >>> list_keys(open_site("skerrow-ferries")).keys
    []
    """
    keyring, now = site.keyring, datetime.now(UTC)
    own = {one.facts: one for one in keyring.openpgp}
    certificates = {one.facts: one.certificate for one in keyring.certificates}
    keys = []
    for key in keyring.said:
        doubt = key.doubt(now)
        form: SignatureForm = "CMS" if key in certificates else "OpenPGP"
        why = missing_for(form) or (doubt[1].partition(";")[0] if doubt is not None else "")
        expires = None
        if key in own:
            expires = own[key].subkeys[key.fingerprint].expires
            if own[key].subkeys[key.fingerprint].revoked:
                why = why or "it was revoked by its owner"
        elif key in certificates:
            expires = certificates[key].not_valid_after_utc
        if not why and expires is not None and expires < now:
            why = f"it expired on {expires:%Y-%m-%d}"
        keys.append(
            KeyFacts(
                file=f"{FOLDER}/{key.file}",
                publisher=key.publisher,
                form=form,
                fingerprint=key.fingerprint,
                first=key.from_,
                last=key.until,
                expires=expires,
                signs_for=key.signs_for or (key.publisher,),
                counts=not why,
                why=why,
            )
        )
    return KeyList(
        **asdict(site_context(site)),
        keys=keys,
        listed_in=f"{FOLDER}/{NAME}",
    )
