"""Where an image is, for a terminal and as CSV: the answer, then a line a copy."""

from collections.abc import Iterator

from ovek.model.age import show_age
from ovek.model.results.copies import Located
from ovek.model.size import show_size
from ovek.model.where import Holding
from ovek.render.csv import PLACED, row
from ovek.render.lines import Line, Toned, count, hanging, table
from ovek.render.unread import Unreads
from ovek.render.view import View
from ovek.render.visible import visible

_COLUMNS = (
    "device", "place", "version", "release", "verdict", "size", "digest", "running", "boots",
    "known_at", *PLACED,
)  # fmt: skip


def where(result: Located, view: View) -> Iterator[Line]:
    """Go through the lines."""
    found, unread = result.copies, Unreads(result.not_read, result.as_of)
    yield from hanging("", answer(result), indent=0)
    if unread:
        yield from hanging("", unread.summary(), indent=0)
    if not found:
        return
    yield ""
    versions = len({one.version for one in found}) > 1  # else each line would say the same
    titles = (
        "DEVICE",
        "PLACE",
        *(("VERSION",) if versions else ()),
        "VERDICT",
        "USE",
        "SIZE",
        "AGE",
    )
    rows = [_cells(one, unread, versions=versions) for one in found]
    last = len(titles) - 1
    yield from table(
        titles, rows, right=(last - 1,), whole=(last, last - 3), wrap={last - 2: 11},
        least=(last, last - 1),
    )  # fmt: skip


def answer(result: Located) -> str:
    """The first line: who holds it?"""
    copies, text = result.copies, result.sought
    if result.by_advisory and not copies:
        return f"No device or shelf has an image that {visible(text)} affects."
    what = f"images that {text} affects" if result.by_advisory else text
    it = "one" if result.by_advisory else "it"
    devices = {one.device for one in copies if one.device is not None}
    shelf = sum(one.device is None for one in copies)
    if not copies:
        return f"Not found: {visible(text)!r}."
    running = len({one.device for one in copies if one.running})
    boots = len({one.device for one in copies if one.boots})
    hold, run, start = (_verb(verb, number) for verb, number in
                        (("hold", len(devices)), ("run", running), ("boot", boots)))  # fmt: skip
    told = f"{count(len(devices), 'device')} {hold} {visible(what)}; {running} {run} {it}, "
    told += f"{boots} {start} {it} next"
    return told + (
        f"; {'1 copy' if shelf == 1 else f'{shelf} copies'} on the shelf." if shelf else "."
    )


def _verb(verb: str, number: int) -> str:
    return f"{verb}s" if number == 1 else verb


def _cells(copy: Holding, unread: Unreads, *, versions: bool) -> tuple[str, ...]:
    age = "-" if copy.known_at is None else show_age(unread.now - copy.known_at)
    return (
        visible(copy.device or "shelf"),
        visible(copy.place),
        *((visible(copy.version or "-"),) if versions else ()),
        Toned(copy.verdict or ("-" if copy.running and copy.version else "not an image")),
        _use(copy) or "-",
        show_size(copy.size) if copy.size is not None else "-",
        age,
    )


def _use(copy: Holding) -> str:
    if copy.device is None:
        return ""
    told = ["running"] if copy.running else ["may be running"] if copy.running is None else []
    told += ["next boot"] if copy.boots else ["next boot unknown"] if copy.boots is None else []
    return ", ".join(told)


def as_csv(result: Located, view: View) -> Iterator[bytes]:
    """Go through the rows, a header first; sizes are bytes, times RFC 3339."""
    yield row(_COLUMNS)
    for copy in result.copies:
        digest = next((value for _, value in copy.digests), "")
        yield row(
            (
                copy.device or "",
                copy.place,
                copy.version or "",
                copy.release or "",
                copy.verdict or "",
                "" if copy.size is None else str(copy.size),
                digest,
                _told(copy.running),
                _told(copy.boots),
                "" if copy.known_at is None else copy.known_at.isoformat(),
                result.site,
                copy.site or "",
                copy.role or "",
                copy.sheet or "",
                copy.model or "",
                "" if copy.taken_at is None else copy.taken_at.isoformat(),
            )
        )


def _told(answer_: bool | None) -> str:
    return {True: "yes", False: "no", None: ""}[answer_]
