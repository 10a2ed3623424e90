"""Security advisories, for a terminal: what each is about, and what it says of which release."""

from collections.abc import Iterator, Sequence

from rich.text import Text

from ovek.model.results.advisories import (
    AdvisoryFacts,
    AdvisoryList,
    ImportedAdvisories,
    MatchedRelease,
)
from ovek.render.lines import Columns, Line, count, hanging, listed
from ovek.render.view import View
from ovek.render.visible import visible

_TITLES = ("ID", "CVSS", "RELEASED", "AFFECTED", "TITLE")
_UNMATCHED = 10  # products that are named


def listing(result: AdvisoryList, view: View) -> Iterator[Line]:
    """Go through the lines: how many there are, then a line each; or all about one."""
    if result.whole:
        for facts in result.advisories:
            yield from _whole(facts)
        return
    affecting, number = sum(map(bool, map(_affected, result.advisories))), len(result.advisories)
    words = "1 advisory" if number == 1 else f"{number} advisories"
    yield f"{words}; releases of the catalog are affected by {affecting}."
    if not result.advisories:
        yield "Import some: ovek advisory import FILE|FOLDER"
        return
    yield ""
    rows = [
        (
            visible(facts.id),
            "-" if facts.score is None else f"{facts.score:.1f}",
            f"{facts.released:%Y-%m-%d}",
            count(len(_affected(facts)), "release") if _affected(facts) else "none",
            visible(facts.title),
        )
        for facts in result.advisories
    ]
    table = Columns(_TITLES, right=(1,), whole=(0, 2, 3), wrap={4: 20})
    for row in rows:
        table.measure(row)
    table.fit()
    yield table.head()
    for row in rows:
        yield from table.rows(row)


def imported(result: ImportedAdvisories, view: View) -> Iterator[Line]:
    """Go through the lines: what was taken, and of each what it is about."""
    taken = sum(one.file is not None for one in result.imported)
    verb = "would be taken" if result.look else "taken"
    yield f"{taken} of {count(len(result.imported), 'document')} {verb}."
    for document in result.imported:
        facts = document.advisory
        yield ""
        yield Text.assemble(
            (visible(facts.id), "bold"), f" ({document.outcome}): {visible(facts.title)}"
        )
        where = f" → {visible(document.file)}" if document.file is not None else ""
        yield from hanging("  from:", f"{visible(document.source)}{where}", indent=12)
        yield from _releases(facts)


def _whole(facts: AdvisoryFacts) -> Iterator[Line]:
    """All that is known of one advisory."""
    yield Text.assemble((visible(facts.id), "bold"), f": {visible(facts.title)}")
    source = (
        f"{visible(facts.publisher)}, version {visible(facts.version)} ({visible(facts.status)})"
    )
    yield from hanging(
        "  by:", f"{source}, {facts.released:%Y-%m-%d}, CSAF {facts.csaf}", indent=12
    )
    if facts.severity is not None or facts.score is not None:
        parts = [
            visible(facts.severity or ""),
            "" if facts.score is None else f"CVSS {facts.score:.1f}",
        ]
        yield from hanging("  severity:", ", ".join(filter(None, parts)), indent=12)
    for name, title in facts.vulnerabilities.items():
        more = f": {visible(title)}" if title else ""
        yield from hanging("  says:", f"{visible(name)}{more}", indent=12)
    yield from _releases(facts)
    for remedy in facts.remedies:
        yield from hanging("  do:", visible(remedy), indent=12)


def _releases(facts: AdvisoryFacts) -> Iterator[Line]:
    """Which releases it is about, and which of its products none matches."""
    if not facts.releases:
        yield from hanging("  releases:", "none of the catalog is matched", indent=12)
    for release in facts.releases:
        yield from hanging("  release:", _of_release(release), indent=12)
    if facts.unmatched:
        names = listed([visible(name) for name in facts.unmatched], _UNMATCHED)
        yield from hanging(
            "  not found:", f"{names} (name them in advisories/products.toml)", indent=12
        )


def _of_release(release: MatchedRelease) -> str:
    version = f" ({visible(release.version)})" if release.version is not None else ""
    by = "its digest" if release.matched_by == "hash" else f"the name {visible(release.product)}"
    words = ", ".join(
        f"{standing} ({visible(name)})" for name, standing in release.standings.items()
    )
    return f"{visible(release.file)}{version}: {words or 'named only'}; matched by {by}"


def _affected(facts: AdvisoryFacts) -> Sequence[MatchedRelease]:
    return [one for one in facts.releases if "affected" in one.standings.values()]
