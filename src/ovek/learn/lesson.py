"""From marked sessions to the parts of a sheet: its questions, how it is talked to, its images.

- What is typed becomes a question where its answer has a mark; names of members, volumes and files
  that other answers tell become placeholders.
- Every line of such an answer is understood by a rule of its template, passed over because it is a
  heading or tells nothing that has a mark, or told as open.
- Nothing is sent that was not typed in a session, and only what a person marked is asked again.
"""

import re
from collections.abc import Iterable, Mapping, Sequence

from msgspec import Struct

from ovek.files.marks import SPECIAL, MarkError, fields_named
from ovek.learn.answers import AnswerRules, OpenAnswer, rules_of
from ovek.learn.check import lost_mark
from ovek.learn.dialogue import Dialogue, Exchange, escaped, taken_apart
from ovek.learn.template import FoundRows, found
from ovek.learn.values import NOTHING, dates_of
from ovek.model.digest import LENGTHS, STRONGEST_FIRST, Algorithm
from ovek.model.sheet import FIELDS, SIZES, TIMES, TRUTHS, Each, Fills, Numbered, Pager, Question
from ovek.sources.values import WORDS

_ORDER: tuple[Fills, ...] = (
    *("device", "member", "volume", "bank", "boot", "order"),
    *("file", "set", "component", "digest"),
)
_EACH: dict[str, Each] = {"path": "image", "volume": "volume", "member": "member"}
_NAMED = ("member", "volume", "path")
_ANOTHER = "([A-Za-z][A-Za-z0-9_-]*)"  # a name in the place of a volume's


class Unsettled(Struct, frozen=True):
    """What a mark would settle: what is not known, and the mark that would tell it."""

    what: str
    mark: str


class Lesson(Struct, frozen=True, kw_only=True):
    """What was learned: what a sheet's `[reading]` holds, and what is left open.

    `passed` are lines that tell nothing, a line of each shape with the question; `taken` are facts
    that no mark told, as the default says them; `unasked` was typed and has no mark in its answer.
    """

    questions: tuple[Question, ...]
    prompt: str
    pager: Pager | None
    around: tuple[str, ...]
    leave: str | None
    errors: tuple[str, ...]
    digests: tuple[Algorithm, ...]
    image_names: tuple[str, ...]
    layout: str
    default_volume: str | None
    volumes: tuple[str, ...] = ()
    passed: tuple[tuple[str, str], ...] = ()
    open: tuple[OpenAnswer, ...] = ()
    unsettled: tuple[Unsettled, ...] = ()
    taken: tuple[str, ...] = ()
    unasked: tuple[str, ...] = ()
    marks: int = 0


class SessionError(ValueError):
    """One session that teaches nothing: which (from 0), the line (from 1), what, what to do."""

    def __init__(self, session: int, text: str, do: str, line: int | None = None) -> None:
        super().__init__(text)
        self.session, self.met, self.do, self.line = session, text, do, line


def learn(sessions: Sequence[str]) -> Lesson:
    """Learn from marked sessions. Raises SessionError."""
    dialogues = []
    for number, text in enumerate(sessions):
        try:
            dialogues.append(taken_apart(text, number))
        except MarkError as wrong:
            raise SessionError(number, wrong.met, wrong.do, wrong.line) from None
        except ValueError:
            do = "Mark what was typed once, as PROMPT <<ask=what was typed>>"
            raise SessionError(number, "no typed command was found at a prompt", do) from None
    if not any(_teaches(each) for one in dialogues for each in one.exchanges):
        do = (
            "Mark values, e.g. <<free=90112>> (see ovek sheet fields), or let Ovek suggest marks: "
            "--ask goes through them, --take all accepts them"
        )
        raise SessionError(0, "no output in it has a mark", do)
    return _Learning(dialogues).lesson()


def _teaches(exchange: Exchange) -> bool:
    """Whether an answer has a mark of a field."""
    return any(mark.name not in SPECIAL for mark in exchange.marks)


