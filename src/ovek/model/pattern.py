r"""A sheet's regular expressions, in RE2's syntax: matched in linear time, whatever the text.

Python's own engine tries every way to fit, and a name that was made for it can hold it for hours.
RE2 has no look-around and no back-references, `\d`, `\w` and `\s` are ASCII, and the end of the
text is `\z`; flags such as `(?i)` may stand anywhere.

>>> compiled("(?P<family>ox)-(?P<version>[0-9.]+)").fullmatch("ox-7.4")["version"]
'7.4'
>>> compiled("(?=a)b")
Traceback (most recent call last):
ovek.model.pattern.PatternError: invalid perl operator: (?=
"""

import re
import warnings
from collections.abc import Callable, Iterable, Iterator, Sequence, Set
from functools import lru_cache
from typing import Any, Protocol, cast

import re2  # type: ignore[import-untyped]

try:
    from re import _parser as parser  # type: ignore[attr-defined]
except ImportError:  # it is not public: without it no beginning is known, and RE2 is asked
    parser = None


class PatternError(ValueError):
    """A text that is no pattern."""


# ruff: noqa: D102 - what each does is told by the standard library's `re`
class Match(Protocol):
    """What a pattern found."""

    def __getitem__(self, group: str | int) -> Any: ...
    def groupdict(self) -> dict[str, str | None]: ...
    def start(self) -> int: ...
    def end(self) -> int: ...
    def span(self, group: int = 0) -> tuple[int, int]: ...


class Pattern(Protocol):
    """A compiled pattern."""

    def __hash__(self) -> int: ...
    @property
    def pattern(self) -> str: ...
    @property
    def groupindex(self) -> dict[str, int]: ...
    def match(self, text: str) -> Match | None: ...
    def fullmatch(self, text: str) -> Match | None: ...
    def search(self, text: str) -> Match | None: ...
    def finditer(self, text: str) -> Iterator[Match]: ...
    def sub(self, new: str, text: str) -> str: ...


@lru_cache(maxsize=1024)
def compiled(text: str, *, blind: bool = False) -> Pattern:
    """A pattern, ready to match; `blind` is for case. Raises PatternError."""
    try:
        return cast("Pattern", re2.compile(text, _options(blind)))
    except (re2.error, UnicodeEncodeError) as error:
        raise PatternError(_reason(error)) from None


def any_fits(texts: Iterable[str], *, blind: bool = False) -> Callable[[str], list[int]]:
    """What tells which of several patterns fit the whole of a text; nothing where none does.

    This is many times faster than to ask each. Raises PatternError.
    """
    patterns = list(texts)
    if not patterns:
        return lambda text: []
    # Why a set: RE2 walks a line once for all patterns, where a template with fifty rules would
    # walk it fifty times; a session has thousands of lines.
    found = re2.Set.FullMatchSet(_options(blind))
    try:
        for text in patterns:
            found.Add(text)
        found.Compile()
    except (re2.error, UnicodeEncodeError) as error:
        raise PatternError(_reason(error)) from None
    return cast("Callable[[str], list[int]]", found.Match)


def lines_that_fit(
    texts: Iterable[str], *, blind: bool = False
) -> Callable[[Sequence[str]], Set[str]]:
    """What tells which of many texts one of several patterns fits, as a whole, in one pass.

    To ask each of many short texts takes many times as long. Raises PatternError.

    >>> sorted(lines_that_fit(["a.*", "b"])(["ab", "b", "bb", "a"]))
    ['a', 'ab', 'b']
    """
    patterns = list(texts)
    if not patterns:
        return lambda texts: frozenset()
    each = any_fits(patterns, blind=blind)
    options = _options(blind)
    options.never_nl = options.never_capture = True  # a match stays within its line
    together = "|".join(f"(?:{text})" for text in patterns)
    # What a pattern says of the ends of the text, and flags that change them, mean each by itself.
    alone = _ENDS.search(together) is not None
    try:
        found = re2.compile(f"(?m)^(?:{together})$", options)
    except (re2.error, UnicodeEncodeError) as error:
        raise PatternError(_reason(error)) from None

    def fit(texts: Sequence[str]) -> Set[str]:
        joined = "\n".join(texts)
        if alone or joined.count("\n") != len(texts) - 1:
            return {text for text in texts if each(text)}
        return {match[0] for match in found.finditer(joined)}

    return fit


_MOST_BEGINNINGS = 32


def beginnings(texts: Iterable[str]) -> tuple[str, ...] | None:
    """What every text that one of several patterns fits begins with, one of these; None: anything.

    Case-folded, so that a text has to be, too. Asking a text whether it begins so takes a hundredth
    of asking RE2.

    >>> beginnings(["(?P<family>ox4[01]|web)-(?P<version>[0-9.]+)"])
    ('ox40-', 'ox41-', 'web-')
    >>> beginnings(["a.*", ".*b"]) is None
    True
    """
    begun_with = set[str]()
    if parser is None:
        return None
    for text in texts:
        try:
            with warnings.catch_warnings(action="error"):
                parsed = parser.parse(text)
            if parsed.state.flags & re.VERBOSE:
                return None
            begun_with |= _beginnings_of(list(parsed))[0]
        except (re.error, Warning, RecursionError, OverflowError):
            return None  # RE2 takes it, and means something else by it than Python does
    if not begun_with or "" in begun_with or len(begun_with) > _MOST_BEGINNINGS:
        return None
    return tuple(sorted(begun_with))


def _beginnings_of(parts: Sequence[tuple[Any, Any]]) -> tuple[set[str], bool]:
    """What texts begin with that some parts of a pattern fit, and whether that is all of them."""
    begun_with = {""}
    for what, value in parts:
        more, whole = {""}, False
        if what is parser.LITERAL:
            more, whole = {chr(value).casefold()}, True
        elif what is parser.IN and all(kind is parser.LITERAL for kind, _ in value):
            more, whole = {chr(each).casefold() for _, each in value}, True
        elif what is parser.SUBPATTERN:
            more, whole = _beginnings_of(list(value[3]))
        elif what is parser.BRANCH:
            branches = [_beginnings_of(list(branch)) for branch in value[1]]
            more = set().union(*(some for some, _ in branches))
            whole = all(is_whole for _, is_whole in branches)
        begun_with = {begun + some for begun in begun_with for some in more}
        if not whole or len(begun_with) > _MOST_BEGINNINGS:
            return begun_with, False
    return begun_with, True


_ENDS = re.compile(r"\\[AzZbBQC]|\$|(?<!\[)\^|\(\?[A-Za-z-]+[):]")


def _options(blind: bool) -> Any:
    options = re2.Options()
    options.log_errors = False
    options.case_sensitive = not blind
    return options


def _reason(error: Exception) -> str:
    told = error.args[0] if error.args else error
    return told.decode("utf-8", "replace") if isinstance(told, bytes) else str(told)
