"""Asking a device what its sheet lists, one question at a time, and keeping what it said.

Whoever answers (a terminal, a program over an exec channel, a saved session) is a function from a
question to its text. Only what the sheet's questions make of names that are safe to send is sent.
"""

import logging
import re
import time
from collections.abc import Awaitable, Callable, Iterable, Iterator, Mapping
from datetime import datetime, timedelta
from hashlib import sha256
from itertools import islice
from typing import Any

import msgspec
from msgspec import Struct

from ovek.model.catalog import Published
from ovek.model.digest import STRONGEST_FIRST, Algorithm
from ovek.model.filesystem import is_fat
from ovek.model.naming import Naming, glob_pattern
from ovek.model.pattern import any_fits, compiled
from ovek.model.sheet import Fills, Question, Reading, Sheet
from ovek.model.snapshot import Device, File
from ovek.sources.away import away
from ovek.sources.clean import plain, without_echo
from ovek.sources.places import Seat
from ovek.sources.problem import NoAnswerError, ReadProblem
from ovek.sources.progress import UNWATCHED, Progress
from ovek.sources.rows import Rows, rows_of
from ovek.sources.snapshot_builder import Draft, DraftError, ParsedAnswer, understood

_LOG = logging.getLogger(__name__)
Ask = Callable[[Question, str, float], Awaitable[str]]
# Names that mean nothing to a terminal or a shell beside themselves.
_SAFE = re.compile(r"[A-Za-z0-9_][A-Za-z0-9_./+@=-]*")
_LOADER = "read at the boot loader"
_SHORT = 2**14  # characters of an answer that may be understood where all devices wait for it
_MOST_TOLD = 64 * 2**20  # characters that one device may tell in all
_MOST_ASKED = 2_000  # things that one question is asked for
_TELLING = 0.2  # seconds of a digest that tell how fast a device is
_NO_RATE = 4 * 2**20  # bytes a second, where a sheet does not say how fast digests are made


class RawAnswer(Struct, frozen=True, kw_only=True, omit_defaults=True):
    """One answer as evidence: the raw text, or rows where a way has no text of its own."""

    name: str
    asked: str = ""
    context: dict[str, str] = {}
    text: str | None = None
    fills: Fills | None = None
    rows: tuple[dict[str, Any], ...] = ()
    problem: str | None = None

    @property
    def sha256(self) -> str:
        """The SHA-256 of the raw text in UTF-8, or of the rows as lines of JSON."""
        if self.text is not None:
            return sha256(self.text.encode("utf-8", "surrogatepass")).hexdigest()
        made = sha256()
        for row in self.rows:
            made.update(msgspec.json.encode(row, order="sorted") + b"\n")
        return made.hexdigest()


class WantedDigests:
    """Which digests are worth asking for: those that the catalog can use, and are not known yet.

    `earlier` are devices as they were last read: a digest of the same place, size and time is
    carried over while it is not older than `oldest`, that of what runs or starts next
    `oldest_started`. `everything` asks for each image whether a catalog can use it or not.
    """

    def __init__(
        self,
        published: Iterable[Published],
        earlier: Mapping[str, Device],
        *,
        everything: bool = False,
        oldest: timedelta = timedelta.max,
        oldest_started: timedelta = timedelta.max,
    ) -> None:
        self.everything = everything
        self._oldest = {False: oldest, True: oldest_started}
        self._by_name: dict[str, set[Algorithm]] = {}
        self._all: set[Algorithm] = set()
        self._earlier = earlier
        self._known: dict[str, dict[tuple[str, str, str], tuple[datetime, File]]] = {}
        for entry in published:
            known = {algorithm for algorithm, _ in entry.release.digests}
            self._by_name.setdefault(entry.release.file.casefold(), set()).update(known)
            self._all |= known

    def algorithms(self, name: str, able: Iterable[Algorithm]) -> list[Algorithm]:
        """The algorithms that the device can work out and the catalog can use, strongest first."""
        useful = set(able)
        if not self.everything:
            useful &= self._by_name.get(name.casefold()) or self._all
        return [one for one in STRONGEST_FIRST if one in useful]

    def publishes(self, name: str) -> bool:
        """Whether some source publishes a file of this name."""
        return name.casefold() in self._by_name

    def kept(
        self,
        device: str,
        at: tuple[str, str],
        file: dict[str, Any],
        now: datetime,
        *,
        started: bool,
    ) -> tuple[dict[str, str], datetime] | None:
        """The digests that are known for the same place, size and time, and when they were made.

        `at` are the member and the volume. None where there are none that are new enough.
        """
        known = self._files(device).get((*at, file["path"]))
        if known is None or known[1].modified is None or known[1].size is None:
            return None
        read_at, before = known
        assert before.modified is not None
        told = (before.size, before.size_step, before.modified.isoformat())
        if told != (file.get("size"), file.get("size_step"), file.get("modified")):
            return None
        digests, made = dict(before.digests or ()), before.digests_at or read_at
        if not digests or now - made > self._oldest[started]:
            return None
        return {str(name): digest for name, digest in digests.items()}, made

    def _files(self, device: str) -> dict[tuple[str, str, str], tuple[datetime, File]]:
        """The files of an earlier device by member, volume and path, and when it was read."""
        if device not in self._known:
            earlier = self._earlier.get(device)
            self._known[device] = {
                (member.id, volume.name, file.path): (earlier.taken_at, file)
                for member in (earlier.members if earlier is not None else None) or ()
                for volume in member.volumes or ()
                for file in volume.files or ()
                if earlier is not None
            }
        return self._known[device]


