"""A sheet as a person writes one: TOML, its templates in readable form.

What a session cannot tell stands above a line and is never written again; what is below is written
anew each time that something is learned, unless somebody changed it by hand.
"""

import re
from collections.abc import Iterable, Mapping
from hashlib import sha256

import tomlkit
from tomlkit.items import SingleKey

from ovek.learn.choices import choices_of
from ovek.learn.lesson import Lesson
from ovek.model.sheet import Question

_LINE = "# --- learned from marked sessions; rewritten by `ovek sheet learn`. "
_SEAL = re.compile(rf"(?m)^{re.escape(_LINE)}(?P<seal>[0-9a-f]{{16}})\n")


def parts_of(text: str) -> tuple[str, str, bool] | None:
    """What a person may change, what was learned, and whether that is as it was written.

    None where nothing of it was learned.
    """
    found = _SEAL.search(text)
    if found is None:
        return None
    learned = text[found.end() :]
    return text[: found.start()], learned, _seal(learned) == found["seal"]


def _seal(learned: str) -> str:
    return sha256(learned.encode()).hexdigest()[:16]


def whole(head: str, learned: str) -> str:
    """The text of a sheet of its two parts."""
    return f"{head}{_LINE}{_seal(learned)}\n{learned}"


def head_of(
    name: str, lesson: Lesson, layout: str | None = None, chosen: Mapping[str, str] = {}
) -> str:
    """The part that a person completes: how it starts, and how its images are named.

    `chosen` are the answers to what no session tells, by their key.
    """
    layout = layout or lesson.layout
    lines = [
        "# A learned sheet. The part above the dashed line is yours: complete it.",
        'format = "ovek.sheet/1"',
        f"name = {_text(name)}",
        f"title = {_text(name)}",
        'vendor = "not told"',
        'models = ["*"]',
        "",
        "[boot]                        # a session cannot show boot behaviour: see the manual",
        f"layout = {_text(layout)}",
    ]
    for choice in choices_of(lesson, layout, chosen):
        lines += [f"# {choice.asks} {' or '.join(choice.follows)}"]
        lines += [f"{choice.key} = {_text(choice.value)}"]
    if layout == "files":
        lines.append(
            'mode = "listed"                # the boot mode, if the device has no setting for it'
        )
    lines += ["", "[images]"]
    names = ",\n  ".join(_text(each) for each in lesson.image_names)
    lines.append(f"names = [\n  {names},\n]" if names else "names = []")
    lines += [
        "",
        "[roles]                        # file types: a file without a role is never offered",
        'leftover = []                  # e.g. "*.part"',
        'log = []                       # e.g. "*.log"',
        "",
        "",
    ]
    return "\n".join(lines)


def learned_of(lesson: Lesson) -> str:
    """The part that was learned: how it is read."""
    lines = ["[reading]", f"prompt = {_text(lesson.prompt)}"]
    if lesson.pager is not None:
        shows, answer = _text(lesson.pager.shows), _text(lesson.pager.answer)
        lines.append(f"pager = {{ shows = {shows}, answer = {answer} }}")
    if lesson.errors:
        lines.append(f"errors = {_list(lesson.errors)}")
    if lesson.leave is not None:
        lines.append(f"leave = {_text(lesson.leave)}")
    if lesson.digests:
        lines.append(f"digests = {_list(lesson.digests)}")
    if lesson.around:
        text = "".join(f"  {_text(each)},\n" for each in lesson.around)
        lines.append(f"around = [                     # menus: they mean nothing\n{text}]")
    for question in lesson.questions:
        lines += ["", *_question(question)]
    return "\n".join([*lines, ""])


def _question(question: Question) -> list[str]:
    lines = [
        "[[reading.question]]",
        f"name = {_text(question.name)}",
        f"ask = {_text(question.ask)}",
    ]
    if question.then:
        lines.append(f"then = {_list(question.then)}")
    if question.each != "device":
        lines.append(f"each = {_text(question.each)}")
    lines.append(f"fills = {_text(question.fills)}")
    if question.digests:
        lines.append(f"digests = {_list(question.digests)}")
    lines.append(f"template = {_block(question.template or '')}")
    lines += [f"columns.{column} = {_text(field)}" for column, field in question.columns.items()]
    if question.fixed:
        lines.append(f"fixed = {_table(question.fixed)}")
    if question.units:
        lines.append(f"units = {_table(question.units)}")
    for field, way in question.dates.items():
        lines.append(f"dates.{_key(field)} = {_text(str(way))}")
    for field, words in question.words.items():
        lines.append(f"words.{_key(field)} = {_table(words)}")
    if question.none:
        lines.append(f"none = {_list(question.none)}")
    if question.numbered is not None:
        listed, fields = _text(question.numbered.list), _list(question.numbered.fields)
        lines.append(f"numbered = {{ list = {listed}, fields = {fields} }}")
    return lines


def _text(text: str) -> str:
    """A string of TOML 1.0; a literal one where that is easier to read."""
    literal = "\\" in text and "'" not in text and text.isprintable()
    return tomlkit.string(text, literal=literal).as_string()


def _block(template: str) -> str:
    if "'''" in template or any(not c.isprintable() and c != "\n" for c in template):
        return tomlkit.string(template).as_string()
    return tomlkit.string(f"\n{template}", literal=True, multiline=True).as_string()


def _list(texts: Iterable[str]) -> str:
    return f"[{', '.join(map(_text, texts))}]"


def _table(pairs: Mapping[str, str]) -> str:
    return f"{{ {', '.join(f'{_key(key)} = {_text(value)}' for key, value in pairs.items())} }}"


def _key(name: str) -> str:
    return SingleKey(name).as_string()
