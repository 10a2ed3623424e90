"""The JSON Schemas (draft 2020-12) of results, `ovek.audit/1` and so on, made from their types.

Keys may be added to a result while its number stays: a schema allows more than it names.
"""

import json
import pkgutil
import re
from collections.abc import Iterator
from importlib import import_module
from typing import Any, Literal, get_args, get_origin, get_type_hints

import msgspec

from ovek.files.schema import plain_schema
from ovek.model import results
from ovek.model.learned import Learned
from ovek.model.place import Place
from ovek.model.result import Many, Result
from ovek.model.trial import SheetTrial

_DRAFT = "https://json-schema.org/draft/2020-12/schema"


def result_types() -> dict[str, list[type[Result]]]:
    """The types of results by their formats; several results may have one."""
    for module in pkgutil.iter_modules(results.__path__, f"{results.__name__}."):
        import_module(module.name)
    by_format: dict[str, list[type[Result]]] = {}
    kinds: set[type[Result]] = {*_below(Result), Learned, SheetTrial}
    for kind in sorted(kinds, key=lambda kind: kind.__name__):
        if hasattr(kind, "FORMAT"):
            by_format.setdefault(kind.FORMAT, []).append(kind)
    return dict(sorted(by_format.items()))


def _below(kind: type[Result]) -> Iterator[type[Result]]:
    for sub in kind.__subclasses__():
        yield sub
        yield from _below(sub)


def schema_name(form: str) -> str:
    """The file that the schema of a format lies in.

    >>> schema_name("ovek.audit/1")
    'ovek.audit-1.json'
    """
    return f"{form.replace('/', '-')}.json"


def result_schema_text(form: str) -> str:
    """The schema of a format, as its file holds it."""
    kinds = [_as_json(kind) for kind in result_types()[form]]
    shapes, parts = msgspec.json.schema_components(kinds, ref_template="#/$defs/{name}")
    if Place.__name__ in parts:  # which JSON has as its text
        parts[Place.__name__] = {"type": "string"}
    schema = {
        "$schema": _DRAFT,
        "title": form,
        **(shapes[0] if len(shapes) == 1 else {"anyOf": list(shapes)}),
        "$defs": parts,
    }
    return json.dumps(plain_schema(schema), indent=1, sort_keys=True) + "\n"


def _as_json(kind: type[Result]) -> Any:
    """The type of the object that a result is as JSON: see `ovek.render.json`."""
    fields: list[tuple[str, Any, Any]] = [("format", Literal[kind.FORMAT], msgspec.NODEFAULT)]
    beside = set(kind.BESIDE)
    for part in _parts(kind):
        for field, hint in part.items():
            if field not in beside:
                fields.append((field, _shown(hint), _default(kind, field)))
    shape = msgspec.defstruct(kind.__name__, fields, kw_only=True)
    shape.__doc__ = _BESIDE.split(kind.__doc__ or "")[0].rstrip()
    return shape


def _parts(kind: type[Result]) -> Iterator[dict[str, Any]]:
    """The fields of a result, and of what stands in the object itself."""
    hints = get_type_hints(kind, include_extras=True)
    own = {name: hints[name] for name in kind.__struct_fields__ if name != kind.INLINE}
    yield own
    if kind.INLINE is not None:
        inside = hints[kind.INLINE]
        inner = get_type_hints(inside, include_extras=True)
        yield {name: inner[name] for name in inside.__struct_fields__}


def _default(kind: type[Result], field: str) -> Any:
    """Whether a key may be missing: those that are written only on demand."""
    return None if (kind.__name__, field) in _ON_DEMAND else msgspec.NODEFAULT


_BESIDE = re.compile(r"Beside what JSON tells|`shaped` is")  # what is said of other fields
_ON_DEMAND = {("FleetWalks", "as_it_is"), ("FleetWalks", "supposed")}


def _shown(hint: Any) -> Any:
    """A type as JSON has it: what may be too many for memory is a list."""
    if get_origin(hint) is Many:
        return list[_shown(get_args(hint)[0])]  # type: ignore[misc]
    return hint