class Interview:
    """One device being read: its draft, and the evidence in the order in which it came.

    `taken_at` is when it is read, `seat` its place among others. `reading` is how: at its boot
    loader once `at_loader` was called.
    """

    def __init__(
        self,
        name: str,
        sheet: Sheet,
        wanted: WantedDigests,
        taken_at: datetime,
        progress: Progress = UNWATCHED,
        seat: Seat | None = None,
    ) -> None:
        self.seat = seat or Seat()
        self.name, self.sheet, self.wanted, self.progress = name, sheet, wanted, progress
        self.taken_at = taken_at
        self._said: dict[str, str] = {}
        self._digested, self._digesting = 0, 0.0  # bytes, seconds
        self._answered: set[tuple[str, str]] = set()
        self.draft = Draft(sheet, taken_at)
        self.evidence: list[RawAnswer] = []
        self._size = 0
        self._naming = Naming(sheet)
        self._use(sheet.reading)

    def _use(self, reading: Reading) -> None:
        self.reading = reading
        self.pager = compiled(reading.pager.shows) if reading.pager is not None else None
        self._errors = [compiled(f"(?m){text}") for text in reading.errors]
        self._around = any_fits(reading.around)

    def at_loader(self) -> None:
        """Go on as at the prompt of the boot loader, where nothing runs."""
        self.rows(_LOADER, "device", [{"at": "boot-loader"}])

    async def run(self, ask: Ask, *, asking_costs: bool = True) -> None:
        """Put every question of the sheet that no earlier way has answered.

        What has no answer stays not known. Where asking costs nothing, as of a saved session, a
        digest is carried over only where there is no answer.
        """
        self._said.clear()
        for question in self.reading.question:
            contexts = list(islice(self._contexts(question, carry=asking_costs), _MOST_ASKED + 1))
            if len(contexts) > _MOST_ASKED:
                contexts.pop()
                text = f"{question.name}: only asked for the first {_MOST_ASKED} of them"
                self.draft.problems.append(text)
            if question.each == "image" and contexts:
                self._expect(len(contexts), sum(map(self.expected_seconds, contexts)), None)
            for context in contexts:
                if question.each == "image":
                    await self._ask_digest(ask, question, context)
                else:
                    await self._ask(ask, question, context)
        if not asking_costs:
            for _ in self._contexts_of_images(self.reading.digests, carry=True):
                pass  # what is asked for by now has no answer

    async def _ask_digest(self, ask: Ask, question: Question, context: dict[str, str]) -> None:
        """Ask for a digest, the strongest algorithm first, until the device knows one."""
        row = (context["member"], context["volume"], context["path"])
        for algorithm in context["algorithm"].split():
            await self._ask(ask, question, {**context, "algorithm": algorithm})
            if algorithm in self.draft.digests(*row):
                break
        self.progress.digested(self.name)

    async def _ask(self, ask: Ask, question: Question, context: dict[str, str]) -> None:
        asked = _filled(question.typed, context)
        if asked is None:
            path = context.get("path", "")
            self.draft.problems.append(
                f"{question.name}: the name {path!r} is not safe to send, so it was not asked"
            )
            return
        if (question.name, asked) in self._answered:
            return  # an earlier way told it
        try:
            if asked not in self._said:
                expected = self.expected_seconds(context)
                await self.seat.work(expected)
                began = time.monotonic()
                text = await ask(question, asked, expected)
                seconds = time.monotonic() - began
                self._said[asked] = text
                self.progress.answered(self.name, len(text))
                told = (self.name, question.name, len(text), seconds)
                _LOG.debug("%s: %s: %d characters after %.2f s", *told)
                self._measure(question, context, seconds)
        except NoAnswerError as none:
            self.draft.problems.append(f"{question.name}: {none}")
            return
        text, before = self._said[asked], len(self.draft.problems)
        answer = RawAnswer(name=question.name, asked=asked, context=context, text=text)
        self._told(answer)
        if len(text) <= _SHORT:
            made = self._understood(question, answer)
        else:
            made = await away(lambda stop: self._understood(question, answer))
        self._fill(question, answer, made)
        if len(self.draft.problems) == before:
            self._answered.add((question.name, asked))

    def _measure(self, question: Question, context: Mapping[str, str], seconds: float) -> None:
        """Keep in mind how fast the device works out digests; a short wait says nothing."""
        size = int(context.get("size", "0"))
        if question.each == "image" and seconds >= _TELLING and size >= 2**20:
            self._digested += size
            self._digesting += seconds

    @property
    def digest_rate(self) -> int | None:
        """The bytes a second at which digests were worked out; None where none took its time."""
        return int(self._digested / self._digesting) if self._digesting else None

    def take(self, answer: RawAnswer) -> None:
        """Keep one answer and fill the draft from it; a replay goes the same way."""
        self._told(answer)
        if answer.name == _LOADER and (reading := self.sheet.reading.at_loader) is not None:
            self._use(reading)
        if answer.fills is not None:
            self.draft.take(answer.fills, answer.rows)
            return
        known = (one for one in self.reading.question if one.name == answer.name)
        question = next(known, None)
        if question is None or answer.text is None:
            self.draft.problems.append(f"{answer.name}: the sheet has no such question now")
            return
        self._fill(question, answer, self._understood(question, answer))

    def _told(self, answer: RawAnswer) -> None:
        """Keep an answer as evidence. Raises ReadProblem where a device tells without end."""
        self._size += len(answer.text or "")
        if self._size > _MOST_TOLD:
            text = f"it sent more than {_MOST_TOLD} characters"
            raise ReadProblem("reading", text, "Log in by hand and look at what it prints")
        self.evidence.append(answer)

    def _understood(self, question: Question, answer: RawAnswer) -> ParsedAnswer | str:
        """The rows of an answer, or why there are none; it changes nothing, and may take long."""
        try:
            rows = self.rows_in(question, answer)
            return understood(question, answer.context, rows, self.draft.clock)
        except (NoAnswerError, DraftError) as none:
            return f"{question.name}: {none}"

    def _fill(self, question: Question, answer: RawAnswer, made: ParsedAnswer | str) -> None:
        if isinstance(made, str):
            self.draft.problems.append(made)
        else:
            self.draft.fill(question, answer.context, made)

    def rows_in(self, question: Question, answer: RawAnswer) -> Rows:
        """The rows of one answer; raises NoAnswerError where the device says it has none."""
        text = answer.text or ""
        if question.parse is None:
            text = without_echo(plain(text, self.pager), answer.asked)
            if self.reading.around:
                lines = (line for line in text.split("\n") if not self._around(line.rstrip()))
                text = "\n".join(lines)
            for pattern in self._errors:
                if found := pattern.search(text):
                    raise NoAnswerError(f"the device says {found[0].strip()[:80]!r}")
        return rows_of(question, text)

    def make_slots(self) -> None:
        """Make the banks that the sheet's slots describe, of the files that are known by now."""
        for bank, globs in self.sheet.reading.slots.items():
            fits = [tuple(glob.split(":", 1)) for glob in globs]
            for member, volume in self.volumes():
                patterns = [glob_pattern((path,)) for name, path in fits if name == volume["name"]]
                if not patterns or "files" not in volume:
                    continue
                paths = [file["path"] for file in volume["files"]]
                places = [
                    f"{volume['name']}:{path}"
                    for path in paths
                    if any(pattern.match(path) for pattern in patterns)
                ]
                row = {"member": member, "bank": bank, "state": "ok" if places else "empty"}
                self.draft.take("bank", [{**row, "place": places}] if places else [row])

    def rows(self, name: str, fills: Fills, rows: Iterable[dict[str, Any]]) -> None:
        """Take in rows that a way made by itself."""
        self.take(RawAnswer(name=name, fills=fills, rows=tuple(rows)))

    def adds(self, way: str, fills: Fills, rows: Iterable[dict[str, Any]]) -> None:
        """Take in what a way tells and no way before has told; tell where two disagree."""
        new = [self.draft.what_is_new(way, fills, row) for row in rows]
        self.rows(f"{way} {fills}", fills, [row for row in new if row is not None])

    def tell_rate(self, sizes: list[int], rate: int | None) -> None:
        """Tell that files of these sizes are read through for their digests, and at which rate."""
        rate = rate or self.sheet.capacity.transfer_rate or _NO_RATE
        if sizes:
            self._expect(len(sizes), sum(sizes) / rate, rate)

    def _expect(self, number: int, seconds: float, rate: int | None) -> None:
        """Tell that so many digests may take so long, at so many bytes a second."""
        _LOG.info("%s: %d digests, about %.0f s expected", self.name, number, seconds)
        self.progress.expects(self.name, number, seconds, rate)

    def expected_seconds(self, context: Mapping[str, str]) -> float:
        """How long a digest is expected to take; 0 for any other question."""
        if "path" not in context:
            return 0.0
        size = int(context.get("size", "0"))
        return size / (self.sheet.capacity.digest_rate or _NO_RATE)

    def _contexts(self, question: Question, *, carry: bool) -> Iterator[dict[str, str]]:
        if question.each == "device":
            yield {}
        elif question.each == "member":
            for member in self.draft.members:
                yield {"member": member}
        elif question.each == "volume":
            for member, volume in self.volumes():
                yield {"member": member, "volume": volume["name"]}
        else:
            able = question.digests or self.reading.digests
            yield from self._contexts_of_images(able, carry=carry)

    def _contexts_of_images(
        self, able: Iterable[Algorithm], *, carry: bool
    ) -> Iterator[dict[str, str]]:
        for member, volume in self.volumes():
            for file, algorithms in self.images(member, volume, able, carry=carry):
                yield {
                    "member": member,
                    "volume": volume["name"],
                    "path": file["path"],
                    "algorithm": " ".join(algorithms),
                    "size": str(file.get("size") or 0),
                }

    def volumes(self) -> Iterator[tuple[str, dict[str, Any]]]:
        """Every volume that can be read, by member."""
        for member in self.draft.members.values():
            for volume in member.get("volumes", ()):
                if volume.get("state", "ok") == "ok":
                    yield member["id"], volume

    def images(
        self,
        member: str,
        volume: dict[str, Any],
        able: Iterable[Algorithm],
        *,
        carry: bool = True,
    ) -> Iterator[tuple[dict[str, Any], list[Algorithm]]]:
        """The images of a volume whose digest is worth asking for, each with the algorithms.

        Where `carry` is true, what is known for the same place, size and time is taken from there.
        """
        able = list(able)
        blind = is_fat(str(volume.get("filesystem", "")))
        started = self._started() if carry else frozenset[str]()
        for file in list(volume.get("files", ())):
            path = file["path"]
            name = path.rpartition("/")[2]
            looks = self._naming.of(path, case_blind=blind).image or self.wanted.publishes(name)
            algorithms = self.wanted.algorithms(name, able)
            if not looks or not algorithms or file.get("path_cut"):
                continue
            if file.get("size") == 0 and "size_step" not in file:
                continue
            useful = algorithms
            if not self.wanted.everything:
                useful = self.wanted.algorithms(name, [*able, *self.reading.digests])
            if any(algorithm in file.get("digests", {}) for algorithm in useful):
                continue
            at = (member, volume["name"])
            boots = any(text.endswith(path.casefold()) for text in started)
            kept = self.wanted.kept(self.name, at, file, self.taken_at, started=boots)
            if carry and kept is not None and any(each in kept[0] for each in algorithms):
                row = {"member": member, "volume": volume["name"], "path": path, **kept[0]}
                row["digests_at"] = kept[1].isoformat()
                self.rows("kept digest", "digest", [row])
                continue
            yield file, algorithms

    def _started(self) -> frozenset[str]:
        """What the device tells that it runs, and what its boot settings and banks name."""
        told: set[str] = set()
        running = self.draft.device.get("running", {}).get("place")
        for member in self.draft.members.values():
            boot = member.get("boot", {})
            entries = [boot.get("once"), *(e for o in boot.get("order", {}).values() for e in o)]
            told |= {str(entry.get("told", "")) for entry in entries if entry}
            told |= {place for bank in member.get("banks", ()) for place in bank.get("places", ())}
        return frozenset(text.casefold() for text in (*told, running) if text)


def _filled(ask: str, context: Mapping[str, str]) -> str | None:
    """The question with its placeholders filled; None where a name is not safe to send."""
    for name in ("member", "volume", "path"):
        if f"{{{name}}}" in ask and not _SAFE.fullmatch(context[name]):
            return None
    for name, value in context.items():
        ask = ask.replace(f"{{{name}}}", value)
    return ask
