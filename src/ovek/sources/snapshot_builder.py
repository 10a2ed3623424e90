"""A device's state while it is being put together from rows.

What no row has told stays not known. An answer that was understood and has no rows tells that there
is none; an answer with lines that nothing understood tells nothing, since it may have left
something out.
"""

import re
from collections.abc import Iterable, Mapping
from datetime import datetime
from typing import Any

import msgspec
from msgspec import Struct

from ovek.model.digest import LENGTHS
from ovek.model.pattern import compiled
from ovek.model.place import BANK, PlaceError, parse_place
from ovek.model.sheet import SIZES, TIMES, Fills, Question, Sheet
from ovek.model.snapshot import ITSELF, Device
from ovek.sources.rows import Rows
from ovek.sources.values import Clock, ValueProblem, algorithms_of, value_of

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
    "component": ("component",),
}
Plain = dict[str, Any]
_AT = re.compile(r"\$(?P<path>[^`]*)")
_STEP = re.compile(r"\.([^.\[\]]+)|\[(\d+)\]")
_APART = 300  # seconds that two ways may be apart when they tell the time
_MOST_LOST = 1_000  # values that one device may lose before it is none


# What an answer without rows says that there is none of.
_LISTS = frozenset({"bank", "component", "volume", "order", "file", "set"})


class DraftError(ValueError):
    """A value that cannot be what its field is."""


