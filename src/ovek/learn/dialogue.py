"""A session taken apart: the prompt, what was typed at it, what was answered, and the pager."""

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence

from msgspec import Struct

from ovek.files.marks import SPECIAL, Mark, MarkError, unmarked
from ovek.model.digest import LENGTHS
from ovek.model.pattern import compiled
from ovek.sources.clean import plain
from ovek.sources.menus import MenuPosition, Step, steps_of, way

_END = re.compile(r"[>#$%:?\])=»] ?")
_HOST = re.compile(r"[A-Za-z0-9][\w.-]*")
_SUB = re.compile(r"(?P<prompt>[A-Za-z][^\r\n?]{1,60}\? ?)(?P<typed>\S{1,60})")
# What waits after a screenful says so in these words, alone in its line.
_PAGER = re.compile(
    r"(?im)^[ \t]*((?:[-<(\[*.]{1,8} ?)?[^\n\r\x08<>]{0,60}?"
    r"\b(?:more|any key|blank|space ?bar|space|enter for|next page|press|continue)\b"
    r"[^\n\r\x08]{0,60}?)[ \t]*(?=[\r\x08]|$)"
)
_LONGEST_PROMPT = 80
_MOST_PROMPTS = 60


class Exchange(Struct, frozen=True):
    """One question and its answer: what was typed, step by step, and the lines from `start`.

    `lines` are what was answered, without what stands around every answer; `at` is the number of
    each in the session, from 0. `marks` are those of these lines, their line counted in `lines`;
    `told` are those in what was typed.
    """

    typed: tuple[str, ...]
    lines: tuple[str, ...]
    at: tuple[int, ...]
    marks: tuple[Mark, ...]
    session: int = 0
    told: tuple[Mark, ...] = ()


class Dialogue(Struct, frozen=True, kw_only=True):
    """What a session was found to be. `prompts` are patterns, `around` lines of every answer.

    `names` are what the device is called in its prompts, `told` the marks in what was typed.
    """

    prompts: tuple[str, ...]
    names: tuple[str, ...]
    pager: str | None
    around: tuple[str, ...]
    exchanges: tuple[Exchange, ...]
    last: str | None
    menus: bool
    leave: str | None = None
    errors: tuple[str, ...] = ()
    told: tuple[Mark, ...] = ()
    problems: tuple[str, ...] = ()


class NoDialogueError(ValueError):
    """A session in which nobody seems to have typed anything."""


def taken_apart(raw: str, session: int) -> Dialogue:
    """Find who typed what, and what was answered. Raises MarkError, NoDialogueError."""
    pager = _pager(raw)
    text, marks = unmarked(plain(raw, compiled(pager) if pager is not None else None))
    lines = [line.rstrip() for line in text.split("\n")]
    marks = [each for mark in marks for each in (mark, *_wrapped(mark, lines))]
    typed_at = _typed_at(lines, marks)
    if not typed_at:
        raise NoDialogueError
    return _Taken(lines, marks, typed_at, pager, session).dialogue()


def _wrapped(mark: Mark, lines: Sequence[str]) -> Iterator[Mark]:
    """The rest of a digest that goes on in the lines below its mark."""
    lengths = {str(algorithm): length for algorithm, length in LENGTHS.items()}
    length = lengths.get(mark.name.rpartition(".")[2], 0)
    known = len(mark.value)
    for number in range(mark.line + 1, len(lines)):
        rest = lines[number].strip()
        if known + len(rest) > length or not re.fullmatch(r"[0-9a-fA-F]+", rest):
            return
        start = lines[number].index(rest)
        yield Mark(number, start, start + len(rest), mark.name, rest, mark.means)
        known += len(rest)


def _pager(raw: str) -> str | None:
    """What waits for a key after a screenful, as a pattern; None: nothing seems to."""
    found = re.findall(r"<<pager=([^\n]*?)>>", raw)
    if found:
        return _worded(found[0])
    seen = Counter(match[1].strip() for match in _PAGER.finditer(plain_ends(raw)))
    bracketed = [text for text, _ in seen.most_common() if re.match(r"[-<(\[*.]", text)]
    return _worded(bracketed[0]) if bracketed else None


def _worded(text: str) -> str:
    """A pattern of a pager's text, whatever numbers stand in it."""
    return " *" + re.sub(r"\d+", r"\\d+", escaped(text.strip()))


def plain_ends(raw: str) -> str:
    """A text with one kind of line ends, its escapes and backspaces still there."""
    return re.sub(r"\x1b\[[0-?]*[ -/]*[@-~]", "", raw).replace("\r\n", "\n")


def escaped(text: str) -> str:
    """A text as a readable pattern: only what means something is escaped."""
    return re.sub(r"([\\.^$*+?{}\[\]|()])", r"\\\1", text)


