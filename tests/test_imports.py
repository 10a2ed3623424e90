"""Imports run one way, as the design's table of packages says."""

import ast
from pathlib import Path

import pytest

import ovek

ROOT = Path(ovek.__file__).parent
EVERYTHING = {"model", "engine", "files", "sources", "render", "standin", "demo", "cli"}
MAY_IMPORT = {
    "model": set(),
    "engine": {"model"},
    "files": {"model"},
    "sources": {"model", "files"},
    "render": {"model"},
    "standin": {"model", "files"},
    "cli": EVERYTHING,
    "demo": EVERYTHING - {"cli"},
}
OUTSIDE_THE_ENGINE = {"click", "rich", "os", "io", "pathlib", "time", "subprocess", "socket"}


def imported(file: Path) -> set[str]:
    """The dotted names that a module imports anywhere in it."""
    names = set()
    for node in ast.walk(ast.parse(file.read_text())):
        if isinstance(node, ast.Import):
            names |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            assert node.level == 0, f"{file} imports relatively"
            names |= {f"{node.module}.{alias.name}" for alias in node.names}
    return names


def modules(package: str) -> list[Path]:
    return sorted((ROOT / package).rglob("*.py"))


@pytest.mark.parametrize("package", sorted(MAY_IMPORT))
def test_a_package_imports_only_what_the_design_lets_it(package):
    for file in modules(package):
        ours = {name.split(".")[1] for name in imported(file) if name.startswith("ovek.")}
        ours &= EVERYTHING
        assert ours <= MAY_IMPORT[package] | {package}, file


def test_every_package_is_in_the_table():
    packages = {file.parent.name for file in ROOT.glob("*/__init__.py")}
    assert packages <= set(MAY_IMPORT)


def test_the_engine_has_no_io_no_clock_and_no_interface():
    for file in modules("engine"):
        roots = {name.split(".")[0] for name in imported(file)}
        assert not roots & OUTSIDE_THE_ENGINE, file
        assert "now(" not in file.read_text(), file
        assert "open(" not in file.read_text(), file
