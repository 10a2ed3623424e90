"""Patterns of sheets: many texts in one pass mean what each text by itself means."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ovek.model.pattern import any_fits, compiled, lines_that_fit

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


@pytest.mark.parametrize("pattern", PATTERNS)
def test_each_pattern_by_itself_in_one_pass(pattern):
    texts = ["a", "b", "ab", "a\nb", "ox-1.img", "x", "é", "", "cd", "CD", "\n", "b.img"]
    alone = {text for text in texts if compiled(pattern).fullmatch(text)}
    assert lines_that_fit([pattern])(texts) == alone