class Draft:
    """One device in the shape of its snapshot line; `problems` tells what was not usable.

    `taken_at` is when it is read; `lost` are values that could not be, each with its line.
    """

    def __init__(self, sheet: Sheet, taken_at: datetime) -> None:
        self.sheet, self.taken_at = sheet, taken_at
        self.device: Plain = {}
        self.members: dict[str, Plain] = {}
        self.problems: list[str] = []
        self.lost: list[str] = []
        self._files: dict[tuple[str, str, str], Plain] = {}
        self._both = set[str]()  # members whose one boot order counts as live and saved
        self._carried: dict[tuple[str, str, str], tuple[dict[str, str], str]] = {}
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

    @property
    def clock(self) -> Clock:
        """The time by which dates without a year count."""
        told = self.device.get("clock")
        if told is None:
            return Clock(self.taken_at)
        return Clock(datetime.fromisoformat(told), own=True)

    def digests(self, member: str, volume: str, path: str) -> dict[str, str]:
        """The digests that were measured of a file by now; none that is only carried over."""
        found: dict[str, str] = self._files.get((member, volume, path), {}).get("digests", {})
        return found

    def fill(self, question: Question, context: Mapping[str, str], answer: "ParsedAnswer") -> None:
        """Take in one answer, as `understood` made it."""
        self.lost += answer.lost
        rows = answer.rows
        if question.for_all is not None and self.members:
            rows = [
                {**row, "member": member}
                for row in rows
                for member in ([row["member"]] if "member" in row else self.members)
            ]
        if rows or answer.says:
            self._known(question, context, rows)
        self.take(question.fills, rows)

    def take(self, fills: Fills, rows: Iterable[Plain]) -> None:
        """Take in rows whose fields have their values already."""
        fill = getattr(self, f"_fill_{fills}")
        for row in rows:
            fill({"member": "1", **row})

    def what_is_new(self, way: str, fills: Fills, row: Plain) -> Plain | None:
        """A row of another way without what is known already; None where nothing of it is new.

        Where two ways disagree, the first one's word stays, and that is told.
        """
        before = self._before(fills, row)
        if before is None:
            return row
        names = {*NEEDED[fills], "member", "slot"}
        new = {name: value for name, value in row.items() if name in names}
        for name, value in row.items():
            if name in names:
                continue
            known = before.get(name)
            if known is None:
                new[name] = value
            elif not _agree(name, known, value, before):
                where = " ".join(str(row[each]) for each in NEEDED[fills] if each in row)
                what = f"{fills} {where} {name}" if where else name
                self.lost.append(
                    f"two access methods disagree: {way} reports {what} as {value}, and "
                    "before it was "
                    f"{known}, which is kept"
                )
        return new if new.keys() - names else None

    def _before(self, fills: Fills, row: Plain) -> Plain | None:
        """The fields of the thing that a row is about, as they are known; None: it is new."""
        member = self.members.get(row.get("member", "1"), {})
        if fills == "device":
            return _flat(self.device)
        if fills == "member":
            return _flat(member) or None
        if fills == "volume":
            return self._named.get((row.get("member", "1"), "volumes", row["volume"]))
        if fills == "component":
            name, slot = row["component"], row.get("slot")
            there = (each for each in member.get("components", ()) if each["component"] == name)
            return next((each for each in there if each.get("slot") == slot), None)
        return None

    def _known(self, question: Question, context: Mapping[str, str], rows: list[Plain]) -> None:
        """Note what an answer without rows says: there is none of what it was asked for."""
        lists = {"bank": "banks", "component": "components", "volume": "volumes"}
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
            elif name in ("clock", "reload_at", "at"):
                self.device[name] = value

    def _fill_member(self, row: Plain) -> None:
        member = self.member(row["member"])
        for name, value in row.items():
            first, dot, second = name.partition(".")
            if dot:
                member.setdefault(first, {})[second] = value
        _update(member, {name: row[name] for name in row if "." not in name}, "member")

    def _fill_volume(self, row: Plain) -> None:
        volume = self.volume(row["member"], row["volume"])
        _update(volume, row, "member", "volume")

    def _fill_file(self, row: Plain) -> None:
        path = row["path"].lstrip("/")
        key = (row["member"], row["volume"], path)
        digests = algorithms_of(row)
        if "digests_at" in row:  # carried over: it counts only where nothing was measured
            self._carried[key] = (
                {str(name): each for name, each in digests.items()},
                row["digests_at"],
            )
            return
        volume = self.volume(row["member"], row["volume"])
        files = volume.setdefault("files", [])
        cut, file = row.get("path_cut", False), self._files.get(key)
        if file is None or cut:  # two names may be cut alike
            file = self._files[key] = {"path": path}
            files.append(file)
        if digests:
            file.setdefault("digests", {}).update(digests)
            file["digests_at"] = self.taken_at.isoformat()
        _sized(file, row.get("size"), row.get("size_step", 1))
        _update(file, row, "member", "volume", "path", "size", "size_step", *LENGTHS)

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
        if digests := algorithms_of(row):
            bank.setdefault("digests", {}).update(digests)
        if "place" in row:
            places = row["place"] if isinstance(row["place"], list) else [row["place"]]
            bank.setdefault("places", []).extend(places)
        _update(bank, row, "member", "bank", "place", *LENGTHS)

    def _fill_boot(self, row: Plain) -> None:
        boot = self.member(row["member"]).setdefault("boot", {})
        if "once" in row:
            boot["once"] = {"told": row["once"]}
        for name, value in row.items():
            first, dot, second = name.partition(".")
            if dot:
                boot.setdefault(first, {})[second] = value

    def _fill_order(self, row: Plain) -> None:
        order = self.member(row["member"]).setdefault("boot", {}).setdefault("order", {})
        which = row.get("list")
        if which is None:
            self._both.add(row["member"])
        for each in (which,) if which else ("live", "saved"):
            entries = order.setdefault(each, [])
            place = _told_place(row)
            if place is not None or "raw" in row:
                entry = {} if place is None else {"told": place}
                entries.append({**entry, "raw": row.get("raw", place)})

    def _fill_component(self, row: Plain) -> None:
        """Take in a component; rows of two questions about one are put together.

        A row without a slot that says only where a component is loaded from, speaks of each slot.
        """
        component: Plain = {n: row[n] for n in ("component", "slot", "version") if n in row}
        if (told := row.get("loads_from") or _told_place(row)) is not None:
            component["told"] = told
        known = self.member(row["member"]).setdefault("components", [])
        every = "slot" not in component and "version" not in component
        ours = [
            our
            for our in known
            if our["component"] == component["component"]
            and (every or our.get("slot") == component.get("slot"))
            and not (our.keys() & component.keys()) - {"component", "slot"}
        ]
        for our in ours:
            our.update(component)
        if not ours:
            known.append(component)

    def finished(self, head: Plain) -> Device | None:
        """The device as a snapshot line; None (and a problem) where nothing is left of it.

        A value that the snapshot would refuse is lost, and told; whatever else was read stays.
        """
        self._carry()
        self._settle_unsaved()
        for member in self.members.values():
            self._settle(member)
        self._settle_running()
        whole = {**head, **self.device}
        if self.members:
            whole["members"] = list(self.members.values())
        for _ in range(_MOST_LOST):
            try:
                return msgspec.convert(whole, Device)
            except msgspec.ValidationError as error:
                if not self._lose(whole, str(error)):
                    break
        self.problems.append("its output makes no sense")
        return None

    def _carry(self) -> None:
        """Take the digests that were carried over for files of which none contradicts them.

        A digest that was measured now wins; where one of them is the same, all of them hold, and
        are as old as the oldest.
        """
        for key, (digests, at) in self._carried.items():
            file = self._files.get(key)
            if file is None:
                continue
            fresh: dict[str, str] = file.get("digests", {})
            common = [fresh[name] == digest for name, digest in digests.items() if name in fresh]
            if not fresh or (common and all(common) and len(common) < len(digests)):
                file["digests"], file["digests_at"] = {**digests, **fresh}, at

    def _settle_unsaved(self) -> None:
        """Keep a boot order as the live one only, where it may be among the unsaved changes."""
        covers = self.sheet.boot.unsaved_covers
        unsaved = self.device.get("config", {}).get("unsaved_changes") is True
        if unsaved and covers in ("boot-settings", "both"):
            for name in sorted(self._both):
                self.member(name)["boot"]["order"].pop("saved", None)
                self.problems.append(
                    f"member {name}: its unsaved changes may include boot settings, so the saved "
                    "boot order is unknown"
                )

    def _settle(self, member: Plain) -> None:
        """Settle what only the whole of a member can tell."""
        for volume in member.get("volumes", ()):
            _whole_names(volume)
            free, capacity = volume.get("free"), volume.get("capacity")
            known = isinstance(free, int) and isinstance(capacity, int)
            if known and free > capacity:
                del volume["free"]
                self.lost.append(
                    f"{volume['name']}: {free} bytes free of {capacity} is impossible; the "
                    "free space "
                    "is unknown"
                )
        boot = member.get("boot", {})
        for which, entries in boot.get("order", {}).items():
            boot["order"][which] = [self._entry(member, entry) for entry in entries]
        if "once" in boot:
            boot["once"] = self._entry(member, boot["once"])
        self._settle_places(member)

    def _settle_places(self, member: Plain) -> None:
        """Resolve what components and banks name; what cannot be resolved is not known."""
        for component in member.get("components", ()):
            told = component.pop("told", None)
            if told is None or told == ITSELF:
                component.update({} if told is None else {"loads_from": told})
                continue
            place = self._entry(member, {"told": told}).get("place")
            if place is not None:
                component["loads_from"] = place
                continue
            self.lost.append(
                f"{told!r} is not a place, so the file that {component['component']} loads is "
                "unknown"
            )
        for bank in member.get("banks", ()):
            wrong = next((text for text in bank.get("places", ()) if not _is_place(text)), None)
            if wrong is not None:
                del bank["places"]
                self.lost.append(f"{wrong!r} is not a place, so the files of bank {bank['name']} "
                                 "are unknown")  # fmt: skip

    def _settle_running(self) -> None:
        running = self.device.get("running", {})
        told = running.get("place")
        if told is None or _is_place(told):
            return
        first = next(iter(self.members.values()), {})
        entry = self._entry(first, {"told": told})
        if "place" in entry and not entry["place"].startswith(f"{BANK}:"):
            running["place"] = entry["place"]
        else:
            del running["place"]
            self.lost.append(f"running.place: {told!r} is not a place")

    def _entry(self, member: Plain, entry: Plain) -> Plain:
        """A boot entry as the sheet resolves it; what it does not resolve stays the raw text."""
        told, raw = entry.get("told"), entry.get("raw")
        kept = {} if raw is None else {"raw": raw}
        if told is None:
            return kept
        if "://" in told:
            return {"remote": told, **kept}
        if _is_place(told):
            return {"place": told, **kept}
        if ":" in told:
            self.lost.append(f"the boot entry {told!r} is not a place")
            return {"raw": told if raw is None else raw}
        place = self._resolved(member, told)
        return {"raw": told, **kept} if place is None else {"place": place, **kept}

    def _resolved(self, member: Plain, text: str) -> str | None:
        """The place of a bare name, or of a volume and a name; None where no volume is known."""
        start = self.sheet.boot
        if start.layout != "files":
            return f"{BANK}:{text}"
        volumes = [volume["name"] for volume in member.get("volumes", ())]
        first, _, rest = text.partition(" ")
        if rest.strip() and first in {*volumes, start.default_volume}:
            return f"{first}:{rest.strip()}"
        default = start.default_volume or next(iter(volumes), None)
        return None if default is None else f"{default}:{text}"

    def _lose(self, whole: Plain, text: str) -> bool:
        """Take out what the snapshot refuses; False where there is nothing to take.

        A list that would lose one of its things is not known as a whole: none may seem missing.
        """
        reason, _, at = text.partition(" - at ")
        match = _AT.search(at)
        steps = [
            name or int(number) for name, number in _STEP.findall(match["path"] if match else "")
        ]
        while steps and isinstance(steps[-1], int):
            steps.pop()
        if not steps:
            return False
        thing: Any = whole
        for step in steps[:-1]:
            thing = thing[step]
        value = thing[steps[-1]]
        del thing[steps[-1]]
        where = ".".join(str(step) for step in steps)
        shown = f" ({value!r})" if isinstance(value, str | int | float) else ""
        self.lost.append(f"{where}{shown}: {reason.replace('`', '')}")
        return True


