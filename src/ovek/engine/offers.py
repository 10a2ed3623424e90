"""What the shelf offers for one device: which files are for it, which is the one, why not others.

A copy counts as good where it is proven, or own records match it and policy accepts them. The one
is what `catalog pick` chooses; a release that has to start on the way to it comes first.
"""

from collections.abc import Iterable, Iterator

from ovek.engine.fit import fit_all, standings
from ovek.engine.releases import ReleaseIndex
from ovek.engine.verdicts import JudgedDevice
from ovek.model.choice import Pick
from ovek.model.shelf import FileUse, Offer, Offered, ShelfVerdict
from ovek.model.verdict import KnownRelease


def offer(judged: JudgedDevice, chosen: Pick, verdicts: Iterable[ShelfVerdict]) -> Offer:
    """Hold every image of the shelf against a device."""
    files = tuple(_offered(judged, chosen, verdicts))
    the_one = [one for one in files if one.use == "the one"]
    return Offer(
        device=chosen.device,
        chosen=chosen.chosen.file if chosen.chosen is not None else None,
        good=next((one.path for one in the_one if one.verdict == "proven"), None),
        files=files,
    )


def _offered(
    judged: JudgedDevice, chosen: Pick, verdicts: Iterable[ShelfVerdict]
) -> Iterator[Offered]:
    stand = standings(judged)
    behind = {each.release: each.against for each in chosen.others}
    hops = chosen.path.hops if chosen.path is not None else None
    before = {hop.release for hop in (hops or ())[:-1]}
    archives: dict[str, KnownRelease | None] = {}
    for one in verdicts:
        if one.verdict is None:
            continue
        release = _release(judged.judge.releases, one)
        if release is None and one.verdict == "proven":  # it is, by the archive that it lies in
            release = archives.get(one.path.rpartition("!")[0])
        archives[one.path] = release
        use: FileUse
        if release is None:
            use, why = "no", "it is not in the catalog, so its hardware is unknown"
        elif any(one.same_bytes(release) for one in chosen.all_chosen):
            use, why = "the one", "; ".join(chosen.unsure)
        elif release in before:
            use, why = (
                "first",
                f"it is an intermediate step to {chosen.chosen and chosen.chosen.file}",
            )
        elif release in chosen.parts:
            use, why = "component", "a component image for it"
        else:
            against = behind.get(release) or fit_all(stand, release).against
            use, why = "no", "; ".join(against) or "it is not a system image"
        if release is not None and use != "no" and one.verdict != "proven":
            why = "; ".join(filter(None, (why, f"this copy is {one.verdict}")))
        yield Offered(path=one.path, release=one.release, verdict=one.verdict, use=use, why=why)


def _release(releases: ReleaseIndex, verdict: ShelfVerdict) -> KnownRelease | None:
    """The release that a file was held against; of what lies in one, that one."""
    known = releases.named(verdict.release, case_blind=False) if verdict.release is not None else []
    found = next((each for each in known if each.has(verdict.digests)), known[0] if known else None)
    if found is None or found.within is None:
        return found
    wholes = releases.named(found.within, case_blind=False)
    return next((each for each in wholes if found.publisher == each.publisher), found)
