"""Patterns of sheets: many texts in one pass mean what each text by itself means."""

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ovek.files.marks import MarkError, is_marked, unmarked, without_marks
from ovek.model.pattern import any_fits, beginnings, compiled, lines_that_fit

PATTERNS = [
    "a(?P<version>[0-9.]*)x?",
    "(?P<family>[A-Za-z]+)-(?P<version>[0-9][0-9a-z.]*)\\.(?:img|oxp)",
    "[^/]+\\.img",
    ".*a",
    "(?s).*x",
    "(?i)ab|cd",
    "a$",
    "^b",
    "a\\z",
    "\\bab\\b",
    "a|b\\.img",
    "é+",
    "",
    "(?P<x>a)|(?P<y>b)",
]
names = st.text(alphabet="abAxé1.-/\n img", max_size=8) | st.sampled_from(
    ["ox-1.img", "a.img", "ab", "cd", "b.img", "\n", "a\nb.img", "x\ny.img"]
)

SOURCE = Path(__file__).parent.parent / "src/ovek"


@given(
    st.lists(st.sampled_from(PATTERNS), max_size=4),
    st.lists(names, max_size=12),
    st.booleans(),
)
def test_many_texts_in_one_pass_are_as_each_by_itself(patterns, texts, blind):
    alone = {
        text for text in texts if any(compiled(p, blind=blind).fullmatch(text) for p in patterns)
    }
    assert lines_that_fit(patterns, blind=blind)(texts) == alone
    fits = any_fits(patterns, blind=blind)
    assert {text for text in texts if fits(text)} == alone


MORE = [
    "ox4[01]-.*", "(?:a|b)x", "(?:ab|a)?b", "K\\x{212a}?a", "(?i:a)b", "a{2}b", "(?U)a+b",
    "\\Qa.b\\E",
    "\\x41b", "[^a]b", "(?s:a.)b", "\\pLab", "a(?:b|)", "\\141b", "(a)(b)|c", "(?-s)a.b", "ßa",
]  # fmt: skip


@given(
    st.lists(st.sampled_from([*PATTERNS, *MORE]), max_size=4),
    st.lists(
        names
        | st.text("abABxXKk\u212asſßẞ.é1-", max_size=6)
        | st.sampled_from(["ox40-1", "OX41-b", "aab", "a.b", "A.b", "\u212aa", "ab", "SSa"]),
        max_size=12,
    ),
    st.booleans(),
)
def test_whatever_a_pattern_fits_begins_as_it_is_told_to(patterns, texts, blind):
    begin = beginnings(patterns)
    for text in texts:
        if begin is not None and any(compiled(p, blind=blind).fullmatch(text) for p in patterns):
            assert text.casefold().startswith(begin), (text, begin)


def test_what_no_beginning_tells_is_asked_of_the_pattern():
    assert beginnings([]) is None and beginnings([".*"]) is None and beginnings(["a", "b?"]) is None
    assert beginnings(["[a-z]x"]) is None and beginnings(["\\z"]) is None
    assert beginnings(["(?P<f>ox40|web)-[0-9]+"]) == ("ox40-", "web-")


@pytest.mark.parametrize("pattern", PATTERNS)
def test_each_pattern_by_itself_in_one_pass(pattern):
    texts = ["a", "b", "ab", "a\nb", "ox-1.img", "x", "é", "", "cd", "CD", "\n", "b.img"]
    alone = {text for text in texts if compiled(pattern).fullmatch(text)}
    assert lines_that_fit([pattern])(texts) == alone


# Every module that uses Python's own `re`, and why no text can hold it up. A sheet's patterns, and
# all that look for something in long texts of others, are RE2's (`model.pattern`).
SHORT = "texts of a line or less that their type, or a limit before, keeps short"
CLASSES = "each part ends where a character comes that it cannot hold, so nothing is tried twice"
OURS = "texts of this program, or of a person at the keyboard"
LEARNED = "a session that a person learns from: lines of 4,096 characters at most"
WHY = {
    "app/completion.py": CLASSES, "cli/completing.py": OURS, "cli/options.py": OURS,
    "files/fingerprint.py": CLASSES, "engine/advisories.py": CLASSES, "files/defaults.py": CLASSES,
    "files/result_schema.py": OURS,
    "cli/show.py": OURS, "engine/catalog.py": OURS, "engine/nearest.py": SHORT,
    "engine/shelf.py": SHORT, "engine/where.py": OURS, "files/backups.py": SHORT,
    "files/bootenv.py": CLASSES, "files/importers/digestlist.py": CLASSES,
    "files/importers/metalink.py": CLASSES, "files/importers/pasted.py": CLASSES,
    "files/importers/sidefile.py": CLASSES, "files/importers/table.py": CLASSES,
    "files/osrelease.py": CLASSES, "files/reports.py": CLASSES, "files/sheets.py": CLASSES,
    "files/structure.py": CLASSES, "files/toml_lines.py": SHORT, "files/decode.py": OURS,
    "files/whereabouts.py": CLASSES, "model/age.py": SHORT, "model/naming.py": CLASSES,
    "model/pattern.py": OURS, "model/place.py": CLASSES, "model/policy.py": SHORT,
    "model/rate.py": SHORT, "model/sheet.py": OURS, "model/size.py": SHORT,
    "model/plain_word.py": CLASSES, "model/version.py": CLASSES, "render/markdown.py": CLASSES,
    "render/runbook.py": CLASSES, "sources/capture.py": CLASSES, "sources/clean.py": CLASSES,
    "sources/snapshot_builder.py": CLASSES, "sources/device_session.py": CLASSES,
    "app/learning.py": LEARNED, "learn/answers.py": LEARNED, "learn/dialogue.py": LEARNED,
    "learn/guesses.py": LEARNED, "learn/lesson.py": LEARNED,
    "files/marks.py": CLASSES, "learn/shapes.py": LEARNED,
    "learn/values.py": LEARNED, "learn/sheet_text.py": OURS,
    "sources/menus.py": CLASSES, "sources/rows.py": CLASSES, "sources/sftp.py": CLASSES,
    "sources/stores/http.py": CLASSES, "sources/values.py": CLASSES, "standin/loader.py": OURS,
}  # fmt: skip


def test_whoever_uses_python_s_own_patterns_has_said_why_nothing_holds_them_up():
    uses = {
        str(file.relative_to(SOURCE))
        for file in SOURCE.rglob("*.py")
        if any(line.strip() == "import re" for line in file.read_text().splitlines())
    }
    assert uses == set(WHY)


@pytest.mark.parametrize(
    "text",
    ["<<a=" * 50_000, "<<a=" * 50_000 + ">>", "<<a(b" * 50_000, "<" * 200_000, ">>" * 90_000],
)
def test_what_only_looks_like_marks_is_looked_at_once(text):
    assert without_marks(text) == text and not is_marked(text)


def test_a_session_that_nobody_learns_from_is_refused_at_its_line():
    with pytest.raises(MarkError, match=r"line 3: the line has more than 4096 characters"):
        unmarked("a\nb\n" + "x" * 5_000)
    with pytest.raises(MarkError, match=r"line 10001: the session has more than 10000 lines"):
        unmarked("\n" * 10_001)
    with pytest.raises(MarkError, match=r"line 1001: the session has more than 1000 marks"):
        unmarked("<<free=1>>\n" * 1_001)
    assert len(unmarked("<<free=1>>\n" * 1_000)[1]) == 1_000
