"""What proves an image, by policy: which digests, whose lists, and how they are signed.

1. A match with a record of our own proves where policy accepts those.
2. Where policy requires a signature of the publisher, only a digest that a list with a good one
   gives proves; any other equal digest is a match.
3. A digest that is weaker than policy requires proves nothing.
"""

from fnmatch import fnmatchcase
from functools import lru_cache

from msgspec import Struct
from msgspec.structs import replace

from ovek.engine.releases import ReleaseIndex
from ovek.model.digest import STRONGEST_FIRST, TITLES, Algorithm, Digests
from ovek.model.policy import Policy
from ovek.model.signature import TITLES as SIGNATURES
from ovek.model.verdict import Judgement, KnownRelease


class ProofRule(Struct, frozen=True, kw_only=True):
    """What policy takes for a proof.

    `weakest` is the weakest digest that proves, `accepts_own` whether a copy of ours does,
    `signed_by` globs of the publishers whose lists have to be signed: all (True), some, or none
    (False).
    """

    weakest: Algorithm = "md5"
    accepts_own: bool = False
    signed_by: bool | tuple[str, ...] = False

    def requires_signature(self, release: KnownRelease) -> bool:
        """Whether only a signed list proves a copy of a release; own records are never signed."""
        if release.trust == "own":
            return False
        if isinstance(self.signed_by, bool):
            return self.signed_by
        name = release.publisher
        return name is not None and any(fnmatchcase(name, glob) for glob in self.signed_by)

    def accepted(
        self, judgement: Judgement, digests: Digests | None, releases: ReleaseIndex
    ) -> Judgement:
        """The judgement of a file with these digests, unless policy does not take its proof."""
        if self.accepts_own and judgement.verdict == "matched":
            judgement = _accepted_own(judgement)
        if self.signed_by is not False:
            judgement = self._signed(judgement, digests, releases)
        if self.weakest == "md5":  # anything proves: do not ask for every image of a fleet
            return judgement
        return _strong_enough(judgement, self.weakest)

    def _signed(
        self, judgement: Judgement, digests: Digests | None, releases: ReleaseIndex
    ) -> Judgement:
        """The judgement, as far as a digest proves it that a list with a good signature gives."""
        release = judgement.release
        if judgement.verdict != "proven" or release is None or not self.requires_signature(release):
            return judgement
        for name, digest in digests or ():
            if releases.is_signed(digest, release.publisher):
                return judgement if name == judgement.by else replace(judgement, by=name)
        why = f"{judgement.why}, but {_unsigned(release, releases)}, and policy requires one"
        return Judgement(verdict="matched", why=why, release=release, by=judgement.by)


ANY_DIGEST = ProofRule()


def proof_rule(policy: Policy) -> ProofRule:
    """What a policy takes for a proof."""
    return ProofRule(
        weakest=policy.weakest_digest,
        accepts_own="own" in policy.accepts,
        signed_by=policy.require_signature,
    )


def _unsigned(release: KnownRelease, releases: ReleaseIndex) -> str:
    """Why no list with a good signature gives the digest of a release, in words."""
    lists = ", ".join(dict.fromkeys(source.file for source in release.lists))
    checks = [one.signature for one in release.lists if one.signature is not None]
    if releases.has_signed(release):
        return "the list that gives this digest has no good signature"
    seen = f" ({SIGNATURES[checks[0].state]})" if checks else ""
    return f"its list {lists} has no good signature{seen}"


@lru_cache(maxsize=4096)
def _accepted_own(judgement: Judgement) -> Judgement:
    """A match with a copy of ours, as the proof that policy takes it for."""
    why = f"{judgement.why}; policy accepts your own records"
    return Judgement(verdict="proven", why=why, release=judgement.release, by=judgement.by)


@lru_cache(maxsize=4096)
def _strong_enough(judgement: Judgement, weakest: Algorithm) -> Judgement:
    """The judgement, unless it is a proof by a digest that is weaker than `weakest`."""
    by, release = judgement.by, judgement.release
    if judgement.verdict != "proven" or by is None or release is None:
        return judgement
    if STRONGEST_FIRST.index(by) <= STRONGEST_FIRST.index(weakest):
        return judgement
    why = f"{judgement.why}, but policy requires {TITLES[weakest]} or stronger"
    return Judgement(verdict="unverified", why=why, release=release)