class ParsedAnswer(Struct, frozen=True):
    """What was made of one answer: its rows, and the values that were lost, each with its line.

    `says` is whether the answer says anything, so that no rows mean that there is none.
    """

    rows: list[Plain]
    lost: list[str] = []
    says: bool = True


def understood(
    question: Question, context: Mapping[str, str], answer: Rows, clock: Clock
) -> ParsedAnswer:
    """The rows of an answer, their fields converted. Raises DraftError.

    `context` is what it was asked for (member, volume, path).
    """
    if answer.strange:
        shown = answer.strange[0].strip()[:60]
        more = f" and {len(answer.strange) - 1} more" if answer.strange[1:] else ""
        raise DraftError(f"not parsed: {shown!r}{more}")
    lost: list[str] = []
    choices = _choices(question, answer)
    rows = [fields_of(question, context, row, clock, lost, choices) for row in answer.rows]
    problems = [_with_line(question, each, answer) for each in lost]
    if not rows and not answer.says and question.fills in _LISTS:
        problems.append(
            f"the output of {question.name!r} is empty, or none of it was parsed: its facts "
            "are unknown"
        )
    return ParsedAnswer(rows, problems, answer.says)


def fields_of(
    question: Question,
    context: Mapping[str, str],
    row: Plain,
    clock: Clock,
    lost: list[str],
    choices: Mapping[str, str] | None = None,
) -> Plain:
    """The fields of one row, converted; empty texts are not known and left out.

    What cannot be the value of its field is left out, too, and told in `lost`.
    """
    asked_for = {name: context[name] for name in ("member", "volume", "path") if name in context}
    # A row of all members is given to each of them once they are known.
    member = {} if question.for_all is not None else {"member": "1"}
    fields: Plain = {**member, **asked_for, **question.fixed}
    for column, text in row.items():
        name = question.columns.get(column, column.lower())
        if question.parse is not None and column not in question.columns:
            continue
        texts = [each for each in (text if isinstance(text, list) else [text]) if each != ""]
        if question.numbered is not None and name in question.numbered.fields:
            texts = _chosen(name, texts, choices or {}, lost)
        if not texts:
            continue
        try:
            value = value_of(question, name, texts, clock)
        except ValueProblem as problem:
            lost.append(f"{name}: {problem}\0{texts[0]}")
            continue
        if name in SIZES and value is not None:
            value, step = value
            if question.fills == "file" and step > 1:
                fields["size_step"] = step
        if isinstance(text, list) and not isinstance(value, list) and name not in LENGTHS:
            value = [] if value is None else [value]
        if value is not None and value != []:
            fields[name] = value
        if name == "path" and question.cut_at is not None and len(texts[0]) >= question.cut_at:
            fields["path_cut"] = True
    for name in NEEDED[question.fills]:
        if name not in fields and not (name == "place" and "path" in fields):
            raise DraftError(f"a row has no {name}; does the template make such a column?")
    return fields


