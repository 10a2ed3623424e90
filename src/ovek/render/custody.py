"""Custody, for a terminal: the answer, then each image's copies grouped by equal digest."""

from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta

from rich.text import Text

from ovek.model.age import show_age
from ovek.model.custody import CopyGroup, Custody
from ovek.model.digest import STRONGEST_FIRST, TITLES, Algorithm
from ovek.model.results.copies import FleetCustody
from ovek.model.size import show_size
from ovek.render.cells import signer
from ovek.render.lines import STYLES, Line, count, hanging, listed, table
from ovek.render.unread import Unreads
from ovek.render.view import View
from ovek.render.visible import visible

_WIDTH = 64  # characters of a digest on one line
_MOST = 5  # images that are told of one by one
_TELLING = timedelta(days=2)  # an age of a digest that is worth telling


def custody(result: FleetCustody, view: View) -> Iterator[Line]:
    """Go through the lines; `verbose` shows images whose every copy is right, too."""
    found, unread = result.images, Unreads(result.not_read, result.as_of)
    yield from hanging("", answer(found), indent=0)
    if unread:
        yield from hanging("", unread.summary(), indent=0)
    lost = [one.image for one in found if one.restorable is False and one.listed]
    if lost:
        text = f"{listed([visible(name) for name in lost])}. Store a proven copy of each"
        yield from hanging("Running, but no proven copy on any shelf: ", text, indent=4)
    yield from _alone([one for one in found if one.restorable is False and not one.listed])
    for one in found:
        if view.verbose or len(found) == 1 or one.first_bad is not None or one.odd or one.disputed:
            yield ""
            yield from _image(one, unread.now)


def _alone(lost: Sequence[Custody]) -> Iterator[Line]:
    """What runs, was published by nobody, and has no copy anywhere."""
    for one in lost[:_MOST]:
        running = {copy.device for group in one.groups for copy in group.copies if copy.running}
        names = listed([visible(name or "") for name in sorted(running, key=str)])
        yield from hanging(
            f"{visible(one.image)}: ",
            f"running on {names}, not in the catalog, and no copy on a shelf: back it up, "
            "and find out where it came from",
            indent=4,
        )
    if len(lost) > _MOST:
        yield f"{len(lost) - _MOST} more running images are not in the catalog (--format json)"


def answer(custodies: Sequence[Custody]) -> str:
    """The first line: where did it go wrong?"""
    wrong = [one for one in custodies if one.first_bad is not None]
    if not custodies:
        return "No copy of such an image on any device or shelf that was read."
    listed_ = [one for one in custodies if one.listed]
    others = len(custodies) - len(listed_)
    odd = listed([visible(one.image) for one in custodies if one.odd], most=3)
    beside = (
        f" {count(others, 'more image')} {'is' if others == 1 else 'are'} not in the catalog."
        if others and listed_
        else ""
    )
    beside += f" One copy differs from the others: {odd}." if odd else ""
    if not listed_:
        what = "this image" if len(custodies) == 1 else f"these {len(custodies)} images"
        return (
            f"The catalog does not list {what}: copies are only compared with each other.{beside}"
        )
    known = count(len(listed_), "image")
    doubted = [one for one in listed_ if one.disputed]
    if doubted:
        names = listed([visible(one.image) for one in doubted], most=3)
        beside = f" The digest of {names} is disputed.{beside}"
    untold = [one for one in listed_ if one.listed_by == "none"]
    if untold:
        names = listed([visible(one.image) for one in untold], most=3)
        beside += f" No publisher has a digest of {names}: its copies are compared with each other."
    judged = len(listed_) - len(untold) - len(doubted)
    if not wrong:
        own = sum(one.listed_by == "own" for one in listed_)
        what = "the published one" if not own else "the published one, or your own record"
        verdict = (
            f"{count(judged, 'image')}: every copy with a known digest matches {what}."
            if judged
            else ""
        )
        return f"{verdict}{beside}".strip()
    names = ", ".join(f"{visible(one.image)} (first bad copy: {_first(one)})" for one in wrong[:5])
    return (
        f"{len(wrong)} of {known} {'has' if len(wrong) == 1 else 'have'} bad copies: "
        f"{names}.{beside}"
    )


