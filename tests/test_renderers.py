"""One table says which renderer shows which result in which form; nothing else chooses."""

import ast
import inspect
import typing
from importlib import import_module
from pathlib import Path

import pytest

import ovek
from ovek.model import learned, trial
from ovek.model.result import Result
from ovek.render.renderers import IN_TERMINAL, RENDERERS, SHAPES

ROOT = Path(ovek.__file__).parent
for file in sorted((ROOT / "model/results").glob("[a-z]*.py")):
    import_module(f"ovek.model.results.{file.stem}")


def below(kind):
    """The classes that are made of one, and have a format of their own."""
    for one in kind.__subclasses__():
        yield from below(one)
        if hasattr(one, "FORMAT"):
            yield one


RESULTS = {one.__name__: one for one in below(Result)}
NAMED = [(name, form, path) for name, forms in RENDERERS.items() for form, path in forms.items()]


def renderer(path):
    module, _, name = path.rpartition(".")
    return getattr(import_module(f"ovek.render.{module}"), name)


def test_every_result_has_a_table_json_and_json_lines():
    assert {learned.Learned, trial.SheetTrial} <= set(RESULTS.values())
    for name in RESULTS:
        assert {"table", "json", "jsonl"} <= set(RENDERERS[name]), name


@pytest.mark.parametrize(("name", "form", "path"), NAMED)
def test_a_renderer_takes_the_result_that_it_stands_for(name, form, path):
    function = renderer(path)
    first, *_ = inspect.signature(function).parameters
    kind = typing.get_type_hints(function, {"Any": object})[first]
    kinds = {one.__name__ for one in typing.get_args(kind) or (kind,)}
    bases = {one.__name__ for one in RESULTS[name].__mro__} if name in RESULTS else {name}
    assert kinds & bases, (path, kinds)
    made = typing.get_type_hints(function, {"Any": object})["return"]
    assert (typing.get_args(made) == (bytes,)) == (form not in IN_TERMINAL), path


def test_what_is_kept_beside_a_result_and_its_list_are_fields_of_it():
    for one in RESULTS.values():
        fields = {*one.__struct_fields__, *one.__annotations__}
        inside = typing.get_type_hints(one)[one.INLINE] if one.INLINE is not None else None
        fields |= set(inside.__struct_fields__) if inside is not None else set()
        assert one.LIST in fields, one
        assert set(one.BESIDE) <= fields, one


def test_nothing_else_chooses_by_form():
    """No command calls a renderer itself: what is shown in a form goes through the table."""
    modules = {path.partition(".")[0] for forms in RENDERERS.values() for path in forms.values()}
    helpers = {"lines", "visible", "view", "renderers", "survey", "report", "extra"}
    for file in (ROOT / "cli").glob("*.py"):
        for node in ast.walk(ast.parse(file.read_text())):
            if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("ovek.render."):
                name = node.module.split(".")[2]
                assert name not in modules - helpers, file
    asked = [
        file.name
        for file in ROOT.rglob("*.py")
        if 'import_module(f"ovek.render' in file.read_text()
    ]
    assert asked == ["renderers.py"]


def test_what_shapes_a_row_is_there():
    for path in SHAPES.values():
        assert renderer(path)().widths is not None and renderer(path)().row
