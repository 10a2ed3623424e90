"""What a file's name says by the sheet: its role, and the version of an image.

A glob without a slash fits the file's own name in any folder; one with a slash fits the whole
path. `*` stands for any characters, slashes too. Case counts, except on a case-blind volume.
"""

import re
from collections.abc import Callable, Iterable, Mapping, Sequence, Set
from fnmatch import translate
from functools import cached_property, lru_cache

from msgspec import Struct

from ovek.model.pattern import beginnings, compiled, lines_that_fit
from ovek.model.sheet import Role, Sheet


class Named(Struct, frozen=True, gc=False):
    """What a name says. `image` is whether it looks like an image; None facts are not told."""

    role: Role
    image: bool
    version: str | None = None
    variant: str | None = None


IMAGE_ROLES: frozenset[Role] = frozenset({"system-image", "package", "component-image"})
_UNKNOWN = Named("unknown", False)
_ARCHIVES = (
    ".zip", ".7z", ".rar", ".tar", ".tgz", ".tbz2", ".txz", ".tar.gz", ".tar.bz2", ".tar.xz",
    ".tar.zst", ".cpio",
)  # fmt: skip
_MOST = 10_000
# Which role a group of the patterns stands for; there are fewer roles than this.
_AT: dict[str | None, int] = {None: 0, **{f"_{at}": at for at in range(32)}}


def is_archive(path: str) -> bool:
    """Whether a file is an archive by its name, which no loader starts.

    >>> is_archive("sw-2.0.TAR.gz"), is_archive("sw-2.0.img")
    (True, False)
    """
    return path.casefold().endswith(_ARCHIVES)


class _Patterns:
    """The patterns of a sheet for case-blind volumes, or for the others."""

    def __init__(self, sheet: Sheet, blind: bool, names: list[str], paths: list[str]) -> None:
        self._sheet, self._blind, self._names, self._paths = sheet, blind, names, paths
        self.by_name = _first_of(sheet.roles, blind, "")
        self.by_path = _first_of(sheet.roles, blind, "/")
        self.images = [compiled(name, blind=blind) for name in sheet.images.names]
        self.known: dict[str, Named] = {}

    # These are asked only for sheets whose patterns tell no beginning.
    @cached_property
    def looks(self) -> Callable[[Sequence[str]], Set[str]]:
        """The names of images among many names, in one pass."""
        return lines_that_fit(self._sheet.images.names, blind=self._blind)

    @cached_property
    def globs(self) -> Callable[[str], re.Match[str] | None]:
        """A match of a name with the globs for images."""
        return _any_of(self._names, self._blind).match

    @cached_property
    def paths(self) -> Callable[[str], re.Match[str] | None]:
        """A match of a path with the globs for images that have a slash."""
        return _any_of(self._paths, self._blind).match


