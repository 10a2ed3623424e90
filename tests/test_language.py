"""One word for one thing: in what a person reads, in names of types and modules, in variables.

The words that are out are those of `docs/words.md` and the table in CHANGELOG.md. Counts of names
that name nothing are exact: who lowers one writes the lower number here.
"""

import ast
import re
from collections import Counter, defaultdict
from collections.abc import Iterator
from functools import cache
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src/ovek"
OUT = (
    "Tonight", "not known", "next start", "starts next", "what runs", "what starts", "is told",
    "are told", "let be", "own line", "for want of", "as told", "held against", "hold against",
    "most telling", "alike", "anew", "way back", "power cut", "[Mm]end", "holds no", "hold no",
    "unmeasured", "cut-short", "stand-ins?", "somebody", "of no use", "vouch\\w*", "rotted",
    "ways? in", "newest line", "no room", "make room", "reload verdict", "so that",
    r"(?<!there )is no (?!longer)(?=[a-z]+[.,;]|[a-z]+$)",
)  # fmt: skip
WORDS = re.compile(rf"(?<![\w-])(?:{'|'.join(OUT)})(?![\w-])")
# Pages that tell of older words, and those of the engine's inner meaning, which are revised last.
OLD_PAGES = {"meaning.md", "security.md", "working.md", "scale.md", "sheets.md",
             "survey.md", "files.md", "catalog.md", "history.md", "results.md", "formats.md",
             "fields.md", "result-keys.md"}  # fmt: skip

# What devices of the invented vendors say, and the names that a file of before may have.
OTHERS = ("standin/", "model/renamed.py")

# Variables bound outside comprehensions whose name says nothing. They may only fall.
NAMELESS = {
    "one": 136, "each": 44, "told": 180, "found": 261, "made": 49, "said": 16, "saw": 0, "met": 35,
    "at": 110,
}  # fmt: skip


@cache
def parsed(file: Path) -> ast.Module:
    return ast.parse(file.read_text())


def modules() -> Iterator[tuple[str, ast.Module]]:
    for file in sorted(SOURCE.rglob("*.py")):
        yield file.relative_to(SOURCE).as_posix(), parsed(file)


def strings(tree: ast.Module) -> Iterator[ast.Constant]:
    """The texts of a module that are no docstrings."""
    docs = {
        id(node.value)
        for node in ast.walk(tree)
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant)
    }
    for node in ast.walk(tree):
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in docs:
            yield node


def test_no_text_of_the_program_has_a_word_that_is_out():
    found = [
        (name, text.lineno, match[0])
        for name, tree in modules()
        if not name.startswith(OTHERS)
        for text in strings(tree)
        for match in WORDS.finditer(str(text.value))
    ]
    assert found == []


def test_no_help_of_a_command_has_a_word_that_is_out():
    outline = (SOURCE / "cli/outline.json").read_text()
    assert [match[0] for match in WORDS.finditer(outline)] == []


def test_a_word_that_is_out_would_be_found():
    assert WORDS.search("petrel: next start not known") and WORDS.search("Mend that line")
    assert not WORDS.search("depends on the recommended release; there is no fallback")


@pytest.mark.parametrize(
    "page", sorted({file.name for file in (ROOT / "docs").glob("*.md")} - OLD_PAGES)
)
def test_no_page_has_a_word_that_is_out(page):
    prose = re.sub(r"```.*?```", "", (ROOT / "docs" / page).read_text(), flags=re.S)
    assert [match[0] for match in WORDS.finditer(prose)] == []


def test_the_readme_is_short_and_has_no_word_that_is_out():
    text = (ROOT / "README.md").read_text()
    assert len(text.splitlines()) <= 120
    assert [match[0] for match in WORDS.finditer(text)] == []


def test_a_type_name_means_one_thing():
    places = defaultdict(set)
    for name, tree in modules():
        for node in tree.body:
            if isinstance(node, ast.ClassDef):
                places[node.name].add(name)
    assert {name: sorted(where) for name, where in places.items() if len(where) > 1} == {}


def test_no_module_has_a_name_that_says_nothing():
    out = {"again", "draft", "heard", "interview", "kept", "regular", "telling", "told", "tried",
           "typed", "whole", "utils", "common", "misc", "helpers"}  # fmt: skip
    names = {Path(name).stem for name, _ in modules()}
    assert names & out == set()


def targets(node: ast.AST) -> Iterator[str]:
    """The names that a statement binds; those of a comprehension are none of its own."""
    bound: list[ast.expr] = []
    if isinstance(node, ast.Assign):
        bound = node.targets
    elif isinstance(node, ast.AnnAssign | ast.NamedExpr | ast.For | ast.AsyncFor):
        bound = [node.target]
    elif isinstance(node, ast.With | ast.AsyncWith):
        bound = [item.optional_vars for item in node.items if item.optional_vars is not None]
    for target in bound:
        for part in ast.walk(target):
            if isinstance(part, ast.Name):
                yield part.id


def test_variables_whose_name_says_nothing_only_become_fewer():
    counted = Counter(
        name
        for _, tree in modules()
        for node in ast.walk(tree)
        for name in targets(node)
        if name in NAMELESS
    )
    assert {name: counted[name] for name in NAMELESS} == NAMELESS
