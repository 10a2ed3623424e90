"""The catalog, for a terminal: releases, mistakes, ways from one version to another, picks."""

from collections.abc import Iterator

from rich.text import Text

from ovek.model.digest import TITLES
from ovek.model.fit import Route
from ovek.model.results.catalog import (
    CatalogCheck,
    PickedFor,
    Releases,
    Understood,
    UpgradePath,
    WholeReleases,
)
from ovek.model.size import show_size
from ovek.model.verdict import KnownRelease
from ovek.render.lines import STYLES, Columns, Line, Toned, count, hanging, table
from ovek.render.view import View
from ovek.render.visible import visible


def listing(result: Releases, view: View) -> Iterator[Line]:
    """One line a release."""
    found = result.releases
    disputed = sum(bool(one.disputed) for one in found)
    text = f"{count(len(found), 'release')}"
    yield text + (f", {disputed} of them disputed." if disputed else ".")
    if not found:
        return
    titles = ("FILE", "VERSION", "SIZE", "FITS", "STATUS", "DIGESTS")
    yield ""
    yield from table(
        titles, [_cells(one) for one in found], right=(2,), wrap={1: 7, 3: 9, 5: 7}, least=(5, 3)
    )
    untold = sum(one.hardware is None and one.kind in (None, "system-image") for one in found)
    if untold:
        yield ""
        whose = f"For {untold} of them the catalog does not say"
        do = f"{whose} which hardware they are for: ovek catalog annotate GLOB --hardware MODEL"
        yield from hanging("", do, indent=0)


def _cells(release: KnownRelease) -> tuple[str, ...]:
    digests = " ".join(
        TITLES[name] + ("?" if name in release.disputed else "") for name in release.digests
    )
    return (
        visible(release.file),
        visible(release.version or "-"),
        " or ".join(show_size(size) for size in sorted(release.sizes)) or "-",
        visible(" ".join(release.hardware or ()) or "not told"),
        Toned(release.status or "-"),
        digests or "none",
    )


def whole(result: WholeReleases, view: View) -> Iterator[Line]:
    """All that is known of each release."""
    for release in result.releases:
        yield from _whole(release)


def _whole(release: KnownRelease) -> Iterator[Line]:
    """All that is known of one release, its digests whole and each source named."""
    yield Text(visible(f"{release.file}: {_backing(release)}"), "bold")
    for doubt in _doubts(release):
        yield from hanging("  doubt", doubt, indent=16, style=STYLES["warning"])
    needs = release.needs
    facts = (
        ("published by", _publisher(release)),
        ("listed since", str(release.since) if release.since else None),
        ("version", release.version),
        ("variant", release.variant),
        ("kind", release.kind),
        (
            "size",
            " or ".join(f"{size} bytes ({show_size(size)})" for size in sorted(release.sizes)),
        ),
        ("hardware", " ".join(release.hardware or ())),
        ("revisions", " ".join(release.revisions or ())),
        ("status", release.status),
        ("track", release.track),
        ("published", str(release.published) if release.published else None),
        ("installs over", ", ".join(release.reached_from) if release.reached_from else None),
        ("memory needed", show_size(needs.memory) if needs.memory else None),
        ("volume needed", show_size(needs.volume) if needs.volume else None),
        ("unpacked size", show_size(needs.unpacked) if needs.unpacked else None),
        ("needs firmware", ", ".join(f"{k} {v}" for k, v in (needs.components or {}).items())),
        ("carries", ", ".join(f"{part} {version}" for part, version in release.carries.items())),
        ("includes", ", ".join(release.with_)),
        ("lies in", release.within),
        ("contains", ", ".join(each.path for each in release.contains)),
        ("takes", f"{release.minutes} minutes" if release.minutes else None),
        ("note", release.note),
        ("told by", ", ".join(map(str, release.origins))),
        *_lists(release),
    )
    for name, value in facts:
        if value:
            yield from hanging(f"  {name}", value, indent=16)
    for algorithm, digests in release.digests.items():
        for digest in sorted(digests):
            mark = " (disputed)" if algorithm in release.disputed else ""
            yield f"  {TITLES[algorithm]}{mark}"
            yield f"    {digest}"


_TAKEN = {
    "pasted": "pasted from a page",
    "imported": "imported list",
    "standing": "list in catalog/",
    "opened": "found in a proven archive",
}


def _backing(release: KnownRelease) -> str:
    """Who stands behind the digests, the best of all sources."""
    if release.trust == "own":
        return "your own record"
    if not release.lists:
        return "no source"
    best = release.lists[0]
    if best.signature is None:
        return f"{_TAKEN[best.taken]}, not signed"
    return best.signature.shown if best.good else f"{_TAKEN[best.taken]}, {best.signature.shown}"


def _lists(release: KnownRelease) -> Iterator[tuple[str, str]]:
    """Each list that tells of a release, and what its signature came to."""
    for source in release.lists:
        yield "source", f"{source.file} ({_TAKEN[source.taken]})"
        check = source.signature
        if check is not None:
            yield "signature", check.sentence
            if check.key is not None and check.key not in check.why:
                yield "key", check.key


def _publisher(release: KnownRelease) -> str:
    """Who published it, as far as a list tells."""
    if release.trust == "own":
        return "your own records only: copies can match them but are never proven"
    return release.publisher if release.publisher else "an unnamed publisher"


