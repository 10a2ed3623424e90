"""A sheet describes one kind of device: `ovek.sheet/1`."""

import re
from collections import Counter
from collections.abc import Iterable, Iterator
from difflib import get_close_matches
from typing import TYPE_CHECKING, Annotated, Literal

from msgspec import Meta, Struct, field

from ovek.model.digest import Algorithm
from ovek.model.fields import FIELDS as FIELDS
from ovek.model.fields import Fills as Fills
from ovek.model.filesystem import can_read
from ovek.model.fleet import Way
from ovek.model.pattern import Pattern, PatternError, compiled
from ovek.model.snapshot import BootMode, Name, Volume

FORMAT = "ovek.sheet/1"

Fallback = Literal["first-found", "other-bank", "none"]
# Every boot layout, and the fallbacks that its loader may have. The meaning of each is the module
# of its name in `ovek.engine.layouts`.
LAYOUTS: dict[str, tuple[Fallback, ...]] = {
    "files": ("first-found", "none"),
    "banks": ("other-bank", "none"),
    "paired": ("other-bank", "none"),
}
if TYPE_CHECKING:
    Layout = str
else:
    Layout = Literal[tuple(LAYOUTS)]
OnBadImage = Literal["next", "halt"]
UnsavedCovers = Literal["configuration", "boot-settings", "both"]
Role = Literal[
    "system-image",
    "package",
    "set-file",
    "component-image",
    "archive",
    "configuration",
    "licence",
    "key",
    "crash-file",
    "log",
    "leftover",
    "unknown",
]
RoleGlobs = tuple[Name, ...]