def _first(one: Custody) -> str:
    """The hop where it went wrong, by its folder's path where it is not the site's own."""
    where = f"on the {one.first_bad}" if one.first_bad != "archive" else "in the archive"
    return where if one.bad_in in (None, "shelf") else f"{where} {visible(one.bad_in or '')}"


def _image(one: Custody, now: datetime) -> Iterator[Line]:
    title = one.version or ("" if one.listed else "(not in the catalog)")
    yield Text(f"{visible(one.image)}  {visible(title)}".rstrip(), "bold")
    rows = [
        _cells(group, at, now, disputed=one.disputed)
        for group in one.groups
        for at in range(len(group.copies))
    ]
    titles: tuple[str, ...] = ("  COPY", "HOP", "SIZE", "WHERE")
    checks = [copy.signature for group in one.groups for copy in group.copies]
    if any(check is not None for check in checks):
        titles = (*titles, "SIGNED BY")
        rows = [(*row, visible(signer(check))) for row, check in zip(rows, checks, strict=True)]
    yield from table(titles, rows, right=(2,), wrap={3: 30})
    yield from _digests(one.groups)
    for told in one.advice:
        yield from hanging("  → ", told, indent=4, style=STYLES["warning"])
    if one.renamed:
        yield from hanging("  under other names: ", ", ".join(one.renamed), indent=4)
    if one.restorable is False:
        copy = "good copy" if one.listed else "copy of it"
        yield from hanging("  → ", f"running on a device, but no {copy} on a shelf", indent=4)


def _common(one: str, other: str) -> int:
    """How many characters two digests begin with alike."""
    return next((at for at, char in enumerate(one) if char != other[at]), len(one))


def _digests(groups: Sequence[CopyGroup]) -> Iterator[Line]:
    """The digests whole, those of one algorithm below each other, and where they begin to differ.

    The strongest algorithm that most groups have is shown, and of others what they have: each below
    the first one that has it, too.
    """
    known = [dict(group.digests) for group in groups]
    shared = [name for name in STRONGEST_FIRST if sum(name in each for each in known) > 1]
    order = dict.fromkeys((*shared, *STRONGEST_FIRST))
    shown = [next((name for name in order if name in each), None) for each in known]
    for name in order:
        if name not in shown:
            continue
        first = next(index for index, each in enumerate(known) if name in each)
        for index in dict.fromkeys(
            [first, *(index for index, each in enumerate(shown) if each == name)]
        ):
            yield from _digest(groups[index].label, name, known[index][name], known[first][name])


def _digest(label: str, name: Algorithm, digest: str, first: str) -> Iterator[Line]:
    """One digest; where only its end differs from the first, that is marked."""
    same = _common(digest, first)
    difference = f", differs from character {same + 1} on" if digest != first else ""
    yield f"  {label}  {TITLES[name]}{difference}"
    for at in range(0, len(digest), _WIDTH):
        yield f"     {digest[at : at + _WIDTH]}"
        marked = len(digest[at : at + _WIDTH])
        if 0 < same < at + marked:
            before = max(0, same - at)
            yield f"     {' ' * before}{'^' * (marked - before)}"


def _cells(group: CopyGroup, at: int, now: datetime, *, disputed: bool = False) -> tuple[str, ...]:
    copy = group.copies[at]
    age = ""
    if copy.digest_at is not None and now - copy.digest_at >= _TELLING:
        age = f", digest from {show_age(now - copy.digest_at)} ago"
    kind = "disputed" if disputed else {True: "good", False: "bad", None: "unknown"}[group.good]
    return (
        f"  {group.label} {kind}",
        copy.hop,
        show_size(copy.size) if copy.size is not None else "-",
        visible(copy.place) + (", running" if copy.running else "") + age,
    )