def _doubts(release: KnownRelease) -> Iterator[str]:
    """Everything that speaks against taking its word."""
    if release.status == "withdrawn":
        yield "it is withdrawn"
    if release.doubtful:
        yield "its publisher doubts the digest: a file with it is disputed, not proven"
    for algorithm in release.disputed:
        yield f"its sources disagree on the {TITLES[algorithm]}: that digest proves nothing"
    if len(release.sizes) > 1:
        yield "its sources disagree on the size"
    if not release.digests:
        yield "no source has a digest of it, so no copy can be proven"
    elif set(release.digests) == {"md5"}:
        yield "only an MD5 is known, which detects damage but not tampering"


def check(result: CatalogCheck, view: View) -> Iterator[Line]:
    """The answer, then each mistake."""
    found, releases = result.mistakes, result.number
    if not found:
        yield f"Nothing is wrong with {count(releases, 'release')}."
        return
    wrong = count(len(found), "mistake")
    yield f"{wrong} in the catalog of {count(releases, 'release')}."
    for one in found:
        yield ""
        yield Text.assemble((visible(one.file), "bold"), f"  {one.kind}")
        yield from hanging("  seen:", one.seen, indent=8)
        yield from hanging("  do:", one.do, indent=8)
        yield from hanging("  told by", ", ".join(map(str, one.origins)), indent=10)


def upgrade_path(result: UpgradePath, view: View) -> Iterator[Line]:
    """The chain of installs, a line a hop."""
    return _route(result.route)


def _route(route: Route) -> Iterator[Line]:
    """The chain of installs, a line a hop."""
    front = f"{visible(route.start or 'unknown')} → {visible(route.target)}"
    whom = " ".join(route.hardware) or "any hardware"
    whom += f", variant {route.variant}" if route.variant else ""
    front += f" on {visible(whom)}" if route.hardware or route.variant else ""
    if route.hops is None:
        none = "no upgrade path" if route.known else "unknown whether there is an upgrade path"
        yield from hanging("", f"{front}: {none}. {route.missing}.", indent=0)
        return
    if not route.hops:
        yield f"{front}: already running."
        return
    between = len(route.hops) - 1
    cell = "directly" if not between else f"with {count(between, 'step')} between"
    yield f"{front}: {cell}."
    for number, hop in enumerate(route.hops, 1):
        one = hop.release
        brings = ", ".join(f"{part} {version}" for part, version in one.carries.items())
        cell = f"firmware: {brings}" if hop.loads == "component" else one.version or ""
        yield f"  {number}. {visible(cell)}  {visible(one.file)}"
    for other in route.also:
        yield ""
        yield from _route(other)


def pick(result: PickedFor, view: View) -> Iterator[Line]:
    """Which release is the one, why the others are not, and what goes with it."""
    found = result.pick
    if found.chosen is None:
        yield from hanging(
            "", f"{found.device}: the catalog has no release for this hardware.", indent=0
        )
    elif found.by_member:
        told = "; ".join(
            f"member {name}: {one.file} ({one.version or 'version not told'})"
            for name, one in sorted(found.by_member.items())
        )
        yield from hanging("", f"{found.device}: {told}.", indent=0)
    else:
        one = found.chosen
        told = f"{found.device}: {one.file} ({one.version or 'version not told'}"
        yield from hanging("", f"{told}, {one.status or 'status not told'}).", indent=0)
    for told in found.unsure:
        yield from hanging("  unknown: ", told, indent=13)
    if found.path is not None:
        yield ""
        yield from _route(found.path)
    if found.parts:
        yield ""
        yield from hanging("Component images: ", ", ".join(p.file for p in found.parts), indent=18)
    if found.others:
        yield from ("", Text("OTHER RELEASES", "bold"))
        rows = [(f"  {visible(one.release.file)}", "; ".join(one.against)) for one in found.others]
        yield from table(("  FILE", "WHY NOT RECOMMENDED"), rows, wrap={0: 24, 1: 30})


def understood(result: Understood, view: View) -> Iterator[Line]:
    """What an import made of a file, before it is written."""
    entries = result.entries
    yield from hanging("", f"{result.file}:", indent=0)
    if result.columns:
        yield from hanging("Columns:", result.columns, indent=9)
    yield f"Read as {result.kind}: {count(len(entries), 'release')}."
    if result.signature is None:
        yield "Not signed."
    else:
        sentence = result.signature.sentence
        yield from hanging("", f"{sentence[:1].upper()}{sentence[1:]}.", indent=0)
        if result.signature.key is not None and result.signature.key not in result.signature.why:
            yield f"Key: {result.signature.key}"
    columns = Columns(("LINE", "FILE", "VERSION", "BYTES"), right=(0, 3), wrap={2: 7})
    rows = [
        (
            str(entry.origin.line),
            visible(entry.release.file),
            visible(entry.release.version or "-"),
            str(entry.release.size or "-"),
        )
        for entry in entries
    ]
    for row in rows:
        columns.measure(row)
    columns.fit()
    yield columns.head()
    for row, entry in zip(rows, entries, strict=True):
        yield from columns.rows(row)
        for name, digest in entry.release.digests:
            yield f"      {TITLES[name]} {digest}"