class Naming:
    """The names of one kind of device. Answers are remembered by path, up to a bound."""

    def __init__(self, sheet: Sheet) -> None:
        self._sheet = sheet
        self._roles: list[Role] = list(sheet.roles)
        self._plain = [Named(role, False) for role in self._roles]
        self._is_plain = [role not in IMAGE_ROLES and role != "set-file" for role in self._roles]
        globs = [glob for role in IMAGE_ROLES for glob in sheet.roles.get(role, ())]
        self._names = [translate(glob) for glob in globs if "/" not in glob]
        self._paths = [translate(glob) for glob in globs if "/" in glob]
        # Few files begin like an image: the others are passed over without asking a pattern.
        self._begin = beginnings(sheet.images.names)
        self._names_begin = beginnings([*sheet.images.names, *self._names])
        self._paths_begin = beginnings(self._paths)
        self._made: dict[bool, _Patterns] = {}

    def _of(self, blind: bool) -> _Patterns:
        """The patterns, made when the first volume of their kind is met."""
        patterns = self._made.get(blind)
        if patterns is None:
            patterns = self._made[blind] = _Patterns(self._sheet, blind, self._names, self._paths)
        return patterns

    def may_be_images(self, names: Iterable[str], paths: Iterable[str], blind: bool) -> list[bool]:
        """A quick first look at many files, by their own names and by their paths.

        It passes whatever `of` calls an image, and little else: what begins like one, or, where
        the patterns tell no beginning, what fits them.
        """
        names, paths = list(names), list(paths)
        if self._names_begin is not None:
            may_be = _begin_so(self._names_begin, names, blind)
        else:
            looked = self._of(blind).looks(names)
            may_be = [name in looked for name in names] if looked else [False] * len(names)
            fits = self._of(blind).globs
            may_be = [
                may or fits(name) is not None for may, name in zip(may_be, names, strict=True)
            ]
        if self._paths_begin is not None:
            begin = _begin_so(self._paths_begin, paths, blind)
            may_be = [may or begins for may, begins in zip(may_be, begin, strict=True)]
        elif self._paths:
            fits = self._of(blind).paths
            may_be = [
                may or fits(path) is not None for may, path in zip(may_be, paths, strict=True)
            ]
        return may_be

    def of(self, path: str, *, case_blind: bool) -> Named:
        """Tell what the name of a file says."""
        known = self._of(case_blind).known
        named = known.get(path)
        if named is None:
            if len(known) >= _MOST:
                known.clear()
            named = self._read(path, case_blind)
            if named.image:  # what is no image is told as fast as it is looked up
                known[path] = named
        return named

    def role(self, path: str, *, case_blind: bool) -> Role:
        """The role alone, as `of` tells it. This is asked for every file of a fleet."""
        at = self._at(path, case_blind)
        if at is not None and self._is_plain[at]:
            return self._roles[at]
        return self.of(path, case_blind=case_blind).role

    def _at(self, path: str, blind: bool) -> int | None:
        """Which role's globs fit first; None: none do."""
        folder, _, name = path.rpartition("/")
        fitting = self._of(blind).by_name(name)
        at = None if fitting is None else _AT[fitting.lastgroup]
        if folder:
            fitting = self._of(blind).by_path(path)
            if fitting is not None:
                other = _AT[fitting.lastgroup]
                at = other if at is None else min(at, other)
        return at

    def _read(self, path: str, blind: bool) -> Named:
        name, at = path.rpartition("/")[2], self._at(path, blind)
        role = None if at is None else self._roles[at]
        if at is not None and self._is_plain[at]:
            return self._plain[at]
        may_be = self._begin is None or name.casefold().startswith(self._begin)
        for pattern in self._of(blind).images if may_be else ():
            if match := pattern.fullmatch(name):
                told = match.groupdict()
                return Named(role or "system-image", True, told.get("version"), told.get("variant"))
        return Named(role, role in IMAGE_ROLES) if role else _UNKNOWN


def _begin_so(begin: tuple[str, ...], texts: list[str], folded: bool) -> list[bool]:
    """Which texts begin with one of some beginnings; `folded` is whether the texts are."""
    if folded:
        return [text.startswith(begin) for text in texts]
    return [text.casefold().startswith(begin) for text in texts]


@lru_cache(maxsize=1024)
def glob_pattern(globs: tuple[str, ...], case_blind: bool = False) -> re.Pattern[str]:
    """Compile globs into one pattern; no glob fits nothing.

    >>> bool(glob_pattern(("*.log",)).match("old/boot.log"))
    True
    """
    return _any_of(
        [("" if "/" in glob else r"(?s:.*/)?") + translate(glob) for glob in globs], case_blind
    )


def _first_of(
    roles: Mapping[Role, tuple[str, ...]], blind: bool, sort: str
) -> Callable[[str], re.Match[str] | None]:
    """A match whose last group, `_0`, `_1` and so on, tells the first role that fits.

    Of the globs with a slash where `sort` is one, to be held against paths; else of the others, to
    be held against a file's own name.
    """
    patterns = [
        f"(?P<_{at}>{_any_of([translate(g) for g in globs if ('/' in g) == bool(sort)]).pattern})"
        for at, globs in enumerate(roles.values())
    ]
    return _any_of(patterns, blind).match


def _any_of(patterns: list[str], case_blind: bool = False) -> re.Pattern[str]:
    """One pattern for several; none fits nothing."""
    return re.compile("|".join(patterns) or r"(?!)", re.IGNORECASE if case_blind else re.NOFLAG)
