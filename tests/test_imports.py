"""Imports run one way, as the design's table of packages says."""

import ast
import subprocess
import sys
from functools import cache
from pathlib import Path

import pytest

import ovek
from ovek.cli import COMMANDS

ROOT = Path(ovek.__file__).parent
EVERYTHING = {
    "model",
    "engine",
    "files",
    "sources",
    "learn",
    "app",
    "render",
    "standin",
    "demo",
    "cli",
}
MAY_IMPORT = {
    "model": set(),
    "engine": {"model"},
    "files": {"model"},
    "sources": {"model", "files"},
    "learn": {"model", "files", "sources"},
    "app": {"model", "engine", "files", "sources", "learn"},
    "render": {"model"},
    "standin": {"model", "files"},
    "cli": {"app", "render", "model", "standin", "demo"},
    "demo": {"app"},
}
OUTSIDE_THE_ENGINE = {"click", "rich", "os", "io", "pathlib", "time", "subprocess", "socket"}


@cache
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


def test_no_import_runs_in_a_circle():
    graph = {}
    for file in ROOT.rglob("*.py"):
        name = ".".join(("ovek", *file.relative_to(ROOT).with_suffix("").parts))
        name = name.removesuffix(".__init__")
        names = imported(file)
        graph[name] = {*names, *(each.rpartition(".")[0] for each in names)} - {name}
    # That a package is loaded before what is in it, is no import of its own.
    graph = {name: _inner(seen & graph.keys()) for name, seen in graph.items()}
    while True:
        ends = {name for name, seen in graph.items() if not seen}
        if not ends:
            break
        graph = {name: seen - ends for name, seen in graph.items() if name not in ends}
    assert graph == {}


def _inner(names: set[str]) -> set[str]:
    return {one for one in names if not any(each.startswith(f"{one}.") for each in names)}


def test_every_package_is_in_the_table():
    packages = {file.parent.name for file in ROOT.glob("*/__init__.py")}
    assert packages <= set(MAY_IMPORT)


def test_the_engine_has_no_io_no_clock_and_no_interface():
    for file in modules("engine"):
        roots = {name.split(".")[0] for name in imported(file)}
        assert not roots & OUTSIDE_THE_ENGINE, file
        assert "now(" not in file.read_text(), file
        assert "open(" not in file.read_text(), file


# The floors of the engine: each room imports only what stands before it here.
FLOORS = [
    # what is
    "times", "advisories", "releases", "verdicts", "components", "runs", "layouts", "bootwalk",
    # what would be
    "changes", "replay", "room", "fit", "route",
    # what to do
    "roles", "fallback", "hold", "tier", "choose", "units", "wanted", "nearest", "rules",
    "run_rules", "change_text", "plan", "waivers", "runbook", "cleanup",
]  # fmt: skip
# The rooms whose functions stay shorter than all others.
SHORT = {"runs", "layouts", "bootwalk", "changes", "replay", "room", "fit", "route", "roles",
         "fallback", "hold", "tier", "units", "plan", "runbook", "cleanup"}  # fmt: skip


def rooms() -> list[tuple[str, Path]]:
    """Each module of the engine with the room that it belongs to."""
    root = ROOT / "engine"
    return [
        (file.relative_to(root).parts[0].removesuffix(".py"), file) for file in modules("engine")
    ]


@pytest.mark.parametrize("room", FLOORS)
def test_a_room_of_the_engine_imports_only_what_stands_above_it(room):
    above = {*FLOORS[: FLOORS.index(room)], room}
    for name, file in rooms():
        if name == room:
            ours = {
                each.split(".")[2] for each in imported(file) if each.startswith("ovek.engine.")
            }
            assert ours <= above, file


def test_layouts_are_asked_for_by_name_only():
    """But for a pair's two names, no room looks into one layout."""
    allowed = {"TRIAL", "COMMITTED"}
    for name, file in rooms():
        if name != "layouts":
            for each in imported(file):
                if each.startswith("ovek.engine.layouts.") and each.split(".")[3] in {
                    "files", "banks", "paired",
                }:  # fmt: skip
                    assert each.split(".")[4] in allowed, file


