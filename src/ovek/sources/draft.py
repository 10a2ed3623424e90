"""A device's state while it is being put together from rows.

What no row has told stays not known. An answer that was understood and has no rows tells that there
is none; an answer with lines that nothing understood tells nothing, since it may have left
something out.
"""

from collections.abc import Iterable, Mapping
from datetime import UTC, datetime
from typing import Any

import msgspec

from ovek.model.digest import LENGTHS
from ovek.model.place import BANK
from ovek.model.sheet import SIZES, TIMES, TRUTHS, Fills, Question, Sheet
from ovek.model.size import SizeError, parse_size
from ovek.model.snapshot import Device
from ovek.sources.rows import Rows

NEEDED: dict[Fills, tuple[str, ...]] = {
    "device": (),
    "member": ("member",),
    "volume": ("volume",),
    "file": ("volume", "path"),
    "digest": ("volume", "path"),
    "set": ("volume", "set_file"),
    "bank": ("bank",),
    "boot": (),
    "order": (),
    "pointer": ("part", "place"),
    "part": ("part",),
}
_TRUE = {"true": True, "yes": True, "false": False, "no": False}
Plain = dict[str, Any]


class DraftError(ValueError):
    """A value that cannot be what its field is."""


class Draft:
    """One device in the shape of its snapshot line; `problems` tells what was not usable."""

    def __init__(self) -> None:
        self.device: Plain = {}
        self.members: dict[str, Plain] = {}
        self.problems: list[str] = []
        self._files: dict[tuple[str, str, str], Plain] = {}
        self._sets: dict[tuple[str, str, str], Plain] = {}
        self._named: dict[tuple[str, str, str], Plain] = {}

    def member(self, name: str) -> Plain:
        """The member of this id, made where it is new."""
        return self.members.setdefault(name, {"id": name})

    def volume(self, member: str, name: str) -> Plain:
        """The volume of this name, made where it is new."""
        return self._made(member, "volumes", "name", name)

    def _made(self, member: str, kind: str, key: str, name: str) -> Plain:
        """One of a member's things by its name, made where it is new; each found at once."""
        found = self._named.get((member, kind, name))
        if found is None:
            found = self._named[member, kind, name] = {key: name}
            self.member(member).setdefault(kind, []).append(found)
        return found

    def digests(self, member: str, volume: str, path: str) -> dict[str, str]:
        """The digests that are known of a file by now."""
        found: dict[str, str] = self._files.get((member, volume, path), {}).get("digests", {})
        return found

    def fill(self, question: Question, context: Mapping[str, str], rows: list[Plain]) -> None:
        """Take in one answer, as `understood` made it."""
        self._known(question, context, rows)
        self.take(question.fills, rows)

    def take(self, fills: Fills, rows: Iterable[Plain]) -> None:
        """Take in rows whose fields have their values already."""
        fill = getattr(self, f"_fill_{fills}")
        for row in rows:
            fill({"member": "1", **row})

    def _known(self, question: Question, context: Mapping[str, str], rows: list[Plain]) -> None:
        """Note what an answer without rows says: there is none of what it was asked for."""
        lists = {"bank": "banks", "pointer": "pointers", "part": "parts", "volume": "volumes"}
        members = {row["member"] for row in rows}
        if not rows:
            members = {context["member"]} if "member" in context else set(self.members)
        for member in members:
            if question.fills in lists:
                self.member(member).setdefault(lists[question.fills], [])
            elif question.fills == "order" and not rows:
                self._order(member, question.fixed.get("list"))
            elif question.fills in ("file", "set"):
                self._known_volume(question, context, rows, member)

    def _known_volume(
        self, question: Question, context: Mapping[str, str], rows: list[Plain], member: str
    ) -> None:
        named = question.fixed.get("volume") or context.get("volume")
        volumes = {named} if named else {row.get("volume") for row in rows}
        for name in volumes:
            if name:
                key = "files" if question.fills == "file" else "sets"
                self.volume(member, name).setdefault(key, [])

    def _order(self, member: str, which: str | None) -> None:
        order = self.member(member).setdefault("boot", {}).setdefault("order", {})
        for each in (which,) if which else ("live", "saved"):
            order.setdefault(each, [])

    def _fill_device(self, row: Plain) -> None:
        for name, value in row.items():
            first, dot, second = name.partition(".")
            if dot:
                self.device.setdefault(first, {})[second] = value

    def _fill_member(self, row: Plain) -> None:
        _update(self.member(row["member"]), row, "member")

    def _fill_volume(self, row: Plain) -> None:
        volume = self.volume(row["member"], row["volume"])
        _update(volume, row, "member", "volume")

    def _fill_file(self, row: Plain) -> None:
        volume = self.volume(row["member"], row["volume"])
        files = volume.setdefault("files", [])
        path = row["path"].lstrip("/")
        key = (row["member"], row["volume"], path)
        file = self._files.get(key)
        if file is None:
            file = self._files[key] = {"path": path}
            files.append(file)
        _digests(file, row)
        _update(file, row, "member", "volume", "path", *LENGTHS)

    _fill_digest = _fill_file

    def _fill_set(self, row: Plain) -> None:
        key = (row["member"], row["volume"], row["set_file"])
        found = self._sets.get(key)
        if found is None:
            found = self._sets[key] = {"set_file": row["set_file"], "packages": []}
            self.volume(row["member"], row["volume"]).setdefault("sets", []).append(found)
        packages = row.get("package", [])
        found["packages"] += packages if isinstance(packages, list) else [packages]

    def _fill_bank(self, row: Plain) -> None:
        bank = self._made(row["member"], "banks", "name", row["bank"])
        _digests(bank, row)
        if "place" in row:
            places = row["place"] if isinstance(row["place"], list) else [row["place"]]
            bank.setdefault("places", []).extend(places)
        _update(bank, row, "member", "bank", "place", *LENGTHS)

    def _fill_boot(self, row: Plain) -> None:
        boot = self.member(row["member"]).setdefault("boot", {})
        if "once" in row:
            boot["once"] = _entry(row["once"])
        for name, value in row.items():
            first, dot, second = name.partition(".")
            if dot:
                boot.setdefault(first, {})[second] = value

    def _fill_order(self, row: Plain) -> None:
        order = self.member(row["member"]).setdefault("boot", {}).setdefault("order", {})
        which = row.get("list")
        for each in (which,) if which else ("live", "saved"):
            entries = order.setdefault(each, [])
            if "place" in row or "raw" in row:
                entries.append(_entry(row.get("place"), row.get("raw", row.get("place"))))

    def _fill_pointer(self, row: Plain) -> None:
        found = {"part": row["part"], "place": row["place"]}
        self.member(row["member"]).setdefault("pointers", []).append(found)

    def _fill_part(self, row: Plain) -> None:
        found = {"part": row["part"], "version": row.get("version")}
        self.member(row["member"]).setdefault("parts", []).append(found)

    def finished(self, head: Plain) -> Device | None:
        """The device as a snapshot line; None (and a problem) where the facts contradict."""
        whole = {**head, **self.device}
        if self.members:
            whole["members"] = list(self.members.values())
        try:
            return msgspec.convert(whole, Device)
        except msgspec.ValidationError as error:
            self.problems.append(f"what it told makes no sense: {error}")
            return None