class _Learning:
    """The lesson while it is put together."""

    def __init__(self, dialogues: Sequence[Dialogue]) -> None:
        self.dialogues = dialogues
        self.exchanges = [each for one in dialogues for each in one.exchanges]
        self.unsettled: list[Unsettled] = []
        self.taken: list[str] = []
        self.passed: dict[tuple[str, str], None] = {}
        self.open: list[OpenAnswer] = []
        self.values: dict[str, list[str]] = {}
        self.known: dict[str, set[str]] = {name: set() for name in _NAMED}
        self.listed: set[str] = set()  # volumes of which an answer tells that was not asked for one

    def lesson(self) -> Lesson:
        self._know()
        grouped = self._grouped()
        questions, unasked = [], []
        for typed, exchanges in grouped.items():
            if any(_teaches(each) for each in exchanges):
                questions += self._questions(typed, exchanges)
            elif typed[-1] not in {one.last for one in self.dialogues} and any(
                line.strip() for each in exchanges for line in each.lines
            ):
                unasked.append(_shown(typed))
        questions.sort(key=lambda question: _ORDER.index(question.fills))
        questions = _named_once(questions)
        digests = self._digests(questions)
        self._settle(questions)
        layout = "banks" if any(q.fills == "bank" for q in questions) else "files"
        return Lesson(
            questions=tuple(questions),
            prompt=self._prompt(),
            pager=self._pager(),
            around=tuple(dict.fromkeys(_around(a) for one in self.dialogues for a in one.around)),
            leave=next((one.leave for one in self.dialogues if one.leave is not None), None),
            errors=tuple(dict.fromkeys(each for one in self.dialogues for each in one.errors)),
            digests=digests,
            image_names=self._image_names(),
            layout=layout,
            default_volume=self._default_volume() if layout == "files" else None,
            volumes=tuple(dict.fromkeys(self.values.get("volume.volume", ()))),
            passed=tuple(self.passed),
            open=tuple(self.open),
            unsettled=tuple(self.unsettled),
            taken=tuple(self.taken),
            unasked=tuple(unasked),
            marks=sum(len(each.marks) for each in self.exchanges),
        )

    def _settle(self, questions: Sequence[Question]) -> None:
        """Tell what no mark tells and the boot walk and the cleanup need."""
        asked = {(question.fills, field) for question in questions for field in question.fields}
        banks = any(question.fills == "bank" for question in questions)
        needed: list[tuple[str, str, tuple[str, ...]]] = [
            ("the running version", "running.version", ("device.running.version",)),
            ("the hardware model", "hardware.model", ("device.hardware.model",)),
        ]
        if banks:
            halves = ("boot.default_bank.saved", "boot.default_bank.live")
            needed.append(("which bank boots", "default_bank.saved", halves))
        else:
            needed += [
                ("its volumes", "volume", ("volume.volume",)),
                ("the capacity of a volume", "capacity", ("volume.capacity",)),
                ("the free space of a volume", "free", ("volume.free",)),
                ("its files", "path", ("file.path",)),
                ("what boots next", "place", ("order.place", "order.path", "boot.once")),
            ]
        orders = [
            q for q in questions if q.fills == "order" and "list" not in {*q.fields, *q.fixed}
        ]
        for question in orders if len(orders) > 1 else ():
            what = f"whether {question.ask!r} shows the live or the saved boot order"
            what += ", as two answers show one"
            mark = (
                f"<<list(live)={question.ask.split()[-1]}>> or <<list(saved)=…>> where it is typed"
            )
            self.unsettled.append(Unsettled(what, mark))
        known = {f"{fills}.{field}" for fills, field in asked}
        for what, name, fields in needed:
            if not known & set(fields):
                self.unsettled.append(Unsettled(f"{what}: no mark for it", f"<<{name}=…>>"))

    def _know(self) -> None:
        """Find the names of members, volumes and files that the marked answers tell."""
        for dialogue in self.dialogues:
            for mark in dialogue.told:
                name = mark.name.rpartition(".")[2]
                if name in self.known:
                    self.known[name].add(mark.value)
        by_typed: dict[tuple[str, ...], list[Exchange]] = {}
        for exchange in self.exchanges:
            by_typed.setdefault(exchange.typed, []).append(exchange)
        for exchanges in by_typed.values():
            if not any(_teaches(exchange) for exchange in exchanges):
                continue
            words = {word for step in exchanges[0].typed for word in step.split()}
            said = {part for word in words for part in re.split("[:/]", word)}
            for (fills, field), values in self._answers(exchanges, _NAMED, words).values.items():
                if field in _NAMED and not (fills == "volume" and field == "path"):
                    self.known[field] |= set(values)
                if field == "volume":
                    self.listed |= set(values) - said
        self.known["volume"] -= {""}

    def _answers(
        self, exchanges: Sequence[Exchange], asked_for: Iterable[str], words: Iterable[str]
    ) -> AnswerRules:
        try:
            return rules_of(exchanges, asked_for, words)
        except MarkError as wrong:
            raise SessionError(wrong.session, wrong.met, wrong.do, wrong.line) from None

    def _grouped(self) -> dict[tuple[str, ...], list[Exchange]]:
        """The exchanges by what was typed, with placeholders for the names of things."""
        grouped: dict[tuple[str, ...], list[Exchange]] = {}
        for exchange in self.exchanges:
            typed = tuple(self._skeleton(step, at) for at, step in enumerate(exchange.typed))
            grouped.setdefault(typed, []).append(exchange)
        return self._likewise(grouped)

    def _likewise(
        self, grouped: dict[tuple[str, ...], list[Exchange]]
    ) -> dict[tuple[str, ...], list[Exchange]]:
        """Take what was typed likewise of another volume, which no answer names, to the rest."""
        asked = [
            (typed, re.compile(re.escape("\n".join(typed)).replace(r"\{volume\}", _ANOTHER)))
            for typed, exchanges in grouped.items()
            if "{volume}" in " ".join(typed) and any(map(_teaches, exchanges))
        ]
        for typed in [typed for typed, each in grouped.items() if not any(map(_teaches, each))]:
            fits = [(to, m) for to, like in asked if (m := like.fullmatch("\n".join(typed)))]
            if len(fits) == 1:
                grouped[fits[0][0]] += grouped.pop(typed)
                self.known["volume"].add(fits[0][1][1])
        return grouped

    def _skeleton(self, step: str, at: int) -> str:
        words = step.split(" ")
        return " ".join(
            self._placeholder(word, first=not number and not at) if number or at else word
            for number, word in enumerate(words)
        )

    def _placeholder(self, word: str, *, first: bool) -> str:
        volume, colon, path = word.partition(":")
        slash, path = ("/", path[1:]) if path[:1] == "/" else ("", path)
        if word in self.known["volume"] and not word.isdigit():
            return "{volume}"
        if colon and volume in self.known["volume"] and path in {"", *self.known["path"]}:
            return f"{{volume}}:{slash}{'{path}' if path else ''}"
        if word in self.known["path"]:
            return "{path}"
        if word in self.known["member"] and not first:
            return "{member}"
        return word

    def _questions(self, typed: tuple[str, ...], exchanges: Sequence[Exchange]) -> list[Question]:
        names = set(re.findall(r"\{(\w+)\}", " ".join(typed)))
        words = {
            word.strip(":")
            for each in exchanges
            for step, shape in zip(each.typed, typed, strict=True)
            for word, to in zip(step.split(), shape.split(), strict=True)
            if word != to
        }
        words |= {part for word in words for part in word.split(":")}
        words |= {name for one in self.dialogues for name in one.names}
        answers = self._answers(exchanges, names, words)
        asked = _shown(typed)
        self.passed.update(dict.fromkeys((asked, line) for line in answers.passed.values()))
        self.open += answers.open
        try:
            things = [found(answers, each) for each in answers.things]
        except MarkError as wrong:
            raise SessionError(wrong.session, wrong.met, wrong.do, wrong.line) from None
        try:
            made = self._made(typed, names, exchanges, things)
        except ValueError as wrong:
            session = next(each.session for each in exchanges if _teaches(each))
            raise SessionError(session, str(wrong), "Mark it differently") from None
        for exchange, slots in zip(answers.exchanges, answers.slots, strict=True):
            if (lost := lost_mark(exchange, slots, made)) is not None:
                raise SessionError(lost.session, lost.met, lost.do, lost.line + 1)
        return made

    def _made(
        self,
        typed: tuple[str, ...],
        names: set[str],
        exchanges: Sequence[Exchange],
        rowss: Sequence[FoundRows],
    ) -> list[Question]:
        """The questions of what one answer tells of."""
        told = self._told(exchanges)
        if "volume" not in names or "path" in names:
            return [self._question(typed, names, each, told) for each in rowss]
        volumes = self._volumes_in(typed, exchanges)
        if volumes <= self.listed or "" in volumes:
            return [self._question(typed, names, each, told) for each in rowss]
        # Nothing lists the volumes: each is asked for by its name, as it was typed.
        return [
            self._question(
                tuple(step.replace("{volume}", volume) for step in typed),
                names - {"volume"},
                each,
                {**told, "volume": volume},
            )
            for volume in sorted(volumes)
            for each in rowss
        ]

    def _told(self, exchanges: Sequence[Exchange]) -> dict[str, str]:
        """What the marks in what was typed say of every row of the answer."""
        return {
            field: mark.means or mark.value
            for each in exchanges
            for mark in each.told
            for _, field in fields_named(mark.name)
            if field not in _NAMED
        }

    def _volumes_in(self, typed: tuple[str, ...], exchanges: Sequence[Exchange]) -> set[str]:
        """The volumes for which a question was typed."""
        like = re.escape("\n".join(typed)).replace(r"\{volume\}", _ANOTHER, 1)
        like = re.sub(r"\\\{\w+\\\}", r"\\S+", like)
        fits = (re.fullmatch(like, "\n".join(each.typed)) for each in exchanges)
        return {match[1] if match is not None else "" for match in fits}

    def _question(
        self,
        typed: tuple[str, ...],
        names: set[str],
        rows: FoundRows,
        told: Mapping[str, str],
    ) -> Question:
        each: Each = next((kind for name, kind in _EACH.items() if name in names), "device")
        own = {*FIELDS[rows.fills]} - {*rows.columns.values()}
        fixed = {name: value for name, value in told.items() if name in own}
        words, dates, nothing = self._meant(rows)
        if rows.fills == "volume" and "state" not in rows.columns.values():
            fixed["state"] = "ok"
            self.taken.append("every listed volume counts as readable (state ok)")
        states = {*rows.values.get("state", ()), *rows.means.get("state", {}).values()}
        if rows.fills == "volume" and states and "ok" not in states:
            what = "which volumes can be read (a mark says only which cannot)"
            mark = "<<volume.state(ok)=…>> where the state is shown"
            self.unsettled.append(Unsettled(what, mark))
        if rows.fills == "bank" and "state" not in rows.columns.values():
            what = "whether the image in a bank is complete (state); the boot walk needs it"
            self.unsettled.append(Unsettled(what, "<<bank.state(ok)=…>> where the state is shown"))
        if rows.fills == "order" and "list" not in {*rows.columns.values(), *fixed}:
            self.taken.append("the one boot order shown counts as the live and the saved one")
        for field, values in rows.values.items():
            self.values.setdefault(f"{rows.fills}.{field}", []).extend(values)
        columns = {name: field for name, field in rows.columns.items() if name.lower() != field}
        numbered = None
        if rows.numbered is not None:
            numbered = Numbered(list=rows.numbered[0], fields=rows.numbered[1])
        units = {field: unit.name for field, unit in rows.units.items() if unit.name != "B"}
        for field, unit in rows.units.items():
            if not unit.exact:
                kilo = f"{rows.fills}.{field} counts in {unit.name}: 1 KB of a device is 1024 bytes"
                self.taken.append(kilo)
        return Question(
            name=_name(typed),
            ask=typed[0],
            then=typed[1:],
            fills=rows.fills,
            each=each,
            template=rows.template,
            columns=columns,
            fixed=fixed,
            units=units,
            dates={field: way for field, way in dates.items() if way},
            words=words,
            none=nothing,
            numbered=numbered,
            digests=_algorithm_of(typed, rows),
        )

    def _meant(
        self, rows: FoundRows
    ) -> tuple[dict[str, dict[str, str]], dict[str, str], tuple[str, ...]]:
        """What the words of its fields mean, how its times are written, and what is nothing."""
        words: dict[str, dict[str, str]] = {}
        dates: dict[str, str] = {}
        nothing: dict[str, None] = {}
        for field, values in rows.values.items():
            means = rows.means.get(field, {})
            known = WORDS.get((rows.fills, field))
            if field in TRUTHS:
                known = ("yes", "no", "true", "false")
            free = [each for each in values if each.lower() in NOTHING and each not in means]
            if field in TIMES:
                dates[field] = self._written(rows.fills, field, values, means)
                nothing.update(dict.fromkeys(free))
            elif known is not None:
                told = {**{w: w for w in values if w in known}, **means}
                for word in values:
                    if word not in told and word.lower() not in known:
                        may = "|".join(known)
                        mark = f"<<{_short(rows.fills, field)}({may})={word}>>"
                        what = f"what the word {word!r} means as {rows.fills}.{field}"
                        self.unsettled.append(Unsettled(what, mark))
                if means:
                    words[field] = told
            else:
                if means:
                    words[field] = means
                nothing.update(dict.fromkeys(free))
        return words, dates, tuple(nothing)

    def _written(
        self, fills: Fills, field: str, values: Sequence[str], means: dict[str, str]
    ) -> str:
        """How a field's times are written; empty where they are as ISO 8601 has them."""
        if means:
            return next(iter(means.values()))
        ways = dates_of(values)
        if len(ways) == 1:
            return "" if "T" in ways[0] and ways[0].startswith("%Y-%m-%d") else ways[0]
        value = values[0]
        mark = f"<<{_short(fills, field)}({ways[0] if ways else '%d %b %Y %H:%M'})={value}>>"
        why = "which is the day and which the month" if ways else "how the time is written"
        self.unsettled.append(Unsettled(f"{why} in {value!r}", mark))
        return ""

    def _digests(self, questions: Iterable[Question]) -> tuple[Algorithm, ...]:
        found = {each for one in questions if one.each == "image" for each in one.digests}
        return tuple(each for each in STRONGEST_FIRST if each in found)

    def _prompt(self) -> str:
        found = dict.fromkeys(prompt for one in self.dialogues for prompt in one.prompts)
        return "|".join(found) if len(found) == 1 else "(?:" + "|".join(found) + ")"

    def _pager(self) -> Pager | None:
        shows = next((one.pager for one in self.dialogues if one.pager is not None), None)
        if shows is None:
            return None
        enter = re.search(r"(?i)\b(?:enter|return)\b", shows) and not re.search(
            r"(?i)\b(?:space|blank|any key)\b", shows
        )
        return Pager(shows=shows, answer="\n" if enter else " ")

    def _default_volume(self) -> str | None:
        """Where what starts lies; else the first volume."""
        for name in ("order.place", "device.running.place", "boot.once"):
            for place in self.values.get(name, ()):
                volume, colon, _ = place.partition(":")
                if colon:
                    return volume
        volumes = self.values.get("volume.volume")
        return volumes[0] if volumes else None

    def _image_names(self) -> tuple[str, ...]:
        """How images are named: as what starts is, with the version that runs in its name."""
        version = next(iter(self.values.get("device.running.version", ())), None) or next(
            iter(self.values.get("member.running_version", ())), None
        )
        places = [
            *self.values.get("device.running.place", ()),
            *self.values.get("order.place", ()),
            *self.values.get("order.path", ()),
            *self.values.get("boot.once", ()),
        ]
        started = [place.rpartition(":")[2].rpartition("/")[2] for place in places]
        patterns: dict[str, None] = {}
        for name in started:
            if version is not None and version in name:
                patterns[_image_pattern(name, version)] = None
        left = [
            name for name in started
            if name and not any(re.fullmatch(each, name) for each in patterns)
        ]  # fmt: skip
        for name in dict.fromkeys(left):
            what = f"that {name!r}, which boots, is an image, and where its version is"
            mark = "<<running.version=…>> where the device shows the version that is in its name"
            self.unsettled.append(Unsettled(what, mark))
        return tuple(patterns)