def escaped_sentence(text: str, typed: set[str]) -> str:
    """A text as a pattern, whatever in it was typed before, or holds a digit or a quote."""
    return " +".join(
        r"\S+" if re.search(r"[\d'\"]", word) or word.strip(".,:;?!()") in typed else escaped(word)
        for word in text.split()
    )


def _typed_at(lines: Sequence[str], marks: Sequence[Mark]) -> list[tuple[int, str, str]]:
    """Each line at which something was typed: its number, the prompt, and what was typed."""
    parts = [mark for mark in marks if mark.name == "ask"]
    prompts = {lines[mark.line][: mark.start] for mark in parts}
    if not any(prompts):
        best = _prompt(lines, marks)
        prompts = {best} if best is not None else set()
    prompts |= {other for prompt in set(prompts) for other in _others(prompt, lines)}
    found = [
        (number, prompt, line[len(prompt) :].strip())
        for number, line in enumerate(lines)
        for prompt in [_fitting(line, prompts)]
        if prompt is not None
    ]
    if parts or not found or not _choosing(found):
        return found
    known = {number for number, _, _ in found}
    first = found[0][0]
    below = [
        (number, match["prompt"], match["typed"])
        for number, line in enumerate(lines)
        if number > first and number not in known and (match := _SUB.fullmatch(line)) is not None
    ]
    return sorted([*found, *below])


def _others(prompt: str, lines: Sequence[str]) -> set[str]:
    """Prompts of the same device that end in another sign, as before it asks who one is."""
    if len(prompt.split()) > 1 or not re.fullmatch(r"\S*[\w.)-][>#$%] ?", prompt):
        return set()
    core = prompt.rstrip()[:-1]
    like = re.compile(re.escape(core) + r"[>#$%] ?")
    return {match[0] for line in lines if (match := like.match(line)) is not None} - {prompt}


def _fitting(line: str, prompts: Iterable[str]) -> str | None:
    fits = [each for each in prompts if line.startswith(each) or line == each.rstrip()]
    return max(fits, key=len) if fits else None


def _choosing(found: Sequence[tuple[int, str, str]]) -> bool:
    """Whether what is typed are choices of a menu: numbers and single signs."""
    typed = [text for _, _, text in found if text]
    chosen = sum(re.fullmatch(r"\d{1,2}|\S", text) is not None for text in typed)
    return bool(typed) and chosen * 2 >= len(typed)


def _prompt(lines: Sequence[str], marks: Iterable[Mark]) -> str | None:
    """What stands before the most lines that were typed; None where nothing does."""
    seen: Counter[str] = Counter()
    marked: dict[int, int] = {}  # where the first value of a line starts, which is no prompt's
    for mark in marks:
        if mark.name not in ("ask", "leave"):
            marked[mark.line] = min(mark.start, marked.get(mark.line, mark.start))
    none = tuple(
        {
            lines[number][: end.end()]
            for number, start in marked.items()
            for end in _END.finditer(lines[number][:_LONGEST_PROMPT])
            if start <= end.end()
        }
    )
    for line in lines:
        for end in _END.finditer(line[:_LONGEST_PROMPT]):
            if line[: end.end()].strip() and not line[: end.end()].startswith(none):
                seen[line[: end.end()]] += 1
    last = next((line for line in reversed(lines) if line.strip()), "")

    def worth(prompt: str) -> tuple[float, int]:
        # A session ends at its prompt, or with what was typed there at last.
        ends = 50 * (last == prompt.rstrip()) + 3 * last.startswith(prompt)
        rests = {line[len(prompt) :] for line in lines if line.startswith(prompt)}
        # What stands farther in is a row of an answer, unless nothing else may be it.
        inward = 1000 * prompt.startswith(" ")
        return seen[prompt] + ends + (len(rests) > 1) - inward, len(prompt)

    fits = [
        each
        for each, times in seen.most_common(_MOST_PROMPTS)
        if times > 1 or (last == each.rstrip() and each != last)
    ]
    return max(fits, key=worth) if fits else None