def test_a_place_is_parsed_where_it_is_decoded():
    """In the engine a place is one; only what a person typed is read there."""
    for _, file in rooms():
        parses = "parse_place" in {each.rpartition(".")[2] for each in imported(file)}
        assert parses == (file.name == "whatif.py"), file


def functions(file):
    """Each function of a module: its name, its lines behind its docstring, its arguments."""
    for node in ast.walk(ast.parse(file.read_text())):
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
            first, *rest = node.body
            told = isinstance(first, ast.Expr) and isinstance(first.value, ast.Constant) and rest
            begins = (rest[0] if told else first).lineno
            taken = [one.arg for one in node.args.args if one.arg not in ("self", "cls")]
            yield node.name, node.end_lineno - begins + 1, taken, node.args.kwonlyargs


def test_functions_in_the_rooms_stay_short_and_take_few_arguments():
    for name, file in rooms():
        if name in SHORT:
            for function, lines, taken, by_name in functions(file):
                assert len(taken) + len(by_name) <= 6, (file, function)
                assert lines < 48, (file, function)


def test_functions_everywhere_stay_short_and_take_few_arguments():
    """A command has an argument for each of its options; what it does is short all the more."""
    for file in ROOT.rglob("*.py"):
        for function, lines, taken, _ in functions(file):
            command = file.parent.name == "cli" and function.endswith("command")
            assert len(taken) <= 8 or command, (file, function)
            assert lines < (28 if command else 56), (file, function)


def test_the_command_line_stays_thin():
    sizes = {file.name: len(file.read_text().splitlines()) for file in modules("cli")}
    assert sum(sizes.values()) < 3_500
    for name in sizes.keys() & {f"{name}.py" for name in COMMANDS}:
        assert sizes[name] <= 120, name


@pytest.mark.parametrize("name", ["audit", "bootwalk", "cleanup", "runbook", "where", "compare"])
def test_a_command_loads_no_database_and_no_figures(name):
    code = f"import sys, ovek.cli.{name}; print(*sys.modules)"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert not {"sqlalchemy", "matplotlib", "distributed", "asyncssh"} & set(done.stdout.split())


# What takes as long to load as the commands that do not need it take to run.
HEAVY = {
    "tomlkit", "importlib.metadata", "multiprocessing", "concurrent.futures.process", "sqlalchemy",
    "asyncssh", "asyncio", "matplotlib", "rich", "re2", "msgspec", "sqlite3", "yaml", "lxml",
}  # fmt: skip
LOADS = {
    ("--version",): set(),
    ("completion", "bash"): set(),
    ("audit",): {"msgspec", "re2", "rich", "sqlite3"},
    ("audit", "--format", "json"): {"msgspec", "re2", "sqlite3"},
}


@pytest.mark.parametrize("typed", LOADS, ids=" ".join)
def test_a_start_loads_what_it_needs(typed, tmp_path):
    """No clock is asked: what is loaded tells how long a start takes."""
    from ovek.demo import write_site

    write_site(tmp_path / "site")
    told = "import sys; print(*sorted(set(sys.modules)), file=sys.stderr)"
    program = (
        f"import atexit; atexit.register(lambda: exec({told!r})); import sys;"
        f"sys.argv = ['ovek', *{list(typed)!r}]; from ovek.cli import main; main()"
    )
    for _ in range(2):  # the first looks for packages, which the second remembers
        done = subprocess.run(
            [sys.executable, "-c", program], cwd=tmp_path / "site", capture_output=True, text=True,
            check=False, env={"PATH": "", "XDG_CACHE_HOME": str(tmp_path / "cache")},
        )  # fmt: skip
    loaded = HEAVY & set(done.stderr.splitlines()[-1].split())
    assert loaded <= LOADS[typed]
