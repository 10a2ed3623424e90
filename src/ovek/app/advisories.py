"""Security advisories of a site: import, list, and what each says of the catalog's releases."""

from collections.abc import Collection, Iterable, Sequence
from difflib import get_close_matches
from pathlib import Path
from typing import Literal

from msgspec.structs import asdict

from ovek.app.devices import releases_of, site_context
from ovek.app.marking import mark_changes
from ovek.engine.advisories import WORST_FIRST, AdvisoryIndex, affected_images
from ovek.engine.releases import ReleaseIndex
from ovek.files.advisories import FOLDER, advisory_file
from ovek.files.atomic import write_whole
from ovek.files.csaf import LARGEST, read_csaf
from ovek.files.decode import read_bytes
from ovek.files.errors import InputError, ManyInputError
from ovek.files.site import Site
from ovek.model.advisory import Advisory, AffectedImages, MatchedBy, Standing
from ovek.model.results.advisories import (
    AdvisoryFacts,
    AdvisoryList,
    ImportedAdvisories,
    ImportedAdvisory,
    MatchedRelease,
)
from ovek.model.verdict import KnownRelease


def import_advisories(
    site: Site, sources: Iterable[Path], *, look: bool = False
) -> ImportedAdvisories:
    """Take CSAF documents, files or folders of them, into a site; `look` takes none.

    All are read before any is written. Of an advisory that is there already the newer one stays.
    Raises InputError, or ManyInputError with all that is wrong.
    """
    files, read = list(_files(sources)), list[tuple[Path, Advisory]]()
    errors: list[InputError] = []
    for file in files:
        try:
            read.append((file, read_csaf(file)))
        except InputError as error:
            errors.append(error)
    if errors:
        raise ManyInputError(errors)
    known = {advisory.id: advisory for advisory in site.advisories}
    releases, imported = releases_of(site), []
    for file, advisory in read:
        before = known.get(advisory.id)
        outcome = _outcome(advisory, before)
        target = advisory_file(site.folder, advisory)
        if outcome in ("new", "updated"):
            known[advisory.id] = advisory
            if not look:
                write_whole(target, [read_bytes(file, at_most=LARGEST)])
        (facts,) = _facts_of([advisory], site, releases)
        imported.append(
            ImportedAdvisory(
                source=str(file),
                advisory=facts,
                outcome=outcome,
                file=f"{FOLDER}/{target.name}" if outcome in ("new", "updated") else None,
            )
        )
    if not look:
        mark_changes(site)
    return ImportedAdvisories(**asdict(site_context(site)), imported=imported, look=look)


def list_advisories(site: Site, id_: str | None = None) -> AdvisoryList:
    """The advisories of a site, the latest first; or the one of an id. Raises InputError.

    >>> from ovek import open_site
    >>> [one.id for one in list_advisories(open_site("skerrow-ferries")).advisories][:1]
    ['OXW-2026-003']
    """
    chosen = sorted(site.advisories, key=lambda one: (one.released, one.id), reverse=True)
    if id_ is not None:
        chosen = [_advisory(site, id_)]
    facts = _facts_of(chosen, site, releases_of(site))
    return AdvisoryList(**asdict(site_context(site)), advisories=facts, whole=id_ is not None)


def affected_by(site: Site, releases: ReleaseIndex, id_: str) -> AffectedImages:
    """The images that the advisory of an id says are affected. Raises InputError: no such id."""
    advisory = _advisory(site, id_)
    known = [*releases.releases, *releases.ours]
    return affected_images(advisory, releases.advisories, known)


def _advisory(site: Site, id_: str) -> Advisory:
    """The advisory of an id. Raises InputError."""
    for advisory in site.advisories:
        if advisory.id.casefold() == id_.casefold():
            return advisory
    near = get_close_matches(id_, [one.id for one in site.advisories], n=1)
    do = f"Did you mean {near[0]!r}?" if near else "ovek advisory list shows all"
    raise InputError(site.folder / FOLDER, f"has no advisory {id_!r}", do)


def _files(sources: Iterable[Path]) -> Iterable[Path]:
    """Go through the documents of files and folders. Raises InputError where there is none."""
    for source in sources:
        if not source.is_dir():
            yield source
            continue
        inside = sorted(file for file in source.rglob("*.json") if file.is_file())
        if not inside:
            raise InputError(source, "has no document (*.json)", "Name a folder that has some")
        yield from inside


def _outcome(
    advisory: Advisory, before: Advisory | None
) -> Literal["new", "updated", "same", "older"]:
    if before is None:
        return "new"
    if before == advisory:
        return "same"
    return "older" if advisory.released < before.released else "updated"


def _facts_of(
    advisories: Sequence[Advisory], site: Site, releases: ReleaseIndex
) -> list[AdvisoryFacts]:
    """What is told of advisories: each release is looked at once for all of them."""
    index = AdvisoryIndex(advisories, site.product_aliases)
    matched: dict[str, dict[int, MatchedRelease]] = {one.id: {} for one in advisories}
    products: dict[str, set[str]] = {one.id: set() for one in advisories}
    for number, release in enumerate(releases.releases):
        for advisory, product, by in index.products_of(release):
            products[advisory.id].add(product.id)
            if number not in matched[advisory.id]:
                matched[advisory.id][number] = _matched(
                    release, index, advisory.id, product.name, by
                )
    return [_facts(one, list(matched[one.id].values()), products[one.id]) for one in advisories]


def _facts(
    advisory: Advisory, matched: Sequence[MatchedRelease], products: Collection[str]
) -> AdvisoryFacts:
    scores = [one.score for one in advisory.vulnerabilities if one.score is not None]
    remedies = [r.details for one in advisory.vulnerabilities for r in one.remedies]
    return AdvisoryFacts(
        id=advisory.id,
        title=advisory.title,
        publisher=advisory.publisher,
        version=advisory.version,
        status=advisory.status,
        category=advisory.category,
        csaf=advisory.csaf,
        released=advisory.released,
        severity=advisory.severity,
        score=max(scores, default=None),
        vulnerabilities={one.name: one.title or "" for one in advisory.vulnerabilities},
        releases=matched,
        unmatched=[
            " ".join(filter(None, (one.publisher, one.name, one.version or one.versions)))
            for one in advisory.products
            if one.id not in products
        ],
        remedies=list(dict.fromkeys(" ".join(text.split()) for text in remedies)),
    )


def _matched(
    release: KnownRelease, index: AdvisoryIndex, advisory: str, product: str, by: MatchedBy
) -> MatchedRelease:
    standings: dict[str, Standing] = {}
    for concern in index.of_release(release):
        if concern.advisory != advisory:
            continue
        standings[concern.vulnerability] = concern.standing
        product, by = concern.product, concern.matched_by
    return MatchedRelease(
        file=release.file,
        version=release.version,
        publisher=release.publisher,
        matched_by=by,
        product=product,
        standings=dict(sorted(standings.items(), key=lambda item: WORST_FIRST.index(item[1]))),
    )