def understood(question: Question, context: Mapping[str, str], answer: Rows) -> list[Plain]:
    """The rows of an answer, their fields converted. Raises DraftError.

    `context` is what it was asked for (member, volume, path).
    """
    if answer.strange:
        shown = answer.strange[0].strip()[:60]
        more = f" and {len(answer.strange) - 1} more" if answer.strange[1:] else ""
        raise DraftError(f"not understood: {shown!r}{more}")
    return [fields_of(question, context, row) for row in answer.rows]


def fields_of(question: Question, context: Mapping[str, str], row: Plain) -> Plain:
    """The fields of one row, converted; empty texts are not known and left out."""
    asked_for = {name: context[name] for name in ("member", "volume", "path") if name in context}
    fields: Plain = {"member": "1", **asked_for, **question.fixed}
    for column, text in row.items():
        name = question.columns.get(column, column.lower())
        if question.parse is not None and column not in question.columns:
            continue
        texts = text if isinstance(text, list) else [text]
        values = [_value(question, name, each) for each in texts if each != ""]
        values = [value for value in values if value is not None]
        if values:
            fields[name] = values if isinstance(text, list) else values[0]
    for name in NEEDED[question.fills]:
        if name not in fields:
            raise DraftError(f"a row has no {name}; does the template make such a column?")
    return fields


def _value(question: Question, name: str, text: str) -> Any:
    words = question.words.get(name)
    if words is not None:
        if text not in words:
            known = ", ".join(words)
            raise DraftError(f"the word {text!r} for {name} is not in the sheet ({known})")
        text = words[text]
    if text in question.none:
        return None
    try:
        if name in SIZES:
            return parse_size(text.replace(",", "") + question.units.get(name, ""))
        if name in TIMES:
            return _time(text, question.dates.get(name)).isoformat()
    except (SizeError, ValueError) as error:
        raise DraftError(f"{name}: {error}") from None
    if name in TRUTHS:
        if text.lower() not in _TRUE:
            raise DraftError(f"{name} is {text!r}, not yes or no; map it under words")
        return _TRUE[text.lower()]
    return text.lower() if name in LENGTHS else text


def _time(text: str, written: str | None) -> datetime:
    told = datetime.fromisoformat(text) if written is None else datetime.strptime(text, written)
    return told if told.tzinfo is not None else told.replace(tzinfo=UTC)


def _digests(thing: Plain, row: Plain) -> None:
    for algorithm in LENGTHS:
        if algorithm in row:
            thing.setdefault("digests", {})[algorithm] = row[algorithm]


def _update(thing: Plain, row: Plain, *names: str) -> None:
    thing.update({name: value for name, value in row.items() if name not in names})


def _entry(place: str | None, raw: str | None = None) -> Plain:
    if place is not None and "://" in place:
        entry: Plain = {"remote": place}
    elif place is not None and ":" not in place:
        entry = {"place": f"{BANK}:{place}"}
    else:
        entry = {} if place is None else {"place": place}
    return entry if raw is None else {**entry, "raw": raw}


def missing_facts(device: Device, sheet: Sheet) -> Iterable[str]:
    """Name what the boot walk and the cleanup need and this device does not tell."""
    if device.running.version is None:
        yield "the running version (running.version)"
    if device.hardware.model is None:
        yield "the hardware model (hardware.model)"
    if not device.members:
        yield "its members, so neither volumes, banks nor boot settings"
    for member in device.members or ():
        front = f"member {member.id}: "
        if member.boot is None:
            yield front + "the boot settings"
        if member.volumes is None and member.banks is None:
            yield front + "volumes or banks"
        for volume in member.volumes or ():
            if volume.state in ("absent", "unreadable"):
                continue
            for_images = sheet.start.default_volume in (None, volume.name)
            for name in ("files", "capacity", "free") if for_images else ("files",):
                if getattr(volume, name) is None:
                    yield f"{front}{volume.name}: {name}"
