"""What one file is worth, by its digests, its name and its size."""

from functools import lru_cache

from ovek.engine.releases import Family, ReleaseIndex
from ovek.model.digest import STRONGEST_FIRST, TITLES, Algorithm, Digests
from ovek.model.size import show_size
from ovek.model.verdict import WORST_FIRST, Judgement, KnownRelease, Verdict


def judge_file(
    name: str,
    size: int | None,
    digests: Digests | None,
    looks: bool,
    known: list[KnownRelease],
    releases: ReleaseIndex,
    step: int | None = None,
) -> Judgement | None:
    """Judge one file by its name, size in bytes and digests; None where it is no image.

    `looks` is whether it looks like an image by its name, `known` the releases of that name. The
    size is known to within `step` bytes; None: it is exact.
    """
    for algorithm, digest in digests or ():
        sharing = releases.by_digest.get(digest)
        if sharing is None:
            continue
        equal = [one for one in sharing if digest in one.digests.get(algorithm, ())]
        if equal:
            if len(equal) == 1 and releases.proves_alone(equal[0], algorithm, digests):
                return _proven(equal[0], algorithm)
            return _against_equal(name, digests, equal, releases.family(equal[0]))
    own = _own(digests, releases) if releases.ours else None
    if known:
        judgements = [
            _against_named(size, step or 1, digests, release, releases.family(release))
            for release in known
        ]
        named = max(judgements, key=lambda one: WORST_FIRST.index(one.verdict))
        return own if own is not None and named.verdict == "unverified" else named
    if own is not None:
        return own
    if (recorded := releases.own_by_folded.get(name.casefold())) is not None:
        return _unlike_own(size, step or 1, digests, recorded)
    if looks:
        return Judgement(verdict="unlisted", why=f"not in the catalog: {name}")
    return None


def _unlike_own(
    size: int | None, step: int, digests: Digests | None, recorded: list[KnownRelease]
) -> Judgement:
    """Hold a file against our own records of its name, none of which has a digest of it."""
    origins = ", ".join(str(origin) for one in recorded for origin in one.origins)
    ours = f"your own record of {recorded[0].file} ({origins})"
    for algorithm, digest in digests or ():
        if all(digest not in one.digests.get(algorithm, (digest,)) for one in recorded):
            why = f"its {TITLES[algorithm]} does not match {ours}, and no publisher lists it"
            return Judgement(verdict="unlisted", why=why)
    sizes = frozenset[int]().union(*(one.sizes for one in recorded))
    if size is not None and sizes and not _meets(size, step, sizes):
        had = " or ".join(str(each) for each in sorted(sizes))
        why = f"it has {size} bytes, {ours} {had}, and no publisher lists it"
        return Judgement(verdict="unlisted", why=why)
    there = [
        TITLES[name] for name in STRONGEST_FIRST if any(name in one.digests for one in recorded)
    ]
    why = f"{ours} has its {' and '.join(there) or 'name only'}, which was not read from this file"
    return Judgement(verdict="unverified", why=why)


def _own(digests: Digests | None, releases: ReleaseIndex) -> Judgement | None:
    """Hold a file against the lists of own copies; None where none has it."""
    for algorithm, digest in digests or ():
        release = releases.own.get(digest)
        if release is None or digest not in release.digests.get(algorithm, ()):
            continue
        if any(
            d not in release.digests[name] for name, d in digests or () if name in release.digests
        ):
            return None
        text = ", ".join(str(origin) for origin in release.origins)
        why = f"its {TITLES[algorithm]} matches your own copy {release.file} ({text}), "
        why += "which no publisher lists"
        return Judgement(verdict="matched", why=why, release=release, by=algorithm)
    return None