def _image_pattern(name: str, version: str) -> str:
    """A pattern of image names.

    >>> _image_pattern("ox40-full-7.4.2.img", "7.4.2")
    '(?P<family>ox40)-(?P<variant>full)-(?P<version>[0-9][0-9A-Za-z.]*)\\\\.img'
    """
    front, _, behind = name.partition(version)
    signs = "".join(sorted({"-", "_", "+"} & set(version)))
    text = f"(?P<version>[0-9][0-9A-Za-z.{signs}]*)"
    words = re.fullmatch(r"(\w+)([-_.])([A-Za-z]+)([-_.])", front)
    if words is not None:
        family, between, variant, end = map(escaped, words.groups())
        front = f"(?P<family>{family}){between}(?P<variant>{variant}){end}"
        return f"{front}{text}{escaped(behind)}"
    core = front.rstrip("-_.")
    family = f"(?P<family>{escaped(core)})" if core else ""
    return f"{family}{escaped(front[len(core) :])}{text}{escaped(behind)}"


def _algorithm_of(typed: tuple[str, ...], rows: FoundRows) -> tuple[Algorithm, ...]:
    """The algorithms that a question for an image tells."""
    if rows.fills not in ("digest", "file") or "{path}" not in " ".join(typed):
        return ()
    told = {field for field in rows.columns.values() if field in LENGTHS}
    return tuple(each for each in STRONGEST_FIRST if each in told)