class _Taken:
    """One session while it is taken apart."""

    def __init__(
        self,
        lines: Sequence[str],
        marks: Sequence[Mark],
        typed_at: Sequence[tuple[int, str, str]],
        pager: str | None,
        session: int,
    ) -> None:
        self.lines, self.marks, self.typed_at = lines, marks, typed_at
        self.pager, self.session = pager, session
        self.menus = _choosing(typed_at)
        self.problems = list[str]()

    def dialogue(self) -> Dialogue:
        steps, outputs = self._steps()
        around = self._around(steps, outputs)
        exchanges = []
        for at, step in enumerate(steps):
            if not step.typed:
                continue
            typed = self._whole(steps, at)
            if typed is not None:
                exchanges.append(self._exchange(typed, outputs[at], around, self._told(at)))
        last = self.typed_at[-1]
        asked_at = {number for number, _, _ in self.typed_at}
        parts = [mark for mark in self.marks if mark.line in asked_at and mark.name != "ask"]
        errors = [
            escaped_sentence(mark.value, self._typed_before(mark.line))
            for mark in self.marks
            if mark.name == "error"
        ]
        return Dialogue(
            prompts=tuple(dict.fromkeys(_pattern(p, self.menus) for _, p, _ in self.typed_at)),
            names=tuple(
                dict.fromkeys(n for _, p, _ in self.typed_at for n in _names(p, self.menus))
            ),
            pager=self.pager,
            around=tuple(around),
            exchanges=tuple(exchanges),
            last=last[2] or None,
            menus=self.menus,
            leave=next((mark.value for mark in parts if mark.name == "leave"), None),
            errors=tuple(dict.fromkeys(f"^{each}" for each in errors)),
            told=tuple(mark for mark in parts if mark.name != "leave"),
            problems=tuple(dict.fromkeys(self.problems)),
        )

    def _typed_before(self, line: int) -> set[str]:
        """The words of what was typed before a line."""
        typed = [text for number, _, text in self.typed_at if number < line]
        return set(typed[-1].split()) if typed else set()

    def _steps(self) -> tuple[list[Step], list[range]]:
        """Every line typed, from where and to where; and the numbers of the lines that came."""
        ends = [*(number for number, _, _ in self.typed_at[1:]), len(self.lines)]
        outputs = [
            range(number + 1, end) for (number, _, _), end in zip(self.typed_at, ends, strict=True)
        ]
        steps = steps_of(self.lines, self.typed_at, menus=self.menus)
        return steps, outputs

    def _around(self, steps: Sequence[Step], outputs: Sequence[range]) -> list[str]:
        """The lines that end every output after which the device stands at one place."""
        if not self.menus:
            return []
        ending: dict[MenuPosition, list[Sequence[str]]] = {}
        before = self.lines[: self.typed_at[0][0]]
        ending.setdefault(steps[0].before, []).append(before)
        for step in steps:
            if step.after is not None:
                ending.setdefault(step.after, []).append(step.lines)
        found: dict[str, None] = {}
        for place, outputs_there in ending.items():
            if not place.choices:
                continue
            common = _common_end(outputs_there)
            least = len(place.choices)
            if len(outputs_there) == 1:  # its choices, and the title above them
                shown = list(outputs_there[0])
                while shown and not shown[-1].strip():
                    shown.pop()
                first = len(shown) - least
                common = shown[first - 1 if first and shown[first - 1].strip() else first :]
            found.update(dict.fromkeys(line.strip() for line in common if line.strip()))
        return list(found)

    def _whole(self, steps: Sequence[Step], at: int) -> tuple[str, ...] | None:
        """Everything to type for one output: the way there, and the way back."""
        step, home = steps[at], steps[0].before
        if not self.menus:
            return (step.typed,)
        there = way(steps, home, step.before)
        if step.after is None or there is None:
            return (step.typed,) if step.before == home else None
        back = way(steps, step.after, home)
        if back is None:
            self.problems.append(
                f"after {step.typed!r} the session never came back to its first menu"
            )
            return None
        return (*there, step.typed, *back)

    def _told(self, at: int) -> tuple[Mark, ...]:
        """The marks in what was typed at a step."""
        number = self.typed_at[at][0]
        return tuple(m for m in self.marks if m.line == number and m.name not in SPECIAL)

    def _exchange(
        self,
        typed: tuple[str, ...],
        output: range,
        around: Sequence[str],
        told: tuple[Mark, ...],
    ) -> Exchange:
        left = {" ".join(line.split()) for line in around}
        numbers = [at for at in output if " ".join(self.lines[at].split()) not in left]
        place = {number: at for at, number in enumerate(numbers)}
        marks = tuple(
            Mark(place[mark.line], mark.start, mark.end, mark.name, mark.value, mark.means)
            for mark in self.marks
            if mark.line in place and mark.name not in ("ask", "pager")
        )
        lines = tuple(self.lines[at] for at in numbers)
        return Exchange(typed, lines, tuple(numbers), marks, self.session, told)


def _common_end(outputs: Sequence[Sequence[str]]) -> list[str]:
    common = list[str]()
    for lines in zip(*(reversed(each) for each in outputs), strict=False):
        if len(set(lines)) > 1:
            break
        common.append(lines[0])
    return common[::-1]


def _names(prompt: str, menus: bool) -> list[str]:
    """The name of the device in its prompt; none in the prompt of a menu, which is a sentence."""
    found = _HOST.search(prompt)
    return [] if found is None or menus or len(prompt.split()) > 3 else [found[0]]


def _pattern(prompt: str, menus: bool) -> str:
    """A prompt as a pattern, whatever the name of the device."""
    for name in _names(prompt, menus):
        front, _, behind = prompt.partition(name)
        return escaped(front) + "[A-Za-z0-9._-]+" + escaped(behind)
    return escaped(prompt)


__all__ = ["Dialogue", "Exchange", "MarkError", "NoDialogueError", "escaped", "taken_apart"]