class BootScheme(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """How this kind of device starts.

    `mode` is the boot mode of a device that has no setting for it. `default_volume` is where the
    loader looks by itself; None: the first volume. `reads` are the file systems that its volumes
    can be read in; None: not known. `unsaved_covers` is what a device speaks of where it says that
    changes are not saved; None: not known, and counted as not of its boot settings.
    """

    layout: Layout
    fallback: Fallback
    on_bad_image: OnBadImage
    mode: BootMode | None = None
    default_volume: str | None = None
    reads: tuple[Name, ...] | None = None
    unsaved_covers: UnsavedCovers | None = None

    def can_read(self, filesystem: str | None) -> bool:
        """Whether a volume of this file system may be read, as far as is known."""
        return self.reads is None or filesystem is None or can_read(self.reads, filesystem)

    def holds_nothing(self, volume: Volume) -> bool:
        """Whether the device surely cannot read a volume, so that nothing on it counts."""
        return volume.state in ("absent", "unreadable") or not self.can_read(volume.filesystem)

    def __post_init__(self) -> None:
        if self.fallback not in LAYOUTS[self.layout]:
            able = " or ".join(name for name, known in LAYOUTS.items() if self.fallback in known)
            raise ValueError(f"fallback {self.fallback} needs the layout {able}")


class Images(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """How image names are built: regular expressions with the fields family, variant, version."""

    names: tuple[Name, ...] = ()

    def __post_init__(self) -> None:
        for name in self.names:
            _compiled(name, {"family", "variant", "version"})


class VersionScheme(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """A version scheme where the usual order is wrong: named fields, compared in turn."""

    scheme: str | None = None

    def __post_init__(self) -> None:
        if self.scheme is not None and not _compiled(self.scheme, None).groupindex:
            raise ValueError(f"the scheme {self.scheme!r} has no named field to compare")

    @property
    def pattern(self) -> Pattern | None:
        """The scheme, compiled; None where the usual order holds."""
        return None if self.scheme is None else compiled(self.scheme)


class Versions(VersionScheme, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """How system images are ordered by version, and how `components` are, which have their own."""

    components: VersionScheme = VersionScheme()


class Capacity(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """Room and time that the device takes. `cluster` in bytes counts where the volume has none.

    `installing` is what it needs besides while an image is installed, in bytes.
    `unpacked` is what an image takes besides itself while it is installed, as a multiple of its
    size; it counts where the release does not say so in bytes. The rates are in bytes a second,
    of making a digest and of a transfer; they serve time estimates and limits.
    """

    cluster: Annotated[int, Meta(ge=1)] | None = None
    installing: Annotated[int, Meta(ge=0)] | None = None
    unpacked: Annotated[float, Meta(ge=0, le=100)] | None = None
    digest_rate: Annotated[int, Meta(ge=1)] | None = None
    transfer_rate: Annotated[int, Meta(ge=1)] | None = None


Each = Literal["device", "member", "volume", "image"]
Parse = Literal["grub-env", "u-boot-env", "os-release"]


SIZES = frozenset({"hardware.memory", "capacity", "free", "cluster", "size"})
TIMES = frozenset({"modified", "config.backed_up_at", "clock", "reload_at"})
TRUTHS = frozenset(
    {
        "config.unsaved_changes",
        "ignores_saved_config.live",
        "ignores_saved_config.saved",
        "removable",
    }
)
PLACEHOLDERS: dict[Each, frozenset[str]] = {
    "device": frozenset(),
    "member": frozenset({"member"}),
    "volume": frozenset({"member", "volume"}),
    "image": frozenset({"member", "volume", "path", "algorithm"}),
}
# How a TextFSM template names a column.
_VALUE = re.compile(r"^Value (?:\S+ )??(\w+) \(", re.MULTILINE)
_PLACEHOLDER = re.compile(r"\{(\w*)\}")


class Pager(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """How the device waits after a screenful (a regular expression), and the key that goes on."""

    shows: Name
    answer: str = " "

    def __post_init__(self) -> None:
        _compiled(self.shows, None)


class Numbered(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """A choice that an answer tells by number, after a list that says what each number is.

    `list` is a regular expression with the fields number and value, which fits the lines of the
    list; `fields` are those whose value is such a number.
    """

    list: Name
    fields: tuple[Name, ...]

    def __post_init__(self) -> None:
        names = set(_compiled(self.list, {"number", "value"}).groupindex)
        if names != {"number", "value"}:
            raise ValueError(f"the list {self.list!r} needs the fields number and value")


class Question(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One thing to ask, and how its answer is understood.

    `ask` is sent as it stands, its {placeholders} filled; `each` is what it is asked for. `then`
    are lines that are typed after it, one at each prompt that follows, where menus lead to the
    answer; the last one leads back to where the first was typed. A TextFSM `template` turns the
    answer into rows, or `parse` reads an open format. `columns` maps a column to a field of what it
    `fills` (a column of the field's own name needs no entry);
    `fixed` adds fields, `units` and `dates` say how sizes and times are written (a list of ways is
    tried in turn), `words` maps the device's words, and a value in `none` is known to be nothing.
    `cut_at` is the length at which the answer cuts the names of files; `digests` are the algorithms
    of a question for an image that is not asked with {algorithm}. A row that names no member
    is one of the member that was asked for, or of the first; `for_all` makes it one of all members.
    """

    name: Name
    ask: Name
    then: tuple[str, ...] = ()
    fills: Fills
    each: Each = "device"
    template: str | None = None
    parse: Parse | None = None
    columns: dict[str, str] = {}
    fixed: dict[str, str] = {}
    units: dict[str, str] = {}
    dates: dict[str, str | tuple[Name, ...]] = {}
    words: dict[str, dict[str, str]] = {}
    none: tuple[str, ...] = ()
    cut_at: Annotated[int, Meta(ge=1, le=4096)] | None = None
    digests: tuple[Algorithm, ...] = ()
    for_all: Literal["members"] | None = None
    numbered: Numbered | None = None

    def __post_init__(self) -> None:
        for _, wrong in self.mistakes():
            raise ValueError(wrong)

    def mistakes(self) -> Iterator[tuple[str, str]]:
        """Go through what cannot be: the key that is wrong, and what is wrong with it."""
        if (self.template is None) == (self.parse is None):
            text = f"the question {self.name!r} needs exactly one of: template, parse"
            yield "template", text
        for name in _PLACEHOLDER.findall(self.typed):
            if name not in PLACEHOLDERS[self.each]:
                known = ", ".join(sorted(PLACEHOLDERS[self.each])) or "none"
                yield (
                    "ask",
                    f"the question {self.name!r} asks with {{{name}}}; asked for each "
                    f"{self.each} it may use: {known}",
                )
        fields = FIELDS[self.fills]
        for key, names in self._used():
            for name in sorted(set(names) - fields):
                near = get_close_matches(name, sorted(fields), n=1)
                meant = f" (did you mean {near[0]!r}?)" if near else ""
                yield (
                    key,
                    f"the question {self.name!r} fills the field {name!r}{meant}; "
                    f"a {self.fills} has: {', '.join(sorted(fields))}",
                )
        if self.cut_at is not None and self.fills != "file":
            yield "cut_at", f"the question {self.name!r} fills no file, so it has no cut_at"
        if self.for_all is not None and "member" not in fields:
            yield "for_all", f"the question {self.name!r} fills a device, so it has no for_all"
        if any("\n" in line or "\r" in line for line in (self.ask, *self.then)):
            yield "ask", f"the command of the question {self.name!r} contains a line end"

    def _used(self) -> Iterator[tuple[str, Iterable[str]]]:
        """The fields that each of its keys names."""
        yield "columns", self.columns.values()
        yield "fixed", self.fixed
        yield "units", self.units
        yield "dates", self.dates
        yield "words", self.words
        yield "numbered", self.numbered.fields if self.numbered is not None else ()

    @property
    def typed(self) -> str:
        """All lines that are typed, an end of line between them."""
        return "\n".join((self.ask, *self.then))

    @property
    def fields(self) -> frozenset[str]:
        """The fields that its answer can fill."""
        # An open format has settings of its own: only those that a column names are facts here.
        named = _VALUE.findall(self.template or "") or self.columns
        columns = {self.columns.get(name, name.lower()) for name in named}
        return frozenset({*columns, *self.fixed}) & FIELDS[self.fills]


# What the description of a device may tell, and the field that it is.
DESCRIBED = {
    "model": "hardware.model",
    "revision": "hardware.revision",
    "serial": "hardware.serial",
    "version": "running.version",
    "variant": "running.variant",
}


class SftpVolume(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """A folder of the device that SFTP lists as a volume."""

    volume: Name
    path: Name
    member: str = "1"


class Loader(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """How a device is read that stands at the prompt of its boot loader, in a saved session."""

    prompt: Name
    pager: Pager | None = None
    errors: tuple[Name, ...] = ()
    question: tuple[Question, ...]

    def __post_init__(self) -> None:
        for text in (self.prompt, *self.errors):
            _compiled(text, None)


class Reading(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """How this kind of device is read.

    `access` methods are taken where the fleet file tells none for a device.
    `by` is a terminal dialogue or a program a question (`exec`). `prompt` and `errors` are regular
    expressions; an answer that fits one of `errors` is no answer. `leave` is typed at the end.
    `digests` are the algorithms that the device can work out, and `digest_program` the command
    that does it over an exec channel where files are listed over SFTP, `{path}` filled in.
    `slots` makes banks of files: the bank's name, and globs of the places that it is made of.
    `around` are lines (regular expressions) that stand around every answer and mean nothing, as a
    menu does. `storage` maps what SNMP calls a storage to a volume's name; others are none then.
    `described` is a regular expression for what SNMP's system table says of the device, with the
    fields model, revision, serial, version and variant. `loader` is how it is read at its boot
    loader.
    """

    access: tuple[Way, ...] = ()
    by: Literal["terminal", "exec"] = "terminal"
    prompt: str = r"[^\r\n]{1,80}[>#$%] ?"
    pager: Pager | None = None
    errors: tuple[Name, ...] = ()
    leave: str | None = None
    digests: tuple[Algorithm, ...] = ()
    digest_program: dict[Algorithm, Name] = {}
    sftp: tuple[SftpVolume, ...] = ()
    slots: dict[Name, tuple[Name, ...]] = {}
    around: tuple[Name, ...] = ()
    storage: dict[Name, Name] = {}
    described: Name | None = None
    question: tuple[Question, ...] = ()
    loader: Loader | None = None

    @property
    def at_loader(self) -> "Reading | None":
        """How it is read at its boot loader; None: there is no way."""
        loader = self.loader
        if loader is None:
            return None
        return Reading(
            prompt=loader.prompt,
            pager=loader.pager,
            errors=loader.errors,
            digests=self.digests,
            question=loader.question,
        )

    @property
    def all_questions(self) -> tuple[Question, ...]:
        """Its questions, and those that are put at the boot loader."""
        return (*self.question, *(self.loader.question if self.loader is not None else ()))

    def __post_init__(self) -> None:
        for text in (self.prompt, *self.errors, *self.around):
            _compiled(text, None)
        if self.described is not None:
            _compiled(self.described, set(DESCRIBED))
        for globs in self.slots.values():
            for glob in globs:
                if ":" not in glob:
                    raise ValueError(f"the slot's glob {glob!r} is not a place; use volume:path")
        names = Counter(question.name for question in self.all_questions)
        for name, times in names.items():
            if times > 1:
                raise ValueError(f"the question {name!r} is listed twice; name each once")


# What a person types a line for, every change that a person makes, and what the line may name; a
# line that is not about one (of a bank, say) leaves it empty.
_FILE = ("member", "volume", "path")
WORDING: dict[str, tuple[str, ...]] = {
    "back-up": (*_FILE, "bank"),
    "back-up-config": (),
    "boot-by-hand": (*_FILE, "bank"),
    "check-bank": ("member", "bank", "algorithm", "digest"),
    "check-digest": (*_FILE, "algorithm", "digest"),
    "clear-once": ("member",),
    "commit": ("member",),
    "copy": (*_FILE, "file", "bank"),
    "copy-bank": ("member", "source", "bank"),
    "copy-within": (*_FILE, "source", "file"),
    "delete": _FILE,
    "heed-config": ("member",),
    "load-component": ("member", "component", "slot", "version", "file"),
    "reload": (),
    "save": ("member",),
    "save-config": (),
    "set-boot": (*_FILE, "bank"),
    "set-component": (*_FILE, "component", "slot"),
    "set-default": ("member", "bank"),
    "set-mode": ("member", "mode"),
    "set-once": (*_FILE, "bank"),
    "set-order": ("member", "order"),
    "write-bank": ("member", "bank", "file"),
}
if TYPE_CHECKING:
    Worded = str
else:
    Worded = Literal[tuple(WORDING)]


class Sheet(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One kind of device. `roles` maps a role to globs; the first role that fits wins.

    `wording` is the line that a person types for a step of a plan. Ovek shows it in a checklist
    and never sends it: only what `reading` lists is sent.
    """

    format: Literal["ovek.sheet/1"]
    name: Name
    title: str
    vendor: str
    models: RoleGlobs
    boot: BootScheme
    images: Images = Images()
    roles: dict[Role, RoleGlobs] = {}
    versions: Versions = Versions()
    capacity: Capacity = Capacity()
    reading: Reading = field(default_factory=Reading)
    wording: dict[Worded, Name] = {}

    def __post_init__(self) -> None:
        for kind, line in self.wording.items():
            if not line.isprintable():
                raise ValueError(f"the wording of {kind} is {line!r}; use one line of plain text")
            for name in _PLACEHOLDER.findall(line):
                if name not in WORDING[kind]:
                    may = ", ".join(f"{{{word}}}" for word in WORDING[kind]) or "none"
                    raise ValueError(f"the wording of {kind} has {{{name}}}; it may use: {may}")

    def mode_word(self, mode: BootMode) -> str:
        """What this kind of device calls a boot mode."""
        for question in self.reading.question:
            for name in ("mode.live", "mode.saved"):
                for word, means in question.words.get(name, {}).items():
                    if means == mode:
                        return word
        return mode

    def worded(self, kind: Worded, words: dict[str, str]) -> str | None:
        """The line that a person types for a step, its words filled in; None: the sheet has none.

        Braces that hold no word stay as they are.
        """
        line = self.wording.get(kind)
        return line and _PLACEHOLDER.sub(lambda found: words.get(found[1], ""), line).rstrip()

    def asks(self) -> dict[str, str]:
        """The facts that the sheet asks for, and the first question of each.

        A fact is a field of what a question fills, `volume.free`; one of a device is by itself.
        """
        found: dict[str, str] = {}
        for question in self.reading.question:
            front = "" if question.fills == "device" else f"{question.fills}."
            for name in sorted(question.fields):
                found.setdefault(front + name, question.name)
        return found


def _compiled(text: str, fields: set[str] | None) -> Pattern:
    try:
        pattern = compiled(text)
    except PatternError as error:
        raise ValueError(f"{text!r} is not a regular expression of RE2: {error}") from None
    for name in pattern.groupindex:
        if fields is not None and name not in fields:
            raise ValueError(f"{text!r} has the field {name!r}; known: {', '.join(sorted(fields))}")
    return pattern
