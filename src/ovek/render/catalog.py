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
    told = f"{count(len(found), 'release')}"
    yield told + (f", {disputed} of them disputed." if disputed else ".")
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


def _cells(one: KnownRelease) -> tuple[str, ...]:
    digests = " ".join(TITLES[name] + ("?" if name in one.disputed else "") for name in one.digests)
    return (
        visible(one.file),
        visible(one.version or "-"),
        " or ".join(show_size(size) for size in sorted(one.sizes)) or "-",
        visible(" ".join(one.hardware or ()) or "not told"),
        Toned(one.status or "-"),
        digests or "none",
    )


def whole(result: WholeReleases, view: View) -> Iterator[Line]:
    """All that is known of each release."""
    for one in result.releases:
        yield from _whole(one)


def _whole(one: KnownRelease) -> Iterator[Line]:
    """All that is known of one release, its digests whole and each source named."""
    yield Text(visible(one.file), "bold")
    for doubt in _doubts(one):
        yield from hanging("  doubt", doubt, indent=16, style=STYLES["warning"])
    needs = one.needs
    facts = (
        ("published by", _voucher(one)),
        ("listed since", str(one.since) if one.since else None),
        ("version", one.version),
        ("variant", one.variant),
        ("kind", one.kind),
        ("size", " or ".join(f"{size} bytes ({show_size(size)})" for size in sorted(one.sizes))),
        ("hardware", " ".join(one.hardware or ())),
        ("revisions", " ".join(one.revisions or ())),
        ("status", one.status),
        ("track", one.track),
        ("published", str(one.published) if one.published else None),
        ("installs over", ", ".join(one.reached_from) if one.reached_from else None),
        ("memory needed", show_size(needs.memory) if needs.memory else None),
        ("volume needed", show_size(needs.volume) if needs.volume else None),
        ("unpacked size", show_size(needs.unpacked) if needs.unpacked else None),
        ("needs firmware", ", ".join(f"{k} {v}" for k, v in (needs.components or {}).items())),
        ("carries", ", ".join(f"{part} {version}" for part, version in one.carries.items())),
        ("includes", ", ".join(one.with_)),
        ("lies in", one.within),
        ("contains", ", ".join(each.path for each in one.contains)),
        ("takes", f"{one.minutes} minutes" if one.minutes else None),
        ("note", one.note),
        ("told by", ", ".join(map(str, one.origins))),
    )
    for name, value in facts:
        if value:
            yield from hanging(f"  {name}", value, indent=16)
    for algorithm, digests in one.digests.items():
        for digest in sorted(digests):
            mark = " (disputed)" if algorithm in one.disputed else ""
            yield f"  {TITLES[algorithm]}{mark}"
            yield f"    {digest}"


def _voucher(one: KnownRelease) -> str:
    """Who says that the digests are right."""
    if one.trust == "own":
        return "your own records only: copies can match them but are never proven"
    return one.publisher if one.publisher else "an unnamed publisher"


def _doubts(one: KnownRelease) -> Iterator[str]:
    """Everything that speaks against taking its word."""
    if one.status == "withdrawn":
        yield "it is withdrawn"
    if one.doubtful:
        yield "its publisher doubts the digest: a file with it is disputed, not proven"
    for algorithm in one.disputed:
        yield f"its sources disagree on the {TITLES[algorithm]}: that digest proves nothing"
    if len(one.sizes) > 1:
        yield "its sources disagree on the size"
    if not one.digests:
        yield "no source has a digest of it, so no copy can be proven"
    elif set(one.digests) == {"md5"}:
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


def _route(found: Route) -> Iterator[Line]:
    """The chain of installs, a line a hop."""
    front = f"{visible(found.start or 'unknown')} → {visible(found.target)}"
    whom = " ".join(found.hardware) or "any hardware"
    whom += f", variant {found.variant}" if found.variant else ""
    front += f" on {visible(whom)}" if found.hardware or found.variant else ""
    if found.hops is None:
        none = "no upgrade path" if found.known else "unknown whether there is an upgrade path"
        yield from hanging("", f"{front}: {none}. {found.missing}.", indent=0)
        return
    if not found.hops:
        yield f"{front}: already running."
        return
    between = len(found.hops) - 1
    cell = "directly" if not between else f"with {count(between, 'step')} between"
    yield f"{front}: {cell}."
    for number, hop in enumerate(found.hops, 1):
        one = hop.release
        brings = ", ".join(f"{part} {version}" for part, version in one.carries.items())
        cell = f"firmware: {brings}" if hop.loads == "component" else one.version or ""
        yield f"  {number}. {visible(cell)}  {visible(one.file)}"
    for other in found.also:
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