def _against_equal(
    name: str, digests: Digests | None, equal: list[KnownRelease], family: Family
) -> Judgement:
    """Hold a file against the releases of which it has a digest, and all that belongs with it."""
    release = _best_named(name, equal)
    common = [
        (algorithm, digest in family.digests[algorithm])
        for algorithm, digest in digests or ()
        if algorithm in family.digests
    ]
    decides = common[0][0]
    if decides in family.disputed:
        why = (
            f"the sources disagree on the {TITLES[decides]} of {release.file}: {_sources(release)}"
        )
        return Judgement(verdict="disputed", why=why, release=release, by=decides)
    sound = [(algorithm, same) for algorithm, same in common if algorithm not in family.disputed]
    other = next((algorithm for algorithm, same in sound if not same), None)
    if other is not None:
        same = next(algorithm for algorithm, agrees in common if agrees)
        why = f"its {TITLES[same]} matches {release.file} but its {TITLES[other]} does not"
        weaker = STRONGEST_FIRST.index(same) > STRONGEST_FIRST.index(other)
        why += ": damaged, or forged (a collision)" if weaker else ", so one of the two is wrong"
        return Judgement(verdict="altered", why=why, release=release, by=other, forged=weaker)
    if release.doubtful:
        why = f"its {TITLES[decides]} matches {release.file}, but its publisher doubts that digest"
        return Judgement(verdict="disputed", why=why, release=release, by=decides)
    return _proven(release, decides)


def _best_named(name: str, equal: list[KnownRelease]) -> KnownRelease:
    """Of releases with one digest: one that is not in doubt, then the one of the file's name."""
    if len(equal) == 1:
        return equal[0]
    return min(
        equal,
        key=lambda one: (one.doubtful, one.file != name, one.file.casefold() != name.casefold()),
    )


@lru_cache(maxsize=4096)
def _proven(release: KnownRelease, by: Algorithm) -> Judgement:
    """The verdict that most images of a fleet share."""
    why = f"its {TITLES[by]} matches {release.file}"
    return Judgement(verdict="proven", why=why, release=release, by=by)


def _against_named(
    size: int | None, step: int, digests: Digests | None, release: KnownRelease, family: Family
) -> Judgement:
    """Hold a file against the release that its name is published for; no digest is equal."""
    about = "" if step == 1 else f" (to within {show_size(step)})"
    if size is not None and release.sizes and size + step <= min(release.sizes):
        whole = min(release.sizes)
        why = f"it is {show_size(size)}{about}, the published file is {show_size(whole)}: "
        why += f"{show_size(whole - size)} missing ({size:,} of {whole:,} bytes)"
        return Judgement(verdict="truncated", why=why, release=release)
    other = next((name for name, _ in digests or () if name in family.digests), None)
    if other is not None:
        why = f"its {TITLES[other]} does not match the published one of {release.file}"
        if release.doubtful or other in family.disputed:
            reason = (
                f"the sources disagree on it: {_sources(release)}"
                if other in family.disputed
                else "the publisher's digest is doubtful"
            )
            return Judgement(
                verdict="disputed", why=f"{why}, but {reason}", release=release, by=other
            )
        return Judgement(verdict="altered", why=why, release=release, by=other)
    if size is not None and release.sizes and not _meets(size, step, release.sizes):
        published = " or ".join(f"{one:,}" for one in sorted(release.sizes))
        why = f"it has {size:,} bytes{about}, the published file has {published}"
        verdict: Verdict = "disputed" if len(release.sizes) > 1 else "altered"
        return Judgement(verdict=verdict, why=why, release=release)
    why = "no digest was read from the device"
    if digests is not None and any(True for _ in digests):
        there = ", ".join(TITLES[name] for name in release.digests) or "no digest"
        why = f"{release.file} is published with {there}, which was not read from this file"
    elif not release.digests:
        why = f"no digest of {release.file} is published"
    return Judgement(verdict="unverified", why=why, release=release)


def _meets(size: int, step: int, sizes: frozenset[int]) -> bool:
    """Whether a size that is known to within `step` bytes may be one of these."""
    return size in sizes or any(size - step < one < size + step for one in sizes)


def _sources(release: KnownRelease) -> str:
    return ", ".join(str(origin) for origin in release.origins)