def _choices(question: Question, answer: Rows) -> dict[str, str]:
    """What each number of a numbered list stands for."""
    if question.numbered is None:
        return {}
    fits = compiled(question.numbered.list)
    found = [match for line in answer.lines if (match := fits.fullmatch(line)) is not None]
    return {match["number"]: match["value"] for match in found}


def _chosen(name: str, texts: list[str], choices: Mapping[str, str], lost: list[str]) -> list[str]:
    found = []
    for text in texts:
        if text in choices:
            found.append(choices[text])
        else:
            lost.append(f"{name}: no line of the list has the number {text}\0{text}")
    return found


def _with_line(question: Question, told: str, answer: Rows) -> str:
    """What was lost, with the line of the answer that told it."""
    why, _, text = told.partition("\0")
    line = next((line.strip() for line in answer.lines if text and text in line), None)
    shown = f"; the line is {line[:120]!r}" if line is not None and line not in why else ""
    return f"{question.name}: {why}{shown}"


def _flat(thing: Plain) -> Plain:
    """A thing's fields by the names that a row has for them."""
    found: Plain = {}
    for name, value in thing.items():
        if isinstance(value, dict):
            found |= {f"{name}.{inner}": each for inner, each in value.items()}
        else:
            found[name] = value
    return found


def _agree(name: str, known: Any, told: Any, thing: Plain) -> bool:
    """Whether two ways say the same; how much is free, and the time, go on between them."""
    if name in ("free", "capacity") and isinstance(known, int) and isinstance(told, int):
        whole = thing.get("capacity")
        return abs(known - told) <= max(2**20, (whole if isinstance(whole, int) else known) // 100)
    if name == "hardware.memory" and isinstance(known, int) and isinstance(told, int):
        return abs(known - told) <= known // 4  # what the firmware keeps for itself is not told
    if name in TIMES:
        apart = datetime.fromisoformat(known) - datetime.fromisoformat(told)
        return abs(apart.total_seconds()) <= _APART
    if isinstance(known, str) and isinstance(told, str):
        return known.casefold() == told.casefold()
    return bool(known == told)


def _told_place(row: Plain) -> str | None:
    """The place that a row tells: as one, or as a volume and a path."""
    if "place" in row:
        return str(row["place"])
    if "path" in row:
        return f"{row['volume']}:{row['path']}" if "volume" in row else str(row["path"])
    return None


def _is_place(text: str) -> bool:
    try:
        parse_place(text)
    except PlaceError:
        return False
    return True


def _sized(file: Plain, size: int | None, step: int) -> None:
    """Set the size of a file; an exact one stays where a rounded one is told that may be it."""
    if size is None:
        return
    known = file.get("size")
    if step > 1 and known is not None and "size_step" not in file and abs(known - size) < step:
        return
    file["size"] = size
    file.pop("size_step", None)
    if step > 1:
        file["size_step"] = step


def _whole_names(volume: Plain) -> None:
    """Drop a name that the listing cut where another answer tells the whole one."""
    files = volume.get("files", [])
    cut = [file for file in files if file.get("path_cut")]
    for short in cut:
        whole = [
            file
            for file in files
            if not file.get("path_cut") and file["path"].startswith(short["path"])
        ]
        alike = [file for file in cut if file["path"] == short["path"]]
        if len(whole) == 1 and len(alike) == 1:
            known = {name: value for name, value in short.items() if name != "path_cut"}
            files[files.index(short)] = {**known, **whole[0]}
            files.remove(whole[0])


def _update(thing: Plain, row: Plain, *names: str) -> None:
    thing.update({name: value for name, value in row.items() if name not in names})


def missing_facts(device: Device, sheet: Sheet) -> Iterable[str]:
    """Name what the boot walk and the cleanup need and this device does not tell."""
    if device.running.version is None and device.at != "boot-loader":
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
            for_images = sheet.boot.default_volume in (None, volume.name)
            for name in ("files", "capacity", "free") if for_images else ("files",):
                if getattr(volume, name) is None:
                    yield f"{front}{volume.name}: {name}"