def _around(line: str) -> str:
    return " *" + " +".join(escaped(word) for word in line.split())


def _name(typed: tuple[str, ...]) -> str:
    words = [word for step in typed for word in re.sub(r"\{\w+\}:?", "", step).split()]
    return " ".join(words) or "question"


def _shown(typed: Sequence[str]) -> str:
    return ", then ".join(typed)


def _short(fills: Fills, field: str) -> str:
    """The shortest way to name a field."""
    last = field.rpartition(".")[2]
    other = any(
        last in (each, each.rpartition(".")[2])
        for kind, fields in FIELDS.items()
        for each in fields
        if kind != fills
    )
    return f"{fills}.{last}" if other and last not in ("live", "saved") else field


def _named_once(questions: Sequence[Question]) -> list[Question]:
    """Questions of the same words with what each fills in the name."""
    from msgspec.structs import replace

    names = [question.name for question in questions]
    found: list[Question] = []
    for question in questions:
        name = question.name
        if names.count(name) > 1:
            name = f"{name} ({question.fills})"
        number = sum(each.name == name or each.name.startswith(f"{name} #") for each in found)
        found.append(replace(question, name=f"{name} #{number + 1}" if number else name))
    return found


__all__ = ["SIZES", "Lesson", "SessionError", "Unsettled", "learn"]
