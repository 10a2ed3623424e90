"""Which thing each mark is about: `version` is a bank's beside a bank, else the device's."""

from collections.abc import Collection, Iterable, Mapping, Sequence

from ovek.files.marks import SPECIAL, Mark, MarkError, fields_named
from ovek.model.digest import LENGTHS
from ovek.model.sheet import Fills

# By what a thing is told from others of its kind; the first that is marked counts.
KEYS: dict[Fills, tuple[str, ...]] = {
    "device": (),
    "member": ("member",),
    "volume": ("volume",),
    "file": ("path",),
    "digest": tuple(LENGTHS),
    "set": ("set_file", "package"),
    "bank": ("bank",),
    "boot": (),
    "order": ("place", "path", "raw"),
    "component": ("component",),
}
# What a thing may be asked for, so that its answer need not tell it.
_CONTEXT: dict[Fills, tuple[str, ...]] = {
    "volume": ("volume",),
    "member": ("member",),
    "digest": ("path",),
}
_WHERE = frozenset({"member", "volume", "path"})  # what says where a thing is
# What says which list, member, bank or volume the lines below it (or above) belong to.
WHICH = frozenset({"member", "volume", "path", "list", "bank"})
ThingSlot = tuple[Fills, str]


def key_of(fills: Fills, fields: Collection[str]) -> str | None:
    """The field by which a thing is told from others of its kind, of those that are known."""
    keys = ("member",) if fills == "boot" else KEYS[fills]
    return next((key for key in keys if key in fields), None)


def resolved(
    marks: Sequence[Mark],
    at: Mapping[int, int],
    asked_for: Iterable[str] = (),
    elsewhere: Sequence[Mark] = (),
) -> dict[Mark, ThingSlot]:
    """The field of each mark of one answer. Raises MarkError where it may be several.

    `at` is the line of the session (from 0) of each line of the answer; `asked_for` are the
    placeholders of the question, `elsewhere` the marks of other answers to it.
    """
    asked_for = frozenset(asked_for)
    parts = [mark for mark in marks if mark.name not in SPECIAL]
    here = {mark.name for mark in parts}
    others = [m for m in elsewhere if m.name not in SPECIAL and m.name not in here]
    may = {mark: fields_named(mark.name) for mark in (*parts, *others)}
    marked = {field for fields in may.values() for _, field in fields}
    able = {
        fills
        for fills, keys in KEYS.items()
        if not keys
        or marked & set(keys)
        or (fills in _CONTEXT and asked_for & set(_CONTEXT[fills]))
    }
    found: dict[Mark, ThingSlot] = {}
    for mark in parts:
        beside = [each for each in parts if each.line == mark.line]
        found[mark] = _one(mark, may, beside, [*parts, *others], able, asked_for, at)
    return found


def _one(
    mark: Mark,
    may: Mapping[Mark, tuple[ThingSlot, ...]],
    beside: Sequence[Mark],
    all_of: Sequence[Mark],
    able: set[Fills],
    asked_for: frozenset[str],
    at: Mapping[int, int],
) -> ThingSlot:
    things = {fills: field for fills, field in may[mark] if fills in able}
    if not things:
        fills = may[mark][0][0]
        keys = " or ".join(KEYS[fills])
        text = f"{mark.shown} belongs to a {fills}, and no mark here says which"
        raise MarkError(at[mark.line] + 1, text, f"Mark its {keys}, too")
    for others in (beside, all_of):
        for other in others:
            fitting = {fills for fills, _ in may[other]} & set(things)
            if fitting and (mark.name not in _WHERE or other.name not in _WHERE):
                things = {fills: things[fills] for fills in things if fills in fitting}
    if len(things) > 1:
        exact = {fills: field for fills, field in things.items() if mark.name == field}
        things = _likelier(exact or things, all_of, asked_for)
    if len(things) > 1:
        names = " or ".join(f"{fills}.{field}" for fills, field in sorted(things.items()))
        text = f"{mark.shown} may be several things"
        raise MarkError(at[mark.line] + 1, text, f"Write {names}")
    return next(iter(things.items()))


def _likelier(
    things: Mapping[Fills, str], all_of: Sequence[Mark], asked_for: frozenset[str]
) -> dict[Fills, str]:
    """Of several things, the one that the rest of the answer speaks for."""
    names = {mark.name.rpartition(".")[2] for mark in all_of}
    if {"file", "digest"} <= set(things):
        drop = "file" if "path" in asked_for and not names & {"size", "modified"} else "digest"
        things = {fills: field for fills, field in things.items() if fills != drop}
    keyed: Fills
    for keyed in ("set", "bank", "component", "volume", "file", "member", "digest"):
        if keyed in things and (names & set(KEYS[keyed])):
            return {keyed: things[keyed]}
    if "device" in things:
        return {"device": things["device"]}
    return dict(things)
